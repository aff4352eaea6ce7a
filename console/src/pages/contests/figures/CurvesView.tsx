import "@mantine/charts/styles.css";
import { LineChart } from "@mantine/charts";
import { useCurves, type Run } from "../../../api/contests";
import { type Schemas } from "../../../api/http";
import { roundAxis, roundTicks } from "../../../parts/charts/axes";
import { ChartFrame } from "../../../parts/charts/ChartFrame";
import { count, figure, percent } from "../../../parts/format";
import type { Shape } from "../../../parts/charts/shapes";
import { Loaded } from "../../../parts/states";
import { Dot, Legend } from "./MetricAgainstK";

type Curve = Schemas["LearningCurve"];
type Row = { at: number } & Record<string, number | null>;

/** How the deciding metric grows with data and with iterations, and the losses of training and validation. */
export function CurvesView({ run, shapes }: { run: Run; shapes: Map<string, Shape> }) {
  const query = useCurves(run);
  if (!query.data?.length) return null;
  return (
    <Loaded query={query}>
      {(curves) => {
        const learned = curves.filter((each) => each.rounds.some((round) => "validation" in round.losses));
        return (
          <>
            <ByAmount curves={curves.filter((each) => each.amounts?.length)} metric={run.decide_by} shapes={shapes} />
            <ByIteration curves={curves.filter((each) => each.rounds.some((round) => run.decide_by in round.metrics))} metric={run.decide_by} shapes={shapes} />
            <div className="columns">{learned.map((each) => <Losses key={each.contender} curve={each} />)}</div>
          </>
        );
      }}
    </Loaded>
  );
}

interface Props { curves: Curve[]; metric: string; shapes: Map<string, Shape> }

function ByAmount({ curves, metric, shapes }: Props) {
  const first = curves[0]?.amounts ?? [];
  if (first.length === 0) return null;
  const rows: Row[] = first.map((point) => ({ at: point.share, cells: point.cells, ...Object.fromEntries(curves.map((each) => [each.contender, each.amounts?.find((own) => own.share === point.share)?.mean ?? null])) }));
  return <Lines title={`${metric} on validation by share of the training cells`} label="share of the cells" rows={rows} names={curves.map((each) => each.contender)} shapes={shapes} tell={percent} cells />;
}

function ByIteration({ curves, metric, shapes }: Props) {
  if (curves.length === 0) return null;
  const marks = [...new Set(curves.flatMap((each) => each.rounds.filter((round) => metric in round.metrics).map((round) => round.iteration)))].sort((a, b) => a - b);
  const rows: Row[] = marks.map((at) => ({ at, ...Object.fromEntries(curves.map((each) => [each.contender, each.rounds.find((round) => round.iteration === at)?.metrics[metric] ?? null])) }));
  return <Lines title={`${metric} on validation by iteration`} label="iteration" rows={rows} names={curves.map((each) => each.contender)} shapes={shapes} tell={String} />;
}

function Lines({ title, label, rows, names, shapes, tell, cells }: { title: string; label: string; rows: Row[]; names: string[]; shapes: Map<string, Shape>; tell: (at: number) => string; cells?: boolean }) {
  const at = rows.map((row) => row.at);
  return (
    <ChartFrame
      title={title}
      rows={rows}
      rowKey={(row) => String(row.at)}
      columns={[
        { title: label, number: true, value: (row) => row.at, show: (row) => tell(row.at) },
        ...(cells ? [{ title: "cells", number: true, value: (row: Row) => row.cells ?? null, show: (row: Row) => count(row.cells ?? 0) }] : []),
        ...names.map((name) => ({ title: name, number: true, value: (row: Row) => row[name] ?? null, show: (row: Row) => (row[name] == null ? "" : figure(row[name])) })),
      ]}
      side={<Legend names={names} shapes={shapes} />}
    >
      <LineChart
        h={250}
        data={rows}
        dataKey="at"
        series={names.map((name) => ({ name, color: shapes.get(name)?.color ?? "gray", strokeDasharray: shapes.get(name)?.dash }))}
        curveType="linear"
        connectNulls
        valueFormatter={figure}
        xAxisProps={{ type: "number", domain: ["dataMin", "dataMax"], tickFormatter: tell, padding: { left: 20, right: 20 }, ticks: rows.length < 9 ? at : roundTicks(at) }}
        yAxisProps={{ ...roundAxis([0, ...names.flatMap((name) => rows.map((row) => row[name]))]), width: 62 }}
        xAxisLabel={label}
        lineProps={(line) => ({ dot: <Dot shape={shapes.get(line.name)} />, activeDot: false })}
      />
    </ChartFrame>
  );
}

function Losses({ curve }: { curve: Curve }) {
  const rows = curve.rounds.map((round) => ({ iteration: round.iteration, training: round.losses.training ?? null, validation: round.losses.validation ?? null }));
  return (
    <ChartFrame
      title={`${curve.contender}: loss by iteration`}
      rows={rows}
      rowKey={(row) => String(row.iteration)}
      columns={[
        { title: "iteration", number: true, value: (row) => row.iteration },
        { title: "training", number: true, value: (row) => row.training, show: (row) => row.training?.toPrecision(4) ?? "" },
        { title: "validation", number: true, value: (row) => row.validation, show: (row) => row.validation?.toPrecision(4) ?? "" },
      ]}
    >
      <LineChart
        h={200}
        data={rows}
        dataKey="iteration"
        series={[{ name: "training", color: "var(--series-1)", strokeDasharray: "6 3" }, { name: "validation", color: "var(--series-2)" }]}
        curveType="linear"
        withLegend
        withDots={false}
        yAxisProps={{ ...roundAxis(rows.flatMap((row) => [row.training, row.validation])), width: 60 }}
        valueFormatter={(value) => value.toPrecision(4)}
      />
    </ChartFrame>
  );
}
