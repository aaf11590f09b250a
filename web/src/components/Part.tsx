import { Link } from "react-router";
import { useRights, useVerbs } from "../lib/rights";
import { Command } from "./Copy";
import { Mark } from "./Mark";
import { Notice } from "./Panel";

/** Where there is nothing to show: what is said when all may be seen, and else that this is all there is to see. */
export function Nothing({
  verb = "see-counts",
  on = "SPACE",
  what,
  children,
}: {
  verb?: string;
  on?: string; // on what a role would let see it
  what: string;
  children: React.ReactNode;
}) {
  const { name, everywhere } = useRights();
  if (everywhere(verb)) return children;
  return (
    <Notice mark={<Mark state="unknown" word="" />} title={`There is no ${what} that you may see.`}>
      <p>
        It takes the right <code>{verb}</code>.{" "}
        <Link to="/access" className="underline">
          Who may do what
        </Link>{" "}
        tells what you were given; whoever may give it to you adds it with
      </p>
      <Command text={`ferry access new grant ${name} -role viewer -on ${on}`} />
    </Notice>
  );
}

/** What is shown to who holds verbs at an address. */
export function MayAt({ verbs, at, children }: { verbs: string[]; at: string; children: React.ReactNode }) {
  const may = useVerbs(at);
  return verbs.every(may) ? children : null;
}

/** Which fields of a message a mask hides from whoever looks. */
export function Masked({ fields }: { fields?: string[] }) {
  if (!fields?.length || fields.includes("headers")) return null;
  return (
    <p className="text-[length:var(--text-small)] text-soft">
      Hidden from you, or shown as a hash: <span className="address">{fields.join(", ")}</span>
    </p>
  );
}

/** In the place of contents that may not be seen. */
export const Hidden = () => <span className="text-soft">hidden: it takes see-content</span>;

/** What is shown to who holds a verb somewhere. */
export function May({ verb, children }: { verb: string; children: React.ReactNode }) {
  return useRights().somewhere(verb) ? children : null;
}
