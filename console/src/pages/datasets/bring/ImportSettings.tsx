import { Group, NumberInput, Select, TextInput } from "@mantine/core";
import type { Dataset } from "../../../api/datasets";
import type { Schemas } from "../../../api/http";
import type { ImportDraft } from "./importDraft";

const NAME = /^[a-z0-9][a-z0-9._-]*$/;
const STRICTNESS = [
  { value: "normal", label: "A row that cannot be read refuses the import" },
  { value: "lenient", label: "Rows that cannot be read are dropped and counted" },
  { value: "strict", label: "Warnings refuse the import too" },
];
const OUTSIDE = [
  { value: "refuse", label: "refuse the import" },
  { value: "drop", label: "are dropped" },
  { value: "clip", label: "are brought to the nearest end" },
];
const ANEW = "a new version of its own";

interface Props {
  draft: ImportDraft;
  datasets: Dataset[];
  hasValues: boolean;
  errors: Schemas["FieldProblem"][];
  change: (change: (now: ImportDraft) => ImportDraft) => void;
}

/** Whether a dataset can be called so. */
export function isName(name: string): boolean {
  return NAME.test(name);
}

/** Name, what is added to, the scale, and what becomes of rows that do not fit. */
export function ImportSettings({ draft, datasets, hasValues, errors, change }: Props) {
  const known = datasets.find((each) => each.name === draft.name);
  const set = (part: Partial<ImportDraft>) => change((now) => ({ ...now, ...part }));
  const scale = (place: 0 | 1, value: number | string) =>
    change((now) => ({ ...now, scale: place === 0 ? [value, now.scale[1]] : [now.scale[0], value] }));
  const errorOf = (field: string) => errors.find((each) => each.field.startsWith(field))?.message;
  return (
    <>
      <Group gap="md" align="start">
        <TextInput
          size="xs" w={220} label="Name of the dataset" value={draft.name} autoComplete="off" list="datasets"
          error={draft.name && !isName(draft.name) ? "lower-case letters, digits, . _ -" : errorOf("name")}
          onChange={(event) => set({ name: event.currentTarget.value, onto: null })}
        />
        <datalist id="datasets">{datasets.map((each) => <option key={each.name} value={each.name} />)}</datalist>
        {known && (
          <Select
            size="xs" w={260} label="These rows become" allowDeselect={false} error={errorOf("onto")}
            data={[{ value: "", label: ANEW }, ...known.versions.map((each) => ({ value: String(each.number), label: `added to ${each.name}` }))]}
            value={draft.onto === null ? "" : String(draft.onto)} onChange={(value) => set({ onto: value ? Number(value) : null })}
          />
        )}
        <Select
          size="xs" w={330} label="When something is wrong" allowDeselect={false} data={STRICTNESS} value={draft.strictness}
          onChange={(value) => value && set({ strictness: value as ImportDraft["strictness"] })}
        />
      </Group>
      {hasValues && (
        <Group gap="md" align="start" mt="xs">
          <NumberInput size="xs" w={130} label="Lowest value" hideControls value={draft.scale[0]} error={errorOf("scale")} onChange={(value) => scale(0, value)} />
          <NumberInput size="xs" w={130} label="Highest value" hideControls value={draft.scale[1]} onChange={(value) => scale(1, value)} />
          {draft.scale.every((each) => each !== "") && (
            <Select
              size="xs" w={260} label="Rows with a value outside" clearable placeholder="as above" data={OUTSIDE} value={draft.outside ?? null}
              onChange={(value) => set({ outside: value as ImportDraft["outside"] })}
            />
          )}
        </Group>
      )}
    </>
  );
}
