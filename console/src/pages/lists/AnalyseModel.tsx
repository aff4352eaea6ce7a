import { Anchor, Button, Group, Progress, Select } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link } from "react-router";
import type { Run } from "../../api/contests";
import { isOpen, useJob } from "../../api/jobs";
import { useAnalyseLists, type Analysis } from "../../api/lists";
import { useModels } from "../../api/models";
import { useSearch } from "../../parts/search";
import { Failed } from "../../parts/states";

/** Starts an analysis of the lists of a model of this data, shows its progress, and opens the result. */
export function AnalyseModel({ run, how, open }: { run: Run; how: Analysis; open: (job: number) => void }) {
  const [search, choose] = useSearch();
  const queries = useQueryClient();
  const models = useModels();
  const names = (models.data?.items ?? []).filter((each) => each.data === run.data).map((each) => each.name);
  const model = names.find((each) => each === search.get("analysed")) ?? names.find((each) => run.winner && each.startsWith(`${run.contest}.${run.winner}@`)) ?? names[0];
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
      <Button size="compact-xs" variant="default" disabled={busy} onClick={() => begin.mutate({ lists: { model }, how })}>Analyse its lists</Button>
      {busy && <Progress value={(job.data?.progress ?? 0) * 100} w={90} size="sm" aria-label="Progress of the analysis" />}
      {busy && id !== undefined && <Anchor component={Link} to={`/jobs/${id}`} size="sm">job {id}</Anchor>}
      {begin.error && <Failed error={begin.error} />}
      {job.data?.problem && <span className="warn">{job.data.problem.detail}</span>}
    </Group>
  );
}
