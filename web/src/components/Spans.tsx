import { useUrlState } from "../lib/url";

/** The span of charts that is in the URL: the first of those to choose from when none is. */
export function useSpan(spans: Record<string, string>) {
  const [params] = useUrlState();
  return params.get("span") ?? Object.keys(spans)[0];
}

/** The spans to choose from, by what the URL says of each; values are names that follow "last". */
export function Spans({ spans }: { spans: Record<string, string> }) {
  const [, change] = useUrlState();
  const chosen = useSpan(spans);
  return (
    <div className="flex flex-wrap gap-3 text-[length:var(--text-small)]">
      {Object.entries(spans).map(([key, name], i) => (
        <button
          key={key}
          className={key === chosen ? "font-semibold" : "text-sea hover:underline"}
          aria-pressed={key === chosen}
          onClick={() => change({ span: i === 0 ? "" : key })}
        >
          last {name}
        </button>
      ))}
    </div>
  );
}
