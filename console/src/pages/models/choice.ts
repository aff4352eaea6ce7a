import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** One setting of a view, kept in the address beside the others. */
export function useChoice(name: string, first = ""): [string, (next: string) => void] {
  const [search, setSearch] = useSearchParams();
  const set = useCallback(
    (next: string) =>
      setSearch(
        (before) => {
          const query = new URLSearchParams(before);
          if (next) query.set(name, next);
          else query.delete(name);
          return query;
        },
        { replace: true },
      ),
    [name, setSearch],
  );
  return [search.get(name) ?? first, set];
}

/** What goes with each of several names, kept in the address as one setting; what is empty is left out. */
export function usePairs(name: string): [Record<string, string>, (next: Record<string, string>) => void] {
  const [text, setText] = useChoice(name);
  const pairs = new URLSearchParams(text);
  const set = useCallback(
    (next: Record<string, string>) => setText(new URLSearchParams(Object.entries(next).filter(([, value]) => value !== "")).toString()),
    [setText],
  );
  return [Object.fromEntries(pairs), set];
}

/** Several values of one setting, kept in the address beside the others. */
export function useChoices(name: string): [string[], (next: string[]) => void] {
  const [search, setSearch] = useSearchParams();
  const set = useCallback(
    (next: string[]) =>
      setSearch(
        (before) => {
          const query = new URLSearchParams(before);
          query.delete(name);
          next.forEach((each) => query.append(name, each));
          return query;
        },
        { replace: true },
      ),
    [name, setSearch],
  );
  return [search.getAll(name), set];
}
