import "@mantine/charts/styles.css";
import { ScatterChart } from "@mantine/charts";
import { SegmentedControl } from "@mantine/core";
import { useTuning, type Run } from "../../../api/contests";
import { type Schemas } from "../../../api/http";
import { ChartFrame } from "../../../parts/charts/ChartFrame";
import { logTicks, roundAxis, roundTicks } from "../../../parts/charts/axes";
import { figure, percent } from "../../../parts/format";
import { FigureTable, type FigureColumn } from "../../../parts/FigureTable";
import { Section } from "../../../parts/page";
import { useSearch } from "../../../parts/search";
import { SERIES } from "../../../parts/charts/shapes";
import { Loaded } from "../../../parts/states";

type Tuning = Schemas["Tuning"];
type Attempt = Schemas["Attempt"];

const isTuned = (params: Record<string, unknown> | undefined) =>
  Object.values(params ?? {}).some((value) => typeof value === "object" && value !== null && ("choose" in value || "between" in value));

/** What was tried for each tuned contender: parameters against the metric, rank against error, importance, attempts. */
export function TuningView({ run }: { run: Run }) {
  const tuned = run.spec.contenders.filter((each) => isTuned(each.params) && !each.ablates).map((each) => each.label);
  const [search, choose] = useSearch();
  const query = useTuning(run, tuned.length > 0);
  const label = tuned.find((each) => each === search.get("tuned")) ?? tuned[0];
  if (!label) return null;
  const side = tuned.length > 1 && (
    <SegmentedControl aria-label="Tuned contender" size="xs" data={tuned} value={label} onChange={(value) => choose("tuned", value)} />
  );
  return (
    <Section title={`Tuning of ${label}, scored on validation`} side={side}>
      <Loaded query={query}>
        {(tunings) => {
          const tuning = tunings.find((each) => each.contender === label);
          return tuning && tuning.attempts.length > 0 ? <Tried tuning={tuning} /> : <p className="quiet">No attempt has ended yet.</p>;
        }}
      </Loaded>
    </Section>
  );
}

function Tried({ tuning }: { tuning: Tuning }) {
  const names = Object.keys(tuning.ranges);
  const effects = tuning.result?.effects ?? [];
  const others = Object.keys(tuning.attempts.find((each) => each.state === "done")?.figures ?? {}).filter((each) => each !== tuning.metric).slice(0, 4);
  const lossy = tuning.attempts.some((each) => each.training_loss != null);
  const optional = (title: string, value: (row: Attempt) => number | null | undefined): FigureColumn<Attempt> => ({
    title, number: true, value: (row) => value(row) ?? null, show: (row) => { const shown = value(row); return shown == null ? "" : figure(shown); },
  });
  return (
    <>
      <p className="quiet">
        {tuning.attempts.length} attempts{tuning.result && <>; {tuning.result.search} search, ended by: {tuning.result.stopped_by}; attempt {tuning.result.chosen} was taken</>}.
        {effects.length > 0 && <> Share of the variance of {tuning.metric} explained by: {effects.map((each) => `${each.parameter} ${percent(each.share)} (${percent(each.low)} to ${percent(each.high)})`).join(", ")}. The rest is interaction and noise.</>}
      </p>
      <div className="columns">
        {names.map((name) => <Against key={name} tuning={tuning} title={`${name} against ${tuning.metric}`} x={(each) => each.chosen[name]} xName={name} y={(each) => each.value} yName={tuning.metric} />)}
        {names.includes("rank") && ERRORS.map(([title, y]) => <Against key={title} tuning={tuning} title={`rank against ${title}`} x={(each) => each.chosen.rank} xName="rank" y={y} yName={title} />)}
      </div>
      <FigureTable
        label={`Attempts of ${tuning.contender}`}
        rows={tuning.attempts}
        rowKey={(row) => String(row.number)}
        pageSize={10}
        columns={[
          { title: "attempt", number: true, value: (row) => row.number },
          ...names.map((name): FigureColumn<Attempt> => ({ title: name, number: true, value: (row) => cell(row.chosen[name]) })),
          optional(tuning.metric, (row) => row.value),
          ...others.map((name) => optional(name, (row) => row.figures?.[name])),
          ...(lossy ? [optional("training loss", (row) => row.training_loss), optional("validation loss", (row) => row.validation_loss)] : []),
          { title: "state", value: (row) => row.state, show: (row) => <span className={row.state === "failed" ? "warn" : undefined}>{row.state}{row.message ? `: ${row.message}` : ""}</span> },
          { title: "seconds", number: true, value: (row) => row.seconds, show: (row) => row.seconds.toFixed(2) },
        ]}
      />
    </>
  );
}

