import { useSearchParams } from "react-router";

/** Items that are picked, in the order of picking, and what was said of them; kept in the address. */
export function usePicks() {
  const [search, setSearch] = useSearchParams();
  const picked = search.getAll("pick");
  const values: Record<string, number> = {};
  for (const id of picked) {
    const said = search.get(`said.${id}`);
    if (said !== null && Number.isFinite(Number(said))) values[id] = Number(said);
  }
  const put = (ids: string[], said: Record<string, number | undefined>) => {
    const next = new URLSearchParams();
    for (const id of ids) {
      next.append("pick", id);
      if (said[id] !== undefined) next.set(`said.${id}`, String(said[id]));
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
