import { Button, Group, SegmentedControl, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import { useRow, type DatasetVersion } from "../../../api/datasets";
import { useChangeCell } from "../../../api/events";
import { IdPicker } from "../../../parts/ids/IdPicker";
import { Failed } from "../../../parts/states";
import { cellOf, hintOf, typedOf, type Column } from "./cell";

type Side = "item" | "user";

/** One cell of a row of the item or user table, changed from now on. */
export function ChangeCell({ version }: { version: DatasetVersion }) {
  const columns: Record<Side, Column[]> = { item: version.item_columns ?? [], user: version.user_columns ?? [] };
  const sides = (["item", "user"] as const).filter((side) => columns[side].length > 0);
  const [chosen, setSide] = useState<Side>("item");
  const side = sides.includes(chosen) ? chosen : sides[0];
  if (!side) return <p className="quiet">{version.name} has no table of items or users.</p>;
  return (
    <>
      {sides.length > 1 && (
        <SegmentedControl
          size="xs" mb="xs" aria-label="Of which table" value={side} onChange={(next) => setSide(next as Side)}
          data={[{ value: "item", label: "an item" }, { value: "user", label: "a user" }]}
        />
      )}
      <OneCell key={side} version={version} side={side} columns={columns[side].filter((each) => each.name !== "id")} />
    </>
  );
}

function OneCell({ version, side, columns }: { version: DatasetVersion; side: Side; columns: Column[] }) {
  const [id, setId] = useState("");
  const [name, setName] = useState<string | null>(null);
  const [text, setText] = useState("");
  const [misfit, setMisfit] = useState("");
  const [done, setDone] = useState("");
  const row = useRow(version.name, side, id).data;
  const change = useChangeCell(version.dataset);
  const column = columns.find((each) => each.name === name);
  const begin = () => {
    if (!column) return;
    setDone("");
    try {
      const value = cellOf(text, column);
      setMisfit("");
      change.mutate({ side, id, column: column.name, value }, { onSuccess: () => setDone(`${column.name} of ${id} is ${text.trim() || "missing"} from now on.`) });
    } catch (wrong) {
      setMisfit((wrong as Error).message);
    }
  };
  return (
    <>
      <Group align="start">
        <IdPicker side={side} data={version.name} chosen={id} onChoose={setId} anyone />
        <Select size="xs" w={170} label="Column" searchable data={columns.map((each) => each.name)} value={name} onChange={(next) => { setName(next); setText(""); setMisfit(""); }} />
        <TextInput
          size="xs" w={260} label="New value" placeholder={column ? hintOf(column) : ""} disabled={!column} value={text} error={misfit || undefined}
          inputWrapperOrder={["label", "input", "description", "error"]}
          description={column && row ? `${version.name} says: ${typedOf(row[column.name], column) || "missing"}` : undefined}
          onChange={(event) => setText(event.currentTarget.value)} onKeyDown={(event) => event.key === "Enter" && begin()}
        />
        <Button size="xs" mt={24} variant="default" disabled={!id || !column} loading={change.isPending} onClick={begin}>{text.trim() ? "Change" : "Make it missing"}</Button>
      </Group>
      {change.error && <Failed error={change.error} title="This was refused" />}
      {done && <p role="status" className="quiet">{done}</p>}
    </>
  );
}
