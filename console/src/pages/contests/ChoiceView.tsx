import "@mantine/charts/styles.css";
import { ScatterChart } from "@mantine/charts";
import { Anchor, Button, Select } from "@mantine/core";
import { Link } from "react-router";
import { reportFile, useReleaseChoice, useRelease, type Run, type MetricFacts } from "../../api/contests";
import { type Schemas } from "../../api/http";
import { roundAxis } from "../../parts/charts/axes";
import { ChartFrame } from "../../parts/charts/ChartFrame";
import { figure } from "../../parts/format";
import { JobProgress } from "../../parts/jobs/JobProgress";
import { useJob } from "../../api/jobs";
import { useSearch } from "../../parts/search";
import type { Shape } from "../../parts/charts/shapes";
import { Loaded, Failed } from "../../parts/states";
import { Dot, Legend } from "./figures/MetricAgainstK";

/** What accuracy can be weighed against: figures of the lists at the cut-off to look at, of all lists together first. */
function weighable(run: Run): MetricFacts[] {
  const ofLists = run.metrics.filter((each) => each.sort === "lists" && each.better !== "neither" && (each.k ?? run.cut) === run.cut);
  return ofLists.toSorted((one, other) => Number(one.per_user) - Number(other.per_user));
}

type Point = Schemas["ChoicePoint"];
const COSTS = new Map([["fit_seconds", "time to fit, s"], ["list_ms", "time for a list, ms"], ["peak_memory_mb", "memory at its peak, MB"]]);

/** Accuracy against coverage or cost, which contender to release and why, and the way there. */
export function ChoiceView({ run, shapes }: { run: Run; shapes: Map<string, Shape> }) {
  const [search, choose] = useSearch();
  const possible = [...weighable(run).map((each) => each.label), ...COSTS.keys()];
  const against = possible.find((each) => each === search.get("against")) ?? possible[0] ?? "list_ms";
  const called = COSTS.get(against) ?? against;
  const query = useReleaseChoice(run.name, against);
  const release = useRelease(run.name);
  const side = (
    <Select
      aria-label="Weighed against" size="xs" w={190} data={possible.map((each) => ({ value: each, label: COSTS.get(each) ?? each }))} value={against} allowDeselect={false}
      onChange={(value) => value && choose("against", value)}
    />
  );
  return (
    <Loaded query={query}>
      {(choice) => (
        <>
          <ChartFrame
            title={`${choice.metric} against ${called}, ${choice.part} part`}
            rows={choice.points}
            rowKey={(row) => row.contender}
            columns={[
              { title: "contender", value: (row: Point) => row.contender },
              { title: choice.metric, number: true, value: (row: Point) => row.figure, show: (row: Point) => figure(row.figure) },
              { title: called, number: true, value: (row: Point) => row.against ?? null, show: (row: Point) => row.against?.toPrecision(4) ?? "" },
              { title: "level with the best", value: (row: Point) => (row.level ? "yes" : "") },
              { title: "on the frontier", value: (row: Point) => (row.on_frontier ? "yes" : "") },
            ]}
            side={side}
          >
            <Points choice={choice} against={called} shapes={shapes} />
            <Legend names={choice.points.map((each) => each.contender)} shapes={shapes} />
          </ChartFrame>
          <p>{choice.why}</p>
          <p>
            <Button size="xs" loading={release.isPending} disabled={release.isSuccess} onClick={() => release.mutate(choice.chosen)}>
              Fit {choice.chosen} on every row
            </Button>
            <span className="quiet" style={{ marginLeft: 18 }}>
              Report: <Anchor href={reportFile(run.name, "html")} target="_blank">page</Anchor>,{" "}
              <Anchor href={reportFile(run.name, "markdown")} download={`${run.name}.md`}>Markdown</Anchor>,{" "}
              <Anchor href={reportFile(run.name, "zip")} download={`${run.name}.zip`}>all of it</Anchor>
            </span>
          </p>
          {release.data && <Released job={release.data.id} />}
          {release.error && <Failed error={release.error} />}
        </>
      )}
    </Loaded>
  );
}

/** The fit for release while it runs, and then the way to a shelf. */
function Released({ job }: { job: number }) {
  const done = useJob(job, 1_000).data;
  const model = done?.state === "done" ? String(done.result?.model) : null;
  return (
    <>
      <JobProgress id={job} />
      {model && (
        <p role="status">
          <Anchor component={Link} to={`/models/${model}`}>{model}</Anchor> has learned from every row. <Anchor component={Link} to={`/shelves/new?model=${model}`}>Build a shelf with it</Anchor>
        </p>
      )}
    </>
  );
}

function Points({ choice, against, shapes }: { choice: Schemas["Choice"]; against: string; shapes: Map<string, Shape> }) {
  const data = choice.points.flatMap((each, place) => (each.against == null ? [] : [{
    name: each.contender,
    color: shapes.get(each.contender)?.color ?? "gray",
    data: [{ [against]: each.against, [choice.metric]: each.figure, place }],
  }]));
  const drawn = (dot: { cx?: number; cy?: number; payload?: { place: number } }) => (
    <Dot shape={shapes.get(choice.points[dot.payload?.place ?? 0]?.contender ?? "")} cx={dot.cx} cy={dot.cy} />
  );
  return (
    <ScatterChart
      h={260}
      data={data}
      dataKey={{ x: against, y: choice.metric }}
      xAxisLabel={against}
      yAxisLabel={choice.metric}
      yAxisProps={{ ...roundAxis(choice.points.map((each) => each.figure)), width: 70 }}
      xAxisProps={{ ...roundAxis(choice.points.map((each) => each.against)), padding: { left: 20, right: 20 } }}
      valueFormatter={{ x: (value) => String(Number(value.toPrecision(3))), y: (value) => figure(value) }}
      scatterProps={{ shape: drawn, isAnimationActive: false }}
    />
  );
}
