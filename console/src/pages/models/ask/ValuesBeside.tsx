import { Group, NumberInput } from "@mantine/core";
import { useNames } from "../../../api/datasets";

interface ValuesBesideProps {
  side: "user" | "item";
  data: string;
  ids: string[];
  values: Record<string, string>;
  onSet: (next: Record<string, string>) => void;
}

/** The value of each id in their order; nothing unless every one has one. */
export function valuesOf(ids: string[], values: Record<string, string>): number[] | undefined {
  const given = ids.map((id) => Number(values[id] || NaN));
  return ids.length > 0 && given.every(Number.isFinite) ? given : undefined;
}

/** A value beside each item that someone new touched, or beside each user who touched a new item. */
export function ValuesBeside({ side, data, ids, values, onSet }: ValuesBesideProps) {
  const names = useNames(data, side, ids).data;
  const given = ids.filter((id) => values[id]).length;
  if (ids.length === 0) return null;
  return (
    <>
      <Group align="end" gap="xs" mb="sm">
        {ids.map((id) => (
          <NumberInput
            key={id} size="xs" w={150} hideControls placeholder="as usual" label={`Value of ${names?.get(id) ?? id}`} value={values[id] ?? ""}
            onChange={(value) => onSet({ ...values, [id]: String(value) })}
          />
        ))}
      </Group>
      {given > 0 && given < ids.length && <p className="quiet">Values count once each has one; until then all count as usual.</p>}
    </>
  );
}
