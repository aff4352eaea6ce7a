import { Anchor, Button, Group, MultiSelect, NumberInput, Progress, Select } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { Run } from "../../api/contests";
import { useVersion } from "../../api/datasets";
import { isOpen, useJob } from "../../api/jobs";
import { useAnalyseLists, type AnalysisSettings } from "../../api/lists";
import { useModels } from "../../api/models";
import { useSearch } from "../../parts/search";
import { Failed } from "../../parts/states";

/** Starts an analysis of the lists of a model of this data, shows its progress, and opens the result. */
export function AnalyseModel({ run, open }: { run: Run; open: (job: number) => void }) {
  const [search, choose] = useSearch();
  const queries = useQueryClient();
  const models = useModels();
  const names = (models.data?.items ?? []).filter((each) => each.data === run.data).map((each) => each.name);
  const model = names.find((each) => each === search.get("analysed")) ?? names.find((each) => run.winner && each.includes(`.${run.winner}@`)) ?? names[0];
  const [asked, setAsked] = useState(false);
  const [how, setHow] = useState<AnalysisSettings>({ n: 10, expected_n: 20, kernel: "rbf", content: [] });
  const begin = useAnalyseLists(run.name);
  const id = begin.data?.id;
  const job = useJob(id, 500);
  const state = job.data?.state;
  useEffect(() => {
    if (state !== "done" || id === undefined) return;
    void queries.invalidateQueries({ queryKey: ["list work", run.data] });
    open(id);
    begin.reset();
  });
  if (!model) return null;
  const busy = begin.isPending || (job.data ? isOpen(job.data) : id !== undefined);
  return (
    <Group gap="xs" mb="xs">
      <Select
        aria-label="Model whose lists are analysed" size="xs" w={220} data={names} value={model} allowDeselect={false} searchable
        onChange={(value) => value && choose("analysed", value)}
      />
      <Button size="compact-xs" variant="default" disabled={busy} onClick={() => begin.mutate({ model, how })}>Analyse its lists</Button>
      <Button size="compact-xs" variant="subtle" aria-expanded={asked} onClick={() => setAsked(!asked)}>How they are analysed</Button>
      {busy && <Progress value={(job.data?.progress ?? 0) * 100} w={90} size="sm" aria-label="Progress of the analysis" />}
      {busy && id !== undefined && <Anchor component={Link} to={`/jobs/${id}`} size="sm">job {id}</Anchor>}
      {asked && <Settings run={run} how={how} onChange={setHow} />}
      {begin.error && <Failed error={begin.error} />}
      {job.data?.problem && <span className="warn">{job.data.problem.detail}</span>}
    </Group>
  );
}

const KERNELS = ["linear", "rbf", "polynomial", "sigmoid", "cosine"];

interface SettingsProps {
  run: Run;
  how: AnalysisSettings;
  onChange: (how: AnalysisSettings) => void;
}

/** What lists are compared with, and by what. */
function Settings({ run, how, onChange }: SettingsProps) {
  const columns = (useVersion(run.data).data?.item_columns ?? []).map((each) => each.name).filter((each) => each !== "id");
  const set = (part: Partial<AnalysisSettings>) => onChange({ ...how, ...part });
  return (
    <Group align="end" gap="md" w="100%">
      <NumberInput size="xs" w={150} label="Places of each list" hideControls min={1} max={100} value={how.n} onChange={(n) => n !== "" && set({ n: Number(n) })} />
      <NumberInput size="xs" w={190} label="Places of lists anybody expects" hideControls min={1} max={1000} value={how.expected_n} onChange={(n) => n !== "" && set({ expected_n: Number(n) })} />
      <MultiSelect size="xs" w={300} label="Columns that say what an item is" placeholder={how.content.length ? "" : "all categories"} data={columns} value={how.content} onChange={(content) => set({ content })} />
      <Select size="xs" w={150} label="Kernel of the index" allowDeselect={false} data={KERNELS} value={how.kernel} onChange={(kernel) => kernel && set({ kernel: kernel as AnalysisSettings["kernel"] })} />
    </Group>
  );
}
