import { Alert, Anchor, SegmentedControl, Select } from "@mantine/core";
import { Link } from "react-router";
import { useRun, type Run } from "../../api/contests";
import { count } from "../../parts/format";
import { FigureTable } from "../../parts/FigureTable";
import { Section } from "../../parts/page";
import { useSearch } from "../../parts/search";
import { JobProgress } from "../../parts/jobs/JobProgress";
import { shapesOf } from "../../parts/charts/shapes";
import { Loaded } from "../../parts/states";
import { Ablations } from "./Ablations";
import { AgreementView } from "./figures/AgreementView";
import { BesideView } from "./BesideView";
import { ChoiceView } from "./ChoiceView";
import { CurvesView } from "./figures/CurvesView";
import { figureOf, Leaderboard } from "./Leaderboard";
import { ListsView } from "../lists/ListsView";
import { MetricAgainstK } from "./figures/MetricAgainstK";
import { ReliabilityOfRun } from "./figures/ReliabilityOfRun";
import { SegmentsView } from "./figures/SegmentsView";
import { ShelvesOfRun } from "./ShelvesOfRun";
import { Sentences } from "./Sentences";
import { TuningView } from "./figures/TuningView";
import { ValuesView } from "./figures/ValuesView";
import { WhatBeatsWhat } from "./figures/WhatBeatsWhat";

const OPEN = ["queued", "running"];
const NEW_SIDES = [["new users, judged", "new_users"], ["new items, judged", "new_items"]] as const;

type Part = NonNullable<Run["parts"]>[number];

/** One run: leaderboard, metric against k, what the figures rest on. */
export function RunView({ name }: { name: string }) {
  const query = useRun(name);
  return <Loaded query={query}>{(run) => <RunBody run={run} />}</Loaded>;
}

function RunBody({ run }: { run: Run }) {
  const [search, choose] = useSearch();
  const names = run.metrics.map((each) => each.label);
  const metric = names.find((each) => each === search.get("metric")) ?? run.decide_by;
  const facts = run.metrics.find((each) => each.label === metric);
  const hasValidation = (run.standings ?? []).some((standing) => standing.figures?.some((f) => f.part === "validation"));
  const part = hasValidation && search.get("part") === "validation" ? "validation" : "test";
  const shapes = shapesOf(run.spec.contenders);
  return (
    <>
      <p className="quiet">
        On <Anchor component={Link} to={`/data/${run.data}`}>{run.data}</Anchor>, decided by {run.decide_by}; {run.state}
        {OPEN.includes(run.state) && <> (<Anchor component={Link} to={`/jobs/${run.job}`}>job {run.job}</Anchor>)</>}.
        {run.winner && <> Best on {run.chosen_on}: <strong>{run.winner}</strong>.</>}
      </p>
      {OPEN.includes(run.state) && <JobProgress id={run.job} />}
      {run.caution && <Alert color="ochre" variant="outline" my="sm">{run.caution}</Alert>}
      <Section
        title={`Leaderboard, ${metric} on the ${part} part`}
        side={
          <>
            <Select aria-label="Metric" size="xs" w={140} data={names} value={metric} allowDeselect={false} onChange={(value) => value && choose("metric", value)} />
            {hasValidation && <SegmentedControl aria-label="Part" size="xs" data={["test", "validation"]} value={part} onChange={(value) => choose("part", value)} />}
          </>
        }
      >
        <Leaderboard run={run} metric={metric} part={part} shapes={shapes} />
      </Section>
      {run.comparison && <Sentences lines={run.comparison.summary} />}
      {run.comparison && <Ablations comparison={run.comparison} />}
      {run.winner && <ShelvesOfRun run={run} />}
      {run.winner && <ChoiceView run={run} shapes={shapes} />}
      {run.comparison && <WhatBeatsWhat run={run} metric={metric} shapes={shapes} />}
      <TuningView run={run} />
      <CurvesView run={run} shapes={shapes} />
      <SegmentsView run={run} metric={metric} part={part} shapes={shapes} />
      {run.metrics.some((each) => each.sort === "values" && run.standings?.some((one) => figureOf(one, each.label, part))) && <ValuesView run={run} part={part} shapes={shapes} />}
      {run.winner && <ReliabilityOfRun run={run} shapes={shapes} />}
      <MetricAgainstK run={run} metric={facts?.name ?? metric} part={part} shapes={shapes} />
      {run.winner && <AgreementView run={run} part={part} />}
      {run.winner && <ListsView run={run} />}
      <BesideView run={run} metric={metric} part={part} />
      <Grounds run={run} />
    </>
  );
}

/** What the figures rest on: the parts, the preparation, the definitions, the file. */
function Grounds({ run }: { run: Run }) {
  const kept = NEW_SIDES.filter(([, key]) => run.parts?.some((row) => row[key] != null));
  const cell = (value: number | null | undefined) => (value === null || value === undefined ? "" : count(value));
  return (
    <>
      <Section title="Parts of the data">
        <FigureTable
          label="Parts of the data"
          rows={run.parts ?? []}
          rowKey={(row) => `${row.part} ${row.fold ?? ""}`}
          columns={[
            { title: "part", value: (row) => (row.fold == null ? row.part : `${row.part} ${row.fold}`) },
            { title: "from", value: (row) => row.starts ?? null, show: (row) => row.starts?.slice(0, 10) ?? "" },
            { title: "rows", number: true, value: (row) => row.rows, show: (row) => cell(row.rows) },
            { title: "users", number: true, value: (row) => row.users, show: (row) => cell(row.users) },
            { title: "items", number: true, value: (row) => row.items, show: (row) => cell(row.items) },
            { title: "users scored", number: true, value: (row) => row.users_counted ?? null, show: (row) => cell(row.users_counted) },
            { title: "relevant pairs", number: true, value: (row) => row.pairs_counted ?? null, show: (row) => cell(row.pairs_counted) },
            { title: "unseen users", number: true, value: (row) => row.unseen_users ?? null, show: (row) => cell(row.unseen_users) },
            { title: "unseen items", number: true, value: (row) => row.unseen_items ?? null, show: (row) => cell(row.unseen_items) },
            ...kept.map(([title, key]) => ({ title, number: true, value: (row: Part) => row[key] ?? null, show: (row: Part) => cell(row[key]) })),
            { title: "leaks", value: (row) => (row.leak ? (row.leak.leaks ? row.leak.verdict : "none") : null), show: (row) => row.leak && <span className={row.leak.leaks ? "warn" : undefined}>{row.leak.leaks ? row.leak.verdict : "none"}</span> },
          ]}
        />
      </Section>
      <div className="columns">
        <Section title="What the figures mean">
          <dl className="quiet" style={{ margin: 0 }}>
            {Object.entries(run.definitions ?? {}).map(([term, text]) => (
              <div key={term} style={{ marginBottom: 4 }}>
                <dt style={{ display: "inline", fontWeight: 640 }}>{term}</dt>
                <dd style={{ display: "inline", margin: 0 }}>: {text}</dd>
              </div>
            ))}
          </dl>
        </Section>
        <Section title="Preparation and file">
          <ul className="quiet" style={{ margin: 0, paddingLeft: "1.1rem" }}>
            {(run.preparation ?? []).map((step) => (
              <li key={step.name}>
                {step.name}: {count(step.rows_in)} to {count(step.rows_out)} rows; {step.note}
              </li>
            ))}
          </ul>
          <pre className="file" tabIndex={0}>{run.file}</pre>
        </Section>
      </div>
    </>
  );
}
