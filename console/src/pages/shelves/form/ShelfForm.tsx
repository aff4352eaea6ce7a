import { Checkbox, Group, MultiSelect, Select, TextInput, Textarea } from "@mantine/core";
import type { DatasetVersion } from "../../../api/datasets";
import { ChoiceField, NumberField, type FormPart } from "../../../parts/files/fileFields";
import { Section } from "../../../parts/page";
import { listAt, problemAt, textAt, valueAt } from "../../../parts/files/yamlFile";
import { Pins } from "./Pins";
import { Sources } from "./Sources";

const SCHEDULES = [
  { value: "", label: "by hand only" },
  { value: "0 * * * *", label: "every hour" },
  { value: "0 3 * * *", label: "every night at 3" },
  { value: "0 3 * * 1", label: "every Monday at 3" },
];
const CERTAINTY = [
  { value: "by_mean", label: "the means" },
  { value: "to_refuse", label: "a loss that is shown refuses" },
  { value: "to_publish", label: "only a loss that is ruled out publishes" },
];

export interface ShelfFormProps extends FormPart {
  models: string[];
  version: DatasetVersion | undefined;
}

/** What a shelf lists, for whom and in which order, field by field. */
export function ShelfForm({ models, version, ...part }: ShelfFormProps) {
  const { file, problems, change } = part;
  const columns = (version?.item_columns ?? []).filter((each) => each.name !== "id").map((each) => each.name);
  const leftOut = valueAt(file, ["leave_out"]) === undefined ? ["known", "recent"] : listAt(file, ["leave_out"]);
  const text = (path: string, label: string, w: number) => (
    <TextInput size="xs" w={w} label={label} value={textAt(file, [path])} error={problemAt(problems, [path])} onChange={(event) => change([path], event.currentTarget.value || undefined)} />
  );
  const leave = (what: "known" | "recent", label: string) => (
    <Checkbox
      size="xs" label={label} checked={leftOut.includes(what)}
      onChange={(event) => change(["leave_out"], event.currentTarget.checked ? [...leftOut, what] : leftOut.filter((each) => each !== what))}
    />
  );
  return (
    <>
      <Section title="Name">
        <Group gap="md" align="start">{text("shelf", "Name", 200)}{text("title", "Title", 300)}</Group>
      </Section>
      <Section title="Where items come from">
        <Sources {...part} field="candidates" models={models} />
        <Select
          size="xs" w={300} mt="xs" label="What scores them" data={models} clearable placeholder="the first model above" searchable
          value={textAt(file, ["score", "model"]) || null} error={problemAt(problems, ["score"])} onChange={(value) => change(["score"], value ? { model: value } : undefined)}
        />
      </Section>
      <Section title="What may be listed">
        <Group gap="lg">{leave("known", "Leave out what a user has")}{leave("recent", "Leave out what the request names")}</Group>
        <Textarea
          size="xs" mt="xs" autosize minRows={1} label="Only items for which" value={textAt(file, ["where"])} error={problemAt(problems, ["where"])}
          description={columns.length > 0 ? `A condition over ${columns.slice(0, 6).join(", ")}; :user.COLUMN, :context.NAME and history() may stand in it.` : "The data has no columns of items: none can be tested."}
          onChange={(event) => change(["where"], event.currentTarget.value || undefined)}
        />
        {columns.length > 0 && (
          <MultiSelect size="xs" mt="xs" label="Columns sent along" data={columns} value={listAt(file, ["show"]).map(String)} error={problemAt(problems, ["show"])} onChange={(value) => change(["show"], value.length > 0 ? value : undefined)} />
        )}
      </Section>
      <Section title="Places by hand">
        {columns.length > 0 && <Slots {...part} columns={columns} />}
        {version && <Pins {...part} version={version.name} />}
      </Section>
      <Section title="For someone unknown"><Sources {...part} field="fallback" models={models} /></Section>
      <Section title="Refreshed">
        <Group gap="md" align="start">
          <Schedule {...part} />
          <NumberField {...part} path={["refresh", "guard", "worse_by"]} label="Largest accepted drop" placeholder="0.02" />
          <ChoiceField {...part} path={["refresh", "guard", "certainty"]} label="What decides" options={CERTAINTY} usual="by_mean" />
          <NumberField {...part} whole path={["refresh", "guard", "least_users"]} label="Minimum number of test users" placeholder="50" />
        </Group>
      </Section>
    </>
  );
}

function Schedule({ file, problems, change }: FormPart) {
  const every = textAt(file, ["refresh", "every"]);
  const known = SCHEDULES.some((each) => each.value === every);
  return (
    <Select
      size="xs" w={220} label="When, in UTC" allowDeselect={false} data={known ? SCHEDULES : [...SCHEDULES, { value: every, label: every }]} value={every}
      error={problemAt(problems, ["refresh"])} onChange={(value) => change(["refresh", "every"], value || undefined)}
    />
  );
}

/** Places that are given away, and limits. */
function Slots({ columns, ...part }: FormPart & { columns: string[] }) {
  const { file, problems, change } = part;
  const atPlaces = listAt(file, ["slots", "promoted", "places"]).length > 0;
  return (
    <Group gap="md" align="start">
      <TextInput
        size="xs" w={260} label="Promote items for which" value={textAt(file, ["slots", "promoted", "where"])} error={problemAt(problems, ["slots", "promoted"])}
        onChange={(event) => change(["slots", "promoted"], event.currentTarget.value ? { share: 0.2, ...(valueAt(file, ["slots", "promoted"]) as object | undefined), where: event.currentTarget.value } : undefined)}
      />
      {textAt(file, ["slots", "promoted", "where"]) && !atPlaces && <NumberField {...part} path={["slots", "promoted", "share"]} label="Share of the places" />}
      <Select
        size="xs" w={180} label="At most so many of one" clearable placeholder="no limit" data={columns} value={textAt(file, ["slots", "limit", "column"]) || null} error={problemAt(problems, ["slots", "limit"])}
        onChange={(value) => change(["slots", "limit"], value ? { most: 3, ...(valueAt(file, ["slots", "limit"]) as object | undefined), column: value } : undefined)}
      />
      {textAt(file, ["slots", "limit", "column"]) && <NumberField {...part} whole path={["slots", "limit", "most"]} label="How many" />}
    </Group>
  );
}
