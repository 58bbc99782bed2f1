// What a page is asked for stands in its address, so that it can be linked.

import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** What stands in the address, and what changes one part of it; an empty value takes the part away. */
export function useAsked() {
  const [asked, setAsked] = useSearchParams();
  const set = useCallback(
    (key: string, value: string) =>
      setAsked(
        (before) => {
          const next = new URLSearchParams(before);
          if (value) next.set(key, value);
          else next.delete(key);
          return next;
        },
        { replace: true },
      ),
    [setAsked],
  );
  return { asked, set };
}
