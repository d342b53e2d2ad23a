import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** What a list shows is kept in the address, so that it can be linked to. */
export function usePlace() {
  const [params, setParams] = useSearchParams();
  const get = (name: string) => params.get(name) ?? undefined;
  const set = useCallback(
    (name: string, value: string | undefined) => {
      setParams(
        (old) => {
          const next = new URLSearchParams(old);
          if (value) next.set(name, value);
          else next.delete(name);
          return next;
        },
        { replace: true },
      );
    },
    [setParams],
  );
  return { get, set };
}
