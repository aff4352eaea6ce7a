import { CloseButton, SegmentedControl } from "@mantine/core";
import { type ShelfVersion } from "../../api/shelves";
import { usePicked } from "../../api/taste";
import type { Mark } from "./marks";

interface Props {
  shelf: ShelfVersion;
  picked: string[];
  values: Record<string, number>;
  marks: Mark[];
  onSay: (id: string, value: number | undefined) => void;
  onDrop: (id: string) => void;
}

/** What is picked, each with how much it was liked. */
export function Picked({ shelf, picked, values, marks, onSay, onDrop }: Props) {
  const names = usePicked(shelf, picked);
  if (!picked.length) return <p className="quiet">Nothing yet: the list is what anyone gets.</p>;
  const nameOf = (id: string) => names.data?.find((item) => item.id === id)?.name ?? id;
  return (
    <ul className="picked" aria-label="Picked">
      {picked.map((id) => (
        <li key={id}>
          <span>
            <span className="item-name">{nameOf(id)}</span> {nameOf(id) !== id && <span className="quiet">{id}</span>}
          </span>
          <SegmentedControl
            size="xs"
            aria-label={`How much they liked ${id}`}
            data={marks.map((mark) => ({ label: mark.label, value: String(mark.value ?? "") }))}
            value={String(values[id] ?? "")}
            onChange={(value) => onSay(id, value === "" ? undefined : Number(value))}
          />
          <CloseButton size="sm" aria-label={`Take ${id} back`} onClick={() => onDrop(id)} />
        </li>
      ))}
    </ul>
  );
}
