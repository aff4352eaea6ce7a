import "@mantine/charts/styles.css";
import { LineChart } from "@mantine/charts";
import type { Run } from "../../../api/contests";
import { roundAxis } from "../../../parts/charts/axes";
import { ChartFrame } from "../../../parts/charts/ChartFrame";
import { figure } from "../../../parts/format";
import { Mark, Swatch, type Shape } from "../../../parts/charts/shapes";
import { figureOf } from "../Leaderboard";

interface Props {
  run: Run;
  metric: string;
  part: string;
  shapes: Map<string, Shape>;
}

type KRow = { k: number } & Record<string, number>;

/** One metric at every cut-off, a line a contender. */
export function MetricAgainstK({ run, metric, part, shapes }: Props) {
  const standings = run.standings ?? [];
  const cutoffs = run.spec.rank?.at ?? [];
  // metrics of the whole order have no cut-off
  const cut = run.spec.rank?.metrics?.includes(metric) && standings.some((each) => figureOf(each, `${metric}@${cutoffs[0]}`, part));
  if (!cut || cutoffs.length < 2) return null;
  const rows: KRow[] = cutoffs.map((k) => ({
    k,
    ...Object.fromEntries(standings.map((each) => [each.contender, figureOf(each, `${metric}@${k}`, part)?.mean ?? NaN])),
  }));
  const series = standings.map((each) => ({
    name: each.contender,
    color: shapes.get(each.contender)?.color ?? "gray",
    strokeDasharray: shapes.get(each.contender)?.dash,
  }));
  return (
    <ChartFrame
      title={`${metric} against k, ${part} part`}
      rows={rows}
      rowKey={(row) => String(row.k)}
      columns={[
        { title: "k", number: true, value: (row) => row.k },
        ...standings.map((each) => ({ title: each.contender, number: true, value: (row: KRow) => row[each.contender] ?? null, show: (row: KRow) => figure(row[each.contender] ?? 0) })),
      ]}
      side={<Legend names={standings.map((each) => each.contender)} shapes={shapes} />}
    >
      <LineChart
        h={280}
        data={rows}
        dataKey="k"
        series={series}
        curveType="linear"
        valueFormatter={figure}
        xAxisProps={{ type: "number", domain: ["dataMin", "dataMax"], ticks: cutoffs, padding: { left: 20, right: 20 } }}
        yAxisProps={{ ...roundAxis([0, ...series.flatMap(({ name }) => rows.map((row) => row[name]))]), width: 62 }}
        xAxisLabel="k"
        lineProps={(line) => ({ dot: <Dot shape={shapes.get(line.name)} />, activeDot: false })}
      />
    </ChartFrame>
  );
}

export function Dot({ shape, cx, cy }: { shape?: Shape; cx?: number; cy?: number }) {
  if (!shape || cx === undefined || cy === undefined) return null;
  return <Mark shape={shape} x={cx} y={cy} />;
}

export function Legend({ names, shapes }: { names: string[]; shapes: Map<string, Shape> }) {
  return (
    <span className="quiet">
      {names.map((name) => {
        const shape = shapes.get(name);
        return (
          <span key={name} style={{ marginRight: 14 }}>
            {shape && <Swatch shape={shape} />}
            {name}
          </span>
        );
      })}
    </span>
  );
}
