import { X } from "lucide-react";
import { Dialog as Radix } from "radix-ui";

/** A dialog over the page, for something that is begun and finished. */
export function Dialog({
  open,
  onClose,
  title,
  about,
  wide = false,
  children,
}: {
  open: boolean;
  onClose: () => void;
  title: string;
  about: string;
  wide?: boolean;
  children: React.ReactNode;
}) {
  const width = wide ? "w-[min(62rem,calc(100vw-1.5rem))]" : "w-[min(40rem,calc(100vw-1.5rem))]";
  return (
    <Radix.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Radix.Content
          className={`fixed top-[6dvh] left-1/2 z-50 max-h-[88dvh] ${width} -translate-x-1/2 overflow-y-auto rounded-md border border-strong bg-sheet p-5`}
        >
          <div className="mb-3 flex items-start justify-between gap-4">
            <div>
              <Radix.Title className="text-[length:var(--text-large)] font-semibold">{title}</Radix.Title>
              <Radix.Description className="text-soft">{about}</Radix.Description>
            </div>
            <Radix.Close className="rounded p-1 text-soft hover:text-ink" aria-label="Close">
              <X size={18} aria-hidden />
            </Radix.Close>
          </div>
          {children}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

/** The end of a dialog's form, in sight however long the dialog is. */
export function DialogFoot({ children }: { children: React.ReactNode }) {
  return <div className="sticky -bottom-5 -mx-5 -mb-5 border-t border-hair bg-sheet px-5 py-3">{children}</div>;
}

/** The drawer for the one thing that is open; the page behind stays in use. */
export function Drawer({ title, onClose, children }: { title: React.ReactNode; onClose: () => void; children: React.ReactNode }) {
  return (
    <Radix.Root open modal={false} onOpenChange={(o) => !o && onClose()}>
      <Radix.Portal>
        <Radix.Content
          aria-describedby={undefined}
          onInteractOutside={(e) => e.preventDefault()}
          className="fixed inset-y-0 right-0 z-30 flex w-[min(34rem,100vw)] flex-col border-l border-strong bg-sheet shadow-lg"
        >
          <div className="flex items-center justify-between gap-3 border-b border-hair px-4 py-2">
            <Radix.Title className="address min-w-0 truncate font-semibold">{title}</Radix.Title>
            <Radix.Close className="rounded p-1 text-soft hover:text-ink" aria-label="Close">
              <X size={18} aria-hidden />
            </Radix.Close>
          </div>
          <div className="min-h-0 flex-1 overflow-y-auto p-4">{children}</div>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

/** What is said when there is nothing, or when something failed. */
export function Notice({ mark, title, children }: { mark?: React.ReactNode; title: string; children?: React.ReactNode }) {
  return (
    <div className="mx-auto max-w-xl py-10">
      <p className="mb-2 flex items-center gap-2 font-semibold">
        {mark}
        {title}
      </p>
      <div className="space-y-3 text-soft">{children}</div>
    </div>
  );
}
