import { useCallback } from "react";
import { useSearchParams } from "react-router";

/**
 * What the page's address holds after the question mark, and how to write some
 * of it: an empty value takes its name out, what is not named stays. The entry
 * in the browser's history is replaced.
 */
export function useAddress() {
  const [params, setParams] = useSearchParams();
  const set = useCallback(
    (values: Record<string, string | string[]>) =>
      setParams(
        (p) => {
          for (const [name, value] of Object.entries(values)) {
            p.delete(name);
            for (const one of [value].flat()) {
              if (one) {
                p.append(name, one);
              }
            }
          }
          return p;
        },
        { replace: true },
      ),
    [setParams],
  );
  return [params, set] as const;
}
