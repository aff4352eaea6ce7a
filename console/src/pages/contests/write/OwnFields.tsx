import { Group, NumberInput, Select, TagsInput } from "@mantine/core";
import type { FormPart } from "../../../parts/files/fileFields";
import { listAt, numberAt, problemAt, textAt } from "../../../parts/files/yamlFile";
import { fieldChange, type Contender } from "./contenders";
import { SEARCHES } from "./TuneForm";

/** What one contender has otherwise than the others: what it is also compared without, its preparation, its search. */
export function OwnFields({ contender, parts, file, problems, change }: FormPart & { contender: Contender; parts: string[] }) {
  const at = ["contenders", contender.place];
  const set = (path: string[], value: unknown) => {
    const next = fieldChange(contender, path, value);
    change(next.path, next.value);
  };
  const number = (path: [string, string], label: string, whole: boolean) => (
    <NumberInput
      size="xs" w={190} label={label} placeholder="as the contest" hideControls allowDecimal={!whole} value={numberAt(file, [...at, ...path])}
      error={problemAt(problems, [...at, ...path])} onChange={(value) => set(path, value === "" ? undefined : Number(value))}
    />
  );
  const search = textAt(file, [...at, "tune", "search"]);
  return (
    <Group gap="md" align="start" mt="xs">
      <TagsInput
        size="xs" w={300} label="Compared also without" data={parts} value={listAt(file, [...at, "without"]).map(String)} error={problemAt(problems, [...at, "without"])}
        description="each makes one more contender that lacks it" onChange={(value) => set(["without"], value.length > 0 ? value : undefined)}
      />
      {number(["prepare", "half_life_days"], "Days until a row counts half", false)}
      {number(["prepare", "drop_users_over"], "Leave out users with more rows than", true)}
      <Select size="xs" w={190} label="Its ranges are searched" clearable placeholder="as the contest" data={SEARCHES} value={search || null} onChange={(value) => set(["tune", "search"], value ?? undefined)} />
      {number(["tune", "attempts"], "Its attempts, at most", true)}
      {number(["tune", "minutes"], "Its minutes, at most", false)}
    </Group>
  );
}
