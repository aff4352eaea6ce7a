import { Checkbox, Group, NumberInput, Table } from "@mantine/core";
import type { DatasetVersion } from "../../../api/datasets";
import { count } from "../../../parts/format";
import { valueAt } from "../../../parts/files/yamlFile";
import { ChoiceField, NumberField, type FormPart } from "../../../parts/files/fileFields";

const USE = [
  { value: "weights", label: "weights: how much a row counts" },
  { value: "values", label: "values: the rating or amount of a row" },
];
const MERGE = ["sum", "count", "max", "mean", "latest"].map((value) => ({ value, label: value }));

/** From rows to cells: kinds and their weights, what is pruned, how repeats become one. */
export function PrepareForm({ version, ...part }: FormPart & { version: DatasetVersion }) {
  const kinds = (version.profile.kinds ?? []).flatMap((each) => (each.kind ? [{ kind: each.kind, rows: each.rows }] : []));
  const rated = version.profile.values != null;
  const merges = valueAt(part.file, ["prepare", "use"]) === "values" ? "mean" : "sum";
  return (
    <>
      {kinds.length > 0 && <Kinds kinds={kinds} {...part} />}
      <Group gap="md" align="start" mt="xs">
        <NumberField {...part} whole path={["prepare", "min_user"]} label="Fewest items of a user" placeholder="1" />
        <NumberField {...part} whole path={["prepare", "min_item"]} label="Fewest users of an item" placeholder="1" />
        <NumberField {...part} whole path={["prepare", "drop_users_over"]} label="Leave out users with more rows than" placeholder="none" />
        <NumberField {...part} path={["prepare", "half_life_days"]} label="Days until a row counts half" placeholder="all count alike" />
        {rated && <ChoiceField {...part} path={["prepare", "use"]} label="What a row measures" options={USE} usual={kinds.length > 0 ? "weights" : "values"} />}
        {rated && <NumberField {...part} path={["prepare", "like_from"]} label="Take values from here on as likes" placeholder="values stay values" />}
        <ChoiceField {...part} path={["prepare", "merge"]} label="Repeats become one by their" options={MERGE} usual={merges} />
      </Group>
    </>
  );
}

/** Which kinds count, and how much. Without any named all count 1. */
function Kinds({ kinds, file, change }: FormPart & { kinds: { kind: string; rows: number }[] }) {
  const named = (valueAt(file, ["prepare", "kinds"]) ?? {}) as Record<string, number>;
  const all = Object.keys(named).length === 0;
  const set = (kind: string, weight: number | undefined) => {
    const next: Record<string, number> = all ? Object.fromEntries(kinds.map((each) => [each.kind, 1])) : { ...named };
    const kept = Object.entries({ ...next, [kind]: weight }).filter(([, each]) => each !== undefined);
    change(["prepare", "kinds"], Object.fromEntries(kept));
  };
  return (
    <Table className="figure-table" aria-label="Kinds" verticalSpacing={2} withRowBorders={false} w="auto">
      <Table.Thead>
        <Table.Tr><Table.Th>kind</Table.Th><Table.Th className="number">rows</Table.Th><Table.Th>counts as</Table.Th></Table.Tr>
      </Table.Thead>
      <Table.Tbody>
        {kinds.map(({ kind, rows }) => {
          const used = all || kind in named;
          return (
            <Table.Tr key={kind}>
              <Table.Td><Checkbox size="xs" label={kind} checked={used} onChange={(event) => set(kind, event.currentTarget.checked ? 1 : undefined)} /></Table.Td>
              <Table.Td className="number">{count(rows)}</Table.Td>
              <Table.Td>{used ? <NumberInput aria-label={`Weight of ${kind}`} size="xs" w={90} hideControls value={all ? 1 : (named[kind] ?? 1)} onChange={(value) => value !== "" && set(kind, Number(value))} /> : <span className="quiet">left out</span>}</Table.Td>
            </Table.Tr>
          );
        })}
      </Table.Tbody>
    </Table>
  );
}
