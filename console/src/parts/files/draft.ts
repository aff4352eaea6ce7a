import { useCallback, useState } from "react";

const PASSWORD = /^(\s*[a-z][a-z0-9+.-]*:\/\/[^:@/\s]*):(?!\$\{)[^@/\s]*@/i;

/** What is kept of a draft: all of it but the password of an address, which goes to nobody but the service. */
export function kept(draft: unknown): string {
  return JSON.stringify(draft, (_, value: unknown) => (typeof value === "string" ? value.replace(PASSWORD, "$1@") : value));
}

/** What is being written in a form. It is kept in this browser, so that an error, a reload or a session that ends loses
 * nothing but the password of an address; `clear` forgets it. */
export function useDraft<T>(key: string, initial: () => T): [T, (change: (now: T) => T) => void, () => void] {
  const place = `draft ${key}`;
  const [draft, setDraft] = useState<T>(() => read<T>(place) ?? initial());
  const change = useCallback(
    (next: (now: T) => T) =>
      setDraft((now) => {
        const value = next(now);
        localStorage.setItem(place, kept(value));
        return value;
      }),
    [place],
  );
  const clear = useCallback(() => {
    localStorage.removeItem(place);
    setDraft(initial());
  }, [place, initial]);
  return [draft, change, clear];
}

function read<T>(place: string): T | null {
  try {
    return JSON.parse(localStorage.getItem(place) ?? "null") as T | null;
  } catch {
    return null;
  }
}
