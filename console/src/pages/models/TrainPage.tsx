import { Button, Checkbox, Group, SegmentedControl, Select, TextInput, Textarea } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState } from "react";
import { useNavigate } from "react-router";
import { useFamilies } from "../../api/contests";
import { useDatasets } from "../../api/datasets";
import { ApiError } from "../../api/http";
import { useBeginTraining, useTrainEstimate, type TrainRequest } from "../../api/models";
import { useDraft } from "../../parts/files/draft";
import { count, duration } from "../../parts/format";
import { JobProgress } from "../../parts/jobs/JobProgress";
import { PageTitle, Section } from "../../parts/page";
import { Parameters } from "../../parts/files/Parameters";
import { Failed, Loaded } from "../../parts/states";
import { readValue } from "../../parts/files/yamlFile";
import { fitting } from "../contests/write/contenders";
import { FirstData } from "../datasets/bring/FirstData";

interface Draft {
  data: string;
  family: string;
  name: string;
  params: Record<string, unknown>;
  prepare: string;
  on: "everything" | "training";
  confirm: boolean;
}

function empty(): Draft {
  return { data: "", family: "als", name: "", params: {}, prepare: "min_user: 1\nmin_item: 1\n", on: "everything", confirm: false };
}

/** Trains one model without a contest, after an estimate. */
export default function TrainPage() {
  const datasets = useDatasets();
  return (
    <>
      <PageTitle title="Train a model" />
      <Loaded query={datasets}>
        {({ items }) => {
          const versions = items.flatMap((each) => each.versions);
          return versions.length > 0 ? <TrainForm versions={versions.map((each) => each.name)} /> : <FirstData />;
        }}
      </Loaded>
    </>
  );
}

function TrainForm({ versions }: { versions: string[] }) {
  const [draft, change, forget] = useDraft("model", empty);
  const [job, setJob] = useState<number | null>(null);
  const navigate = useNavigate();
  const families = useFamilies();
  const data = versions.includes(draft.data) ? draft.data : (versions[0] ?? "");
  const family = families.data?.find((each) => each.family === draft.family);
  const prepare = readValue(draft.prepare);
  const request: TrainRequest = { data, family: draft.family, params: draft.params, name: draft.name || null, prepare: (prepare ?? {}) as TrainRequest["prepare"], on: draft.on, confirm: draft.confirm };
  const [settled] = useDebouncedValue(JSON.stringify(request), 400);
  const estimate = useTrainEstimate(settled);
  const train = useBeginTraining((begun) => setJob(begun.id));
  const set = (part: Partial<Draft>) => change((now) => ({ ...now, ...part }));
  const over = estimate.data?.over ?? [];
  const errors = estimate.error instanceof ApiError ? estimate.error.errors : [];
  return (
    <>
      <Section title="What is trained, on what">
        <Group gap="md" align="end">
          <Select size="xs" w={200} label="Data" allowDeselect={false} data={versions} value={data} onChange={(value) => value && set({ data: value })} />
          <Select size="xs" w={240} label="Family" searchable allowDeselect={false} data={families.data ? fitting(families.data, true) : []} value={draft.family} onChange={(value) => value && set({ family: value, params: {} })} />
          <TextInput size="xs" w={200} label="Name" placeholder={`${data.split("@")[0]}.${draft.family}`} value={draft.name} onChange={(event) => set({ name: event.currentTarget.value })} />
          <SegmentedControl aria-label="Rows it learns from" size="xs" data={[{ value: "everything", label: "every row" }, { value: "training", label: "the training part, watched" }]} value={draft.on} onChange={(value) => set({ on: value as Draft["on"] })} />
        </Group>
        {family && <p className="quiet">{family.summary}. Cost of a fit: {family.cost}.</p>}
        <Textarea
          size="xs" mt="xs" autosize minRows={2} label="Preparation" description="As in a contest file: kinds and their weights, min_user, min_item, merge, use." value={draft.prepare} spellCheck={false} onChange={(event) => set({ prepare: event.currentTarget.value })}
          styles={{ input: { fontFamily: "var(--mantine-font-family-monospace)" } }}
        />
      </Section>
      {family && (
        <Section title="Parameters">
          <Parameters
            family={family} given={draft.params} errors={errors}
            onChange={(name, value) => set({ params: Object.fromEntries(Object.entries({ ...draft.params, [name]: value }).filter(([, each]) => each !== undefined)) })}
          />
        </Section>
      )}
      <Section title="What it will take">
        {estimate.error && <Failed error={estimate.error} title="This cannot be trained so" />}
        {estimate.data && !estimate.error && (
          <p>
            About {duration(estimate.data.seconds)} ({duration(estimate.data.seconds_low)} to {duration(estimate.data.seconds_high)}, four times out of five) and {estimate.data.memory_mb.toFixed(0)} MB, for {count(estimate.data.users)} users, {count(estimate.data.items)} items and at most {count(estimate.data.cells)} cells.{" "}
            <span className="quiet">{estimate.data.based_on}</span>
          </p>
        )}
        {over.map((each) => <p key={each} className="warn">{each}</p>)}
        {over.length > 0 && <Checkbox size="xs" label="Train it all the same" checked={draft.confirm} onChange={(event) => set({ confirm: event.currentTarget.checked })} />}
        <Group gap="sm" mt="xs">
          <Button size="xs" disabled={!estimate.data || estimate.isError || (over.length > 0 && !draft.confirm)} loading={train.isPending} onClick={() => train.mutate(request)}>Train</Button>
        </Group>
        {train.error && <Failed error={train.error} title="This was refused" />}
        {job !== null && (
          <JobProgress
            id={job}
            onDone={(done) => {
              forget();
              void navigate(`/models/${String(done.result?.model)}`);
            }}
          />
        )}
      </Section>
    </>
  );
}
