import { Check, Copy as CopyIcon } from "lucide-react";
import { useState } from "react";

/** A button that copies a text and says so. */
export function Copy({ text, what, children }: { text: string; what: string; children?: React.ReactNode }) {
  const [done, setDone] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    setDone(true);
    setTimeout(() => setDone(false), 1500);
  };
  return (
    <button
      type="button"
      className={children ? "button" : "rounded p-1 text-soft hover:text-sea"}
      onClick={copy}
      aria-label={children ? undefined : `Copy ${what}`}
      title={`Copy ${what}`}
    >
      {done ? <Check size={14} aria-hidden /> : <CopyIcon size={14} aria-hidden />}
      {children && (done ? "Copied" : children)}
      <span role="status" className="sr-only">
        {done ? `${what} copied` : ""}
      </span>
    </button>
  );
}

/** A command that can be copied. */
export function Command({ text }: { text: string }) {
  return (
    <div className="relative">
      <code className="command pr-9">{text}</code>
      <span className="absolute top-1 right-1">
        <Copy text={text} what="command" />
      </span>
    </div>
  );
}
