import { Link } from "react-router";
import type { Declaration } from "../api/client";
import { clock } from "../lib/format";

/** Which files have set something, if any: a change by hand is drift. */
export function Declared({ of }: { of: Declaration | undefined }) {
  if (!of) return null;
  return (
    <section>
      <h2>Declared</h2>
      <p className="text-soft">
        Declaration {`${of.declaration} ${of.revision}`.trim()}{" "}
        {of.settings.length > 0 ? `has set ${of.settings.join(", ")}` : "has it, with no setting"}, {clock(of.at, false)}. A
        change by hand is shown as{" "}
        <Link to="/drift" className="underline">
          drift
        </Link>
        .
      </p>
    </section>
  );
}