const ERRORS: [string, (each: Attempt) => number | null | undefined][] = [
  ["rmse on validation", (each) => each.figures?.rmse],
  ["loss on training", (each) => (each.state === "done" ? each.training_loss : null)],
  ["loss on validation", (each) => (each.state === "done" ? each.validation_loss : null)],
];

const cell = (value: unknown) => (typeof value === "number" || typeof value === "string" ? value : JSON.stringify(value));

interface AgainstProps {
  tuning: Tuning;
  title: string;
  x: (each: Attempt) => unknown;
  xName: string;
  y: (each: Attempt) => number | null | undefined;
  yName: string;
}

interface Placed { number: number; x: number; shown: string; y: number; state: string }

/** An axis of what was chosen from, a place each. */
const stepsAxis = (steps: string[]) => ({ domain: [-0.5, steps.length - 0.5], ticks: steps.map((_, place) => place), tickFormatter: (place: number) => steps[place] ?? "" });

function numbersAxis(values: number[], log: boolean) {
  const ticks = (log ? logTicks : roundTicks)(values);
  return { scale: log ? ("log" as const) : ("auto" as const), domain: ["dataMin", "dataMax"], ticks, tickFormatter: (value: number) => String(Number(value.toPrecision(2))) };
}

/** Every attempt as a point: taken, done or pruned. */
function Against({ tuning, title, x, xName, y, yName }: AgainstProps) {
  const range = tuning.ranges[xName] as { choose?: unknown[]; log?: boolean };
  const steps = range.choose?.every((each) => typeof each === "number") ? undefined : range.choose?.map(String);
  const rows: Placed[] = tuning.attempts.flatMap((each) => {
    const height = y(each);
    const at = steps ? steps.indexOf(String(x(each))) : Number(x(each));
    return height == null ? [] : [{ number: each.number, x: at, shown: String(x(each)), y: height, state: each.number === tuning.result?.chosen ? "taken" : each.state }];
  });
  if (rows.length < 2) return null;
  const groups = (["done", "pruned", "taken"] as const).map((state, place) => ({
    name: state, color: ["var(--series-1)", "var(--mantine-color-dimmed)", SERIES[1] ?? "gray"][place] ?? "gray",
    data: rows.filter((row) => row.state === state).map((row) => ({ [xName]: row.x, [yName]: row.y })),
  }));
  return (
    <ChartFrame
      title={title}
      rows={rows}
      rowKey={(row) => String(row.number)}
      columns={[
        { title: "attempt", number: true, value: (row) => row.number },
        { title: xName, number: true, value: (row) => row.x, show: (row) => row.shown },
        { title: yName, number: true, value: (row) => row.y, show: (row) => figure(row.y) },
        { title: "state", value: (row) => row.state },
      ]}
    >
      <ScatterChart
        h={210}
        data={groups.filter((each) => each.data.length > 0)}
        dataKey={{ x: xName, y: yName }}
        xAxisLabel={xName}
        withLegend
        xAxisProps={{ ...(steps ? stepsAxis(steps) : numbersAxis(rows.map((row) => row.x), !!range.log)), padding: { left: 14, right: 14 } }}
        yAxisProps={{ ...roundAxis(rows.map((row) => row.y)), width: 62 }}
        valueFormatter={{ x: (value) => (steps ? steps[value] ?? "" : value.toPrecision(4)), y: (value) => figure(value) }}
        scatterProps={{ isAnimationActive: false }}
      />
    </ChartFrame>
  );
}
