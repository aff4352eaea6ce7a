import { Button, Group, NumberInput, Select } from "@mantine/core";
import type { FormPart } from "../../../parts/files/fileFields";
import { listAt, problemAt, shown } from "../../../parts/files/yamlFile";

const KINDS: Record<"candidates" | "fallback", { value: string; label: string }[]> = {
  candidates: [
    { value: "model", label: "the best of a model" },
    { value: "popular", label: "what is popular lately" },
    { value: "trending", label: "what has more than its share lately" },
    { value: "like", label: "items like those touched last" },
  ],
  fallback: [
    { value: "model", label: "a model that needs no history" },
    { value: "popular", label: "what is popular lately" },
  ],
};

interface Props extends FormPart {
  field: "candidates" | "fallback";
  models: string[];
}

type Entry = Record<string, unknown>;

/** Sources of candidates, or steps for someone unknown, one after the other. */
export function Sources({ file, problems, change, field, models }: Props) {
  const entries = listAt(file, [field]) as Entry[];
  const fresh = (kind: string): Entry => {
    if (kind === "model") return { model: models[0] ?? "" };
    if (kind === "like") return { like: { model: models[0] ?? "", last: 3 } };
    return { [kind]: { days: 30 } };
  };
  return (
    <>
      {entries.map((entry, place) => (
        <Group key={place} gap="sm" mt={4} align="end">
          <OneSource entry={entry} place={place} field={field} models={models} change={change} />
          <Button size="compact-xs" variant="subtle" disabled={entries.length === 1} onClick={() => change([field, place], undefined)}>Remove</Button>
          {problemAt(problems, [field, place]) && <span className="warn">{problemAt(problems, [field, place])}</span>}
        </Group>
      ))}
      <Select
        aria-label={field === "candidates" ? "One more source" : "One more step"} size="xs" w={300} mt="xs" placeholder={field === "candidates" ? "one more source" : "one more step"}
        data={KINDS[field]} value={null} onChange={(kind) => kind && change([field, entries.length], fresh(kind))}
      />
    </>
  );
}

function OneSource({ entry, place, field, models, change }: { entry: Entry; place: number } & Pick<Props, "field" | "models" | "change">) {
  const name = field === "candidates" ? `Source ${place + 1}` : `Step ${place + 1}`;
  const set = (next: Entry) => change([field, place], next);
  const take = field === "candidates" && (
    <NumberInput
      aria-label={`${name}, at most`} size="xs" w={130} hideControls placeholder="at most" value={typeof entry["take"] === "number" ? entry["take"] : ""}
      onChange={(value) => set(Object.fromEntries(Object.entries({ ...entry, take: value === "" ? undefined : Number(value) }).filter(([, each]) => each !== undefined)))}
    />
  );
  if (typeof entry["model"] === "string") {
    return (
      <>
        <Select aria-label={name} size="xs" w={240} searchable allowDeselect={false} data={[...new Set([...models, entry["model"]])]} value={entry["model"]} onChange={(value) => value && set({ ...entry, model: value })} />
        {take}
      </>
    );
  }
  const timed = ["popular", "trending"].find((kind) => kind in entry);
  if (timed !== undefined) {
    const given = entry[timed] as { days?: number };
    return (
      <>
        <span>{timed} of the last</span>
        <NumberInput aria-label={`${name}, days`} size="xs" w={80} hideControls value={given.days ?? ""} onChange={(value) => value !== "" && set({ ...entry, [timed]: { ...given, days: Number(value) } })} />
        <span>days</span>
        {take}
      </>
    );
  }
  return <code>{shown(entry)}</code>;
}
