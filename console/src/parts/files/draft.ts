import { useCallback, useState } from "react";

const PASSWORD = /^(\s*[a-z][a-z0-9+.-]*:\/\/[^:@/\s]*):(?!\$\{)[^@/\s]*@/i;
const PREFIX = "draft ";
const TAB_KEY = "tab";
/** What an id of a tab looks like within a storage key. */
const KEY = /^draft (tab-[0-9a-f]+) (.*)$/;

interface Kept {
  at: number;
  draft: unknown;
}

/** Serialises a draft without passwords of addresses, which go to nobody but the service. */
export function kept(draft: unknown): string {
  return JSON.stringify(draft, (_, value: unknown) => (typeof value === "string" ? value.replace(PASSWORD, "$1@") : value));
}

let tab = "tab-0";

/** Gives this tab an id of its own and takes over the drafts of tabs that are closed. To be called once, before the first
 * page is drawn. A tab holds a lock on its id while it is open, so that others know. */
export async function openDrafts(): Promise<void> {
  const locks = "locks" in navigator ? navigator.locks : undefined;
  const open = new Set((await locks?.query())?.held?.map((lock) => lock.name) ?? []);
  tab = sessionStorage.getItem(TAB_KEY) ?? "";
  if (tab === "" || open.has(tab)) tab = newTab();
  sessionStorage.setItem(TAB_KEY, tab);
  void locks?.request(tab, () => new Promise<never>(() => undefined));
  adopt(localStorage, tab, open);
}

function newTab(): string {
  return `tab-${Array.from(crypto.getRandomValues(new Uint8Array(6)), (byte) => byte.toString(16).padStart(2, "0")).join("")}`;
}

/** Moves the newest draft of each form that a closed tab left to this tab, unless this tab has one. */
export function adopt(storage: Storage, own: string, open: ReadonlySet<string | undefined>): void {
  const orphans = Array.from({ length: storage.length }, (_, index) => storage.key(index) ?? "")
    .map((key) => ({ key, match: KEY.exec(key) }))
    .filter(({ match }) => match && match[1] !== own && !open.has(match[1]))
    .map(({ key, match }) => ({ key, form: match?.[2] ?? "", at: keptAt(storage, key)?.at ?? 0 }))
    .sort((one, other) => other.at - one.at);
  for (const { key, form } of orphans) {
    const mine = storageKey(own, form);
    if (storage.getItem(mine) === null) storage.setItem(mine, storage.getItem(key) ?? "null");
    storage.removeItem(key);
  }
}

const storageKey = (owner: string, form: string) => `${PREFIX}${owner} ${form}`;

/** Holds what is being written in a form. It is stored in this browser for each tab, so that an error, a reload, a page
 * back or a restart loses nothing but the password of an address. `clear` deletes it. */
export function useDraft<T>(form: string, initial: () => T): [T, (change: (now: T) => T) => void, () => void] {
  const key = storageKey(tab, form);
  const [draft, setDraft] = useState<T>(() => (keptAt(localStorage, key)?.draft as T | undefined) ?? initial());
  const change = useCallback(
    (next: (now: T) => T) =>
      setDraft((now) => {
        const value = next(now);
        localStorage.setItem(key, kept({ at: Date.now(), draft: value }));
        return value;
      }),
    [key],
  );
  const clear = useCallback(() => {
    localStorage.removeItem(key);
    setDraft(initial());
  }, [key, initial]);
  return [draft, change, clear];
}

function keptAt(storage: Storage, key: string): Kept | null {
  try {
    const value = JSON.parse(storage.getItem(key) ?? "null") as Kept | null;
    return value && typeof value === "object" && "draft" in value ? value : null;
  } catch {
    return null;
  }
}
