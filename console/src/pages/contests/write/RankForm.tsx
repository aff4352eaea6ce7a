import { Checkbox, Group, MultiSelect, Select, TagsInput } from "@mantine/core";
import type { Schemas } from "../../../api/http";
import type { DatasetVersion } from "../../../api/datasets";
import { listAt, problemAt, textAt, valueAt } from "../../../parts/files/yamlFile";
import { NumberField, type FormPart } from "../../../parts/files/fileFields";

const SORTS: Record<Schemas["MetricKind"]["sort"], string> = {
  ranking: "hits in the first k",
  order: "the whole order",
  lists: "the lists themselves",
  values: "predicted values",
  likelihood: "chances",
};
const BETTER = { higher: "more is better", lower: "less is better", neither: "neither way is better" };

/** Metrics, cut-offs, and which one decides. */
export function RankForm({ metrics, version, ...part }: FormPart & { metrics: Schemas["MetricKind"][]; version: DatasetVersion }) {
  const { file, problems, change } = part;
  const chosen = listAt(file, ["rank", "metrics"]).map(String);
  const at = listAt(file, ["rank", "at"]).map(String);
  const decides = textAt(file, ["rank", "decide_by"]);
  const names = chosen.flatMap((name) => {
    const metric = metrics.find((each) => each.name === name);
    return metric?.at_k === false ? [name] : (at.length > 0 ? at : ["5", "10", "20"]).map((k) => `${name}@${k}`);
  });
  const columns = (version.item_columns ?? []).filter((each) => each.name !== "id").map((each) => each.name);
  const needs = (what: string) => metrics.some((each) => each.needs === what && chosen.includes(each.name));
  const groups = Object.entries(SORTS).map(([sort, group]) => ({ group, items: metrics.filter((each) => each.sort === sort).map((each) => each.name) }));
  return (
    <>
      <Group gap="md" align="start">
        <MultiSelect
          size="xs" w={420} label="Metrics" searchable data={groups} value={chosen} error={problemAt(problems, ["rank", "metrics"])}
          onChange={(value) => change(["rank", "metrics"], value.length > 0 ? value : undefined)}
        />
        <TagsInput
          size="xs" w={200} label="Cut-offs k" value={at} error={problemAt(problems, ["rank", "at"])}
          onChange={(value) => change(["rank", "at"], value.map(Number).filter((each) => Number.isInteger(each) && each > 0))}
        />
        <Select
          size="xs" w={180} label="Which one decides" placeholder="the usual one" data={[...new Set([...names, ...(decides ? [decides] : [])])]} value={decides || null} allowDeselect={false}
          error={problemAt(problems, ["rank", "decide_by"])} onChange={(value) => value && change(["rank", "decide_by"], value)}
        />
        {version.profile.values != null && (
          <>
            <NumberField {...part} path={["rank", "relevant", "at_least"]} label="Relevant from this value on" placeholder="every held-out row" />
            <Checkbox
              size="xs" mt={26} label="Relevant only above the user's own mean" checked={valueAt(file, ["rank", "relevant", "above_own_mean"]) === true}
              onChange={(event) => change(["rank", "relevant", "above_own_mean"], event.currentTarget.checked || undefined)}
            />
          </>
        )}
        {needs("content") && (
          <MultiSelect size="xs" w={240} label="Columns that diversity compares" data={columns} value={listAt(file, ["rank", "content"]).map(String)} error={problemAt(problems, ["rank", "content"])} onChange={(value) => change(["rank", "content"], value.length > 0 ? value : undefined)} />
        )}
        {needs("categories") && (
          <Select size="xs" w={200} label="Column that calibration counts" clearable data={columns} value={textAt(file, ["rank", "categories"]) || null} error={problemAt(problems, ["rank", "categories"])} onChange={(value) => change(["rank", "categories"], value ?? undefined)} />
        )}
      </Group>
      <dl className="explained">
        {metrics.filter((each) => chosen.includes(each.name)).map((each) => (
          <div key={each.name}>
            <dt>{each.name}</dt>
            <dd className="quiet">{each.definition}; {BETTER[each.better]}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}
