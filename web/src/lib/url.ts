import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** The state that a page keeps in its URL, and how to change parts of it; an
 *  empty value takes a part away. */
export function useUrlState() {
  const [params, setParams] = useSearchParams();
  const change = useCallback(
    (values: Record<string, string | undefined>) =>
      setParams(
        (p) => {
          for (const [name, value] of Object.entries(values)) {
            if (value) p.set(name, value);
            else p.delete(name);
          }
          return p;
        },
        { replace: true },
      ),
    [setParams],
  );
  return [params, change] as const;
}
