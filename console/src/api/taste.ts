import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { named, type Item } from "../parts/ids/named";
import { findItems } from "./datasets";
import { fetchModel } from "./models";
import { fetchList, fetchShelf, type ShelfVersion } from "./shelves";

/** A shelf as it is served, with the card of the model that scores. */
export function useTasted(name: string) {
  return useQuery({
    queryKey: ["tasted", name],
    queryFn: async () => {
      const shelf = await fetchShelf(name);
      return { shelf, card: shelf.scorer ? await fetchModel(shelf.scorer) : undefined };
    },
  });
}

/** What can be picked: what anyone is shown, or what a search finds. */
export function useOffered(shelf: ShelfVersion, search: string, shown: number) {
  return useQuery({
    queryKey: ["offered", shelf.name, search, shown],
    queryFn: () => offeredBy(shelf, search, shown),
    placeholderData: keepPreviousData,
  });
}

async function offeredBy(shelf: ShelfVersion, search: string, shown: number): Promise<Item[]> {
  const matches = search ? await findItems(shelf.data, search) : undefined;
  if (matches?.length === 0) return [];
  const answer = await fetchList(shelf.shelf, { recent: [], n: matches ? matches.length : shown, candidates: matches?.map((each) => each.item) });
  const items = answer.list.map(named);
  // what the model never saw cannot be picked; it is told, not hidden
  const others = (matches ?? []).filter((match) => !items.some((item) => item.id === match.item));
  return items.concat(others.map(({ item, label }) => ({ id: item, name: label ?? item, unknown: true })));
}

/** What the picked items are called. */
export function usePicked(shelf: ShelfVersion, picked: string[]) {
  return useQuery({
    queryKey: ["picked", shelf.name, [...picked].sort()],
    queryFn: async () => (await fetchList(shelf.shelf, { recent: [], n: picked.length, candidates: picked })).list.map(named),
    enabled: picked.length > 0,
    placeholderData: keepPreviousData,
  });
}
