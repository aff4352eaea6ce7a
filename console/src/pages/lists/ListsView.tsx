import { Anchor, Button, Progress, Select } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link } from "react-router";
import { type Run } from "../../api/contests";
import { type Schemas } from "../../api/http";
import { useJob } from "../../api/jobs";
import { useAnalyseLists, useListWork } from "../../api/lists";
import { useModels } from "../../api/models";
import { FigureTable } from "../../parts/FigureTable";
import { count, moment } from "../../parts/format";
import { Section } from "../../parts/page";
import { useSearch } from "../../parts/search";
import { Loaded, Empty, Failed } from "../../parts/states";
import { isOpen } from "../../api/jobs";
import { AnalysisView } from "./AnalysisView";
import { ScoreFile } from "./ScoreFile";
import { ScoresView } from "./ScoresView";

type Work = Schemas["ListWork"];

/** Lists made elsewhere that were scored, and lists that were analysed, on the run's data; one of them in full. */
export function ListsView({ run }: { run: Run }) {
  const [search, choose] = useSearch();
  const query = useListWork(run.data);
  const open = (job: number) => choose("lists", String(job));
  return (
    <Loaded query={query}>
      {({ items }) => {
        const chosen = items.find((each) => String(each.job) === search.get("lists"));
        return (
          <>
            <Section title={`Lists scored and analysed on ${run.data}`} side={<><ScoreFile run={run} open={open} /><Analyse run={run} open={open} /></>}>
              {items.length === 0 ? (
                <Empty what="None yet. Lists that were made elsewhere can be scored beside these contenders: a file with the columns user, item, and place or score." />
              ) : (
                <Made items={items} open={open} />
              )}
            </Section>
            {chosen?.work === "analysis" && <AnalysisView job={chosen.job} />}
            {chosen?.work === "scores" && <ScoresView job={chosen.job} />}
          </>
        );
      }}
    </Loaded>
  );
}

function Made({ items, open }: { items: Work[]; open: (job: number) => void }) {
  return (
    <FigureTable
      label="Lists scored and analysed"
      rows={items}
      rowKey={(row) => String(row.job)}
      pageSize={8}
      columns={[
        { title: "lists", value: (row) => row.label, show: (row) => <Anchor component="button" type="button" inherit onClick={() => open(row.job)}>{row.label}</Anchor> },
        { title: "work", value: (row) => row.work },
        { title: "beside", value: (row) => row.beside ?? null },
        { title: "users", number: true, value: (row) => row.users, show: (row) => count(row.users) },
        { title: "ended", value: (row) => row.ended_at, show: (row) => moment(row.ended_at) },
        { title: "job", number: true, value: (row) => row.job, show: (row) => <Anchor component={Link} to={`/jobs/${row.job}`}>{row.job}</Anchor> },
      ]}
    />
  );
}

/** Starts an analysis of the lists of a model of this data, shows its progress, and opens the result. */
function Analyse({ run, open }: { run: Run; open: (job: number) => void }) {
  const [search, choose] = useSearch();
  const queries = useQueryClient();
  const models = useModels();
  const names = (models.data?.items ?? []).filter((each) => each.data === run.data).map((each) => each.name);
  const model = names.find((each) => each === search.get("analysed")) ?? names.find((each) => run.winner && each.includes(`.${run.winner}@`)) ?? names[0];
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
    <>
      <Select
        aria-label="Model whose lists are analysed" size="xs" w={220} data={names} value={model} allowDeselect={false} searchable
        onChange={(value) => value && choose("analysed", value)}
      />
      <Button size="compact-xs" variant="default" disabled={busy} onClick={() => begin.mutate(model)}>Analyse its lists</Button>
      {busy && <Progress value={(job.data?.progress ?? 0) * 100} w={90} size="sm" aria-label="Progress of the analysis" />}
      {busy && id !== undefined && <Anchor component={Link} to={`/jobs/${id}`} size="sm">job {id}</Anchor>}
      {begin.error && <Failed error={begin.error} />}
      {job.data?.problem && <span className="warn">{job.data.problem.detail}</span>}
    </>
  );
}
