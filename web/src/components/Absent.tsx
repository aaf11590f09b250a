import { Link } from "react-router";
import { explain } from "../api/client";
import { Mark } from "./Mark";
import { Notice } from "./Panel";

/** In the place of a thing that has not come, or cannot: with the way to all of its kind. */
export function Absent({ error, what, all, to }: { error: unknown; what: string; all: string; to: string }) {
  if (!error) return <Notice title={`Waiting for ${what}`} />;
  return (
    <Notice mark={<Mark state="attention" word="" />} title={explain(error)}>
      <p>
        <Link to={to}>{all}</Link>
      </p>
    </Notice>
  );
}
