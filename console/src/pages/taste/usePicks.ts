import { useSearchParams } from "react-router";

/** Items that are picked, in the order of picking, and what was said of them; kept in the address. */
export function usePicks() {
  const [search, setSearch] = useSearchParams();
  const picked = search.getAll("pick");
  const values: Record<string, number> = {};
  for (const id of picked) {
    const value = search.get(`said.${id}`);
    if (value !== null && Number.isFinite(Number(value))) values[id] = Number(value);
  }
  const put = (ids: string[], given: Record<string, number | undefined>) => {
    const next = new URLSearchParams();
    for (const id of ids) {
      next.append("pick", id);
      if (given[id] !== undefined) next.set(`said.${id}`, String(given[id]));
    }
    setSearch(next);
  };
  return {
    picked,
    values,
    toggle: (id: string) => put(picked.includes(id) ? picked.filter((each) => each !== id) : [...picked, id], values),
    say: (id: string, value: number | undefined) => put(picked, { ...values, [id]: value }),
    clear: () => put([], {}),
  };
}
