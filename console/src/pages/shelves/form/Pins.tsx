import { Autocomplete, Button, Group, NumberInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState } from "react";
import { useNames, useMatches } from "../../../api/datasets";
import type { FormPart } from "../../../parts/files/fileFields";
import { listAt, problemAt } from "../../../parts/files/yamlFile";
import { NamedItem } from "../../../parts/ids/NamedItem";
import { matchOption } from "../../../parts/ids/MatchOption";

interface Pin {
  item: string;
  place: number;
}

const MOST_PLACES = 1000;

function firstFree(pins: Pin[]): number {
  const taken = new Set(pins.map((pin) => pin.place));
  return Array.from({ length: pins.length + 1 }, (_, at) => at + 1).find((place) => !taken.has(place)) ?? 1;
}

/** An item by its name, where the table has one, with the id beside it. */
function ItemById({ version, item }: { version: string; item: string }) {
  return <NamedItem id={item} name={useNames(version, "item", [item]).data?.get(item)} />;
}

/** Items that stand at a place whatever their score, each found by its id or name. */
export function Pins({ file, problems, change, version }: FormPart & { version: string }) {
  const pins = listAt(file, ["slots", "pinned"]) as Pin[];
  const [item, setItem] = useState("");
  const [place, setPlace] = useState<number | "">("");
  const [searched] = useDebouncedValue(item, 200);
  const matches = useMatches(version, "item", searched);
  const at = place === "" ? firstFree(pins) : place;
  const taken = pins.some((pin) => pin.place === at || pin.item === item);
  const write = (next: Pin[]) => change(["slots", "pinned"], next.length > 0 ? next : undefined);
  const pin = () => {
    write([...pins, { item, place: at }].sort((one, other) => one.place - other.place));
    setItem("");
    setPlace("");
  };
  return (
    <>
      {pins.length > 0 && (
        <ul className="picked" aria-label="Pinned items">
          {pins.map((each, index) => (
            <li key={`${each.item} ${each.place}`}>
              <span>Place {each.place}: <ItemById version={version} item={each.item} />{" "}<span className="warn">{problemAt(problems, ["slots", "pinned", index])}</span></span>
              <Button size="compact-xs" variant="subtle" onClick={() => write(pins.filter((other) => other !== each))}>Unpin</Button>
            </li>
          ))}
        </ul>
      )}
      <Group gap="md" align="end" mt="xs">
        <Autocomplete
          size="xs" w={260} label="Pin an item, by id or name" value={item} onChange={setItem} filter={({ options }) => options}
          data={(matches.data ?? []).map((each) => each.id)} renderOption={matchOption(matches.data)}
          error={problemAt(problems, ["slots", "pinned"])}
        />
        <NumberInput size="xs" w={90} label="At place" min={1} max={MOST_PLACES} value={at} onChange={(value) => setPlace(typeof value === "number" ? value : "")} />
        <Button size="xs" variant="default" disabled={!item.trim() || taken} onClick={pin}>Pin it</Button>
      </Group>
    </>
  );
}
