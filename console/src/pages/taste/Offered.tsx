import { Button, Group, TextInput, UnstyledButton } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type ShelfVersion } from "../../api/client";
import { Asked } from "../../parts/states";
import { named, type Item } from "./named";

const OFFERED = 18;

/** What can be picked: what anyone is shown, or what a search finds. */
async function offeredBy(shelf: ShelfVersion, search: string, shown: number): Promise<Item[]> {
  const found = search ? (await api.items(shelf.data, search)).map((each) => each.item) : undefined;
  if (found?.length === 0) return [];
  const answer = await api.recommend(shelf.shelf, { recent: [], n: found ? found.length : shown, candidates: found });
  const items = answer.list.map(named);
  // what the model never saw cannot be picked; it is told, not hidden
  return items.concat((found ?? []).filter((id) => !items.some((item) => item.id === id)).map((id) => ({ id, name: id, unknown: true })));
}

function Choice({ item, picked, onToggle }: { item: Item; picked: boolean; onToggle: () => void }) {
  return (
    <UnstyledButton className="choice" aria-pressed={picked} disabled={item.unknown} title={item.unknown ? "the model never saw it, or the shelf may not list it" : undefined} onClick={onToggle}>
      <span className="item-name">{item.name}</span> {item.name !== item.id && <span className="quiet">{item.id}</span>}
    </UnstyledButton>
  );
}

/** Items to pick from. */
export function Offered({ shelf, picked, onToggle }: { shelf: ShelfVersion; picked: string[]; onToggle: (id: string) => void }) {
  const [search, setSearch] = useState("");
  const [sought] = useDebouncedValue(search.trim(), 200);
  const [shown, setShown] = useState(OFFERED);
  const offered = useQuery({
    queryKey: ["offered", shelf.name, sought, shown],
    queryFn: () => offeredBy(shelf, sought, shown),
    placeholderData: keepPreviousData,
  });
  return (
    <>
      <TextInput aria-label="Search for an item" size="xs" placeholder="search by id" value={search} onChange={(event) => setSearch(event.currentTarget.value)} />
      <Asked query={offered}>
        {(items) => (
          <Group gap={6} mt="xs">
            {items.length === 0 && <p className="quiet">No item's id has {sought} in it.</p>}
            {items.map((item) => (
              <Choice key={item.id} item={item} picked={picked.includes(item.id)} onToggle={() => onToggle(item.id)} />
            ))}
          </Group>
        )}
      </Asked>
      {!sought && <Button mt="sm" size="compact-xs" variant="default" onClick={() => setShown(shown + OFFERED)}>More to pick from</Button>}
    </>
  );
}
