import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** The fields of the page's address, and how one of them is changed. The change is made to the address as it is, not as
 * it was drawn last: a navigation is drawn when there is time for it, and another may come before. */
export function useSearch(): [URLSearchParams, (field: string, value: string | null) => void] {
  const [search, setSearch] = useSearchParams();
  const choose = useCallback(
    (field: string, value: string | null) => {
      const now = new URLSearchParams(window.location.search);
      if (value === null) now.delete(field);
      else now.set(field, value);
      setSearch(now, { replace: true });
    },
    [setSearch],
  );
  return [search, choose];
}
