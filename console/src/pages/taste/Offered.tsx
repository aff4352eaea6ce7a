import { Button, Group, TextInput, UnstyledButton } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState } from "react";
import { type ShelfVersion } from "../../api/shelves";
import { useOffered } from "../../api/taste";
import { Loaded } from "../../parts/states";
import { type Item } from "../../parts/ids/named";

const OFFERED = 18;

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
  const offered = useOffered(shelf, sought, shown);
  return (
    <>
      <TextInput aria-label="Search for an item" size="xs" placeholder="search by id or name" value={search} onChange={(event) => setSearch(event.currentTarget.value)} />
      <Loaded query={offered}>
        {(items) => (
          <Group gap={6} mt="xs">
            {items.length === 0 && <p className="quiet">No item has {sought} in its id or texts.</p>}
            {items.map((item) => (
              <Choice key={item.id} item={item} picked={picked.includes(item.id)} onToggle={() => onToggle(item.id)} />
            ))}
          </Group>
        )}
      </Loaded>
      {!sought && <Button mt="sm" size="compact-xs" variant="default" onClick={() => setShown(shown + OFFERED)}>More to pick from</Button>}
    </>
  );
}
