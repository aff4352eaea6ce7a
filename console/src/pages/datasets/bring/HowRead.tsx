import { Button, Checkbox, Group, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import type { Source } from "../../../api/imports";

const FORMATS = ["csv", "parquet", "arrow", "ndjson", "json", "xlsx"];
const SEPARATORS = [
  { value: ",", label: "comma" },
  { value: ";", label: "semicolon" },
  { value: "\t", label: "tab" },
  { value: "|", label: "bar" },
  { value: "::", label: "two colons" },
];

/** How a file is read, where what was found from its name and first lines is not it. rows: whether it holds interactions. */
export function HowRead({ source, rows, onChange }: { source: Source; rows: boolean; onChange: (source: Source) => void }) {
  const [open, setOpen] = useState(false);
  const set = (part: Partial<Source>) => onChange({ ...source, ...part });
  if (source.table || source.query) return null;
  if (!open) return <Button size="compact-xs" variant="subtle" onClick={() => setOpen(true)}>How it is read</Button>;
  const known = SEPARATORS.some((each) => each.value === source.separator) || source.separator == null;
  return (
    <>
      <Group gap="xs" align="start" mt={4}>
        <Select size="xs" w={120} label="Format" clearable placeholder="by its name" data={FORMATS} value={source.format ?? null} onChange={(value) => set({ format: value as Source["format"] })} />
        <Select
          size="xs" w={130} label="Separator" clearable placeholder="detected" value={source.separator ?? null}
          data={known ? SEPARATORS : [...SEPARATORS, { value: source.separator ?? "", label: source.separator ?? "" }]}
          onChange={(value) => set({ separator: value })}
        />
        <TextInput size="xs" w={120} label="Sheet" placeholder="the first" value={source.sheet ?? ""} onChange={(event) => set({ sheet: event.currentTarget.value || null })} />
      </Group>
      <Group gap="md" mt={6}>
        <Checkbox size="xs" label="The first line names the columns" checked={source.header ?? true} onChange={(event) => set({ header: event.currentTarget.checked })} />
        {rows && <Checkbox size="xs" label="Users down, items across" checked={source.wide ?? false} onChange={(event) => set({ wide: event.currentTarget.checked })} />}
      </Group>
    </>
  );
}
