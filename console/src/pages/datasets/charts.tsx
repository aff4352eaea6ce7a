import "@mantine/charts/styles.css";
import { AreaChart, BarChart, LineChart } from "@mantine/charts";
import type { Schemas } from "../../api/http";
import { ChartFrame } from "../../parts/charts/ChartFrame";
import { rangeStart, roundTicks } from "../../parts/charts/axes";
import { count, percent } from "../../parts/format";
import { DASHES, SERIES } from "../../parts/charts/shapes";
import { byPeriod, type Bar } from "./series";

/** An axis of how many: whole and round. */
const wholeAxis = (counts: number[]) => ({ ticks: roundTicks([0, ...counts]).filter(Number.isInteger), domain: [0, Math.max(1, ...counts)] });
/** A label below each bar, smaller; colour and place are those of the chart's own. */
const EVERY_LABEL = { interval: 0, tick: { fontSize: 10, fill: "currentColor", transform: "translate(0, 10)" } };

const PERIODS: Record<string, string> = { "1d": "day", "1w": "week", "1mo": "month", "1y": "year" };

/** Rows by period, one band a kind. */
export function OverTime({ profile }: { profile: Schemas["Profile"] }) {
  const { rows, kinds } = byPeriod(profile);
  const series = kinds.map((kind, place) => ({
    name: kind,
    color: SERIES[place % SERIES.length] ?? "gray",
    strokeDasharray: DASHES[place % DASHES.length],
  }));
  const period = PERIODS[profile.over_time?.period ?? ""] ?? "period";
  const left = profile.over_time?.left_out ?? 0;
  return (
    <ChartFrame
      title={`Interactions per ${period}${left ? `, without ${count(left)} ${left === 1 ? "row" : "rows"} at times far from all others` : ""}`}
      rows={rows}
      rowKey={(row) => row.at}
      columns={[
        { title: `${period} from`, value: (row) => row.at },
        ...kinds.map((kind) => ({ title: kind, number: true, value: (row: (typeof rows)[number]) => row[kind] ?? 0 })),
      ]}
    >
      <AreaChart
        h={210}
        data={rows}
        dataKey="at"
        type="stacked"
        series={series}
        withLegend
        withDots={false}
        fillOpacity={0.35}
        curveType="step"
        valueFormatter={count}
        legendProps={{ verticalAlign: "top", height: 34 }}
      />
    </ChartFrame>
  );
}

/** How much of all interactions the most popular items hold. */
export function LongTail({ profile }: { profile: Schemas["Profile"] }) {
  const rows = profile.long_tail.map((point) => ({ items: point.items, "share of rows": point.rows, "if all were alike": point.items }));
  return (
    <ChartFrame
      title="Long tail"
      rows={rows}
      rowKey={(row) => String(row.items)}
      columns={[
        { title: "most popular items", number: true, value: (row) => row.items, show: (row) => percent(row.items) },
        { title: "share of rows", number: true, value: (row) => row["share of rows"], show: (row) => percent(row["share of rows"]) },
      ]}
    >
      <LineChart
        h={230}
        data={rows}
        dataKey="items"
        series={[
          { name: "share of rows", color: "leaf.7" },
          { name: "if all were alike", color: "ink.4", strokeDasharray: "3 3" },
        ]}
        withDots={false}
        withLegend
        curveType="linear"
        legendProps={{ verticalAlign: "top", height: 34 }}
        valueFormatter={percent}
        xAxisProps={{ type: "number", domain: [0, 1], tickFormatter: percent, ticks: [0, 0.25, 0.5, 0.75, 1] }}
        yAxisProps={{ domain: [0, 1], ticks: [0, 0.25, 0.5, 0.75, 1] }}
        xAxisLabel="most popular share of items"
        tooltipProps={{ labelFormatter: (value) => `${percent(Number(value))} of items` }}
      />
    </ChartFrame>
  );
}

/** Rows by value. */
export function ValueHistogram({ values }: { values: Schemas["Values"] }) {
  const rows = (values.histogram ?? []).map((bin) => ({ value: String(Number(bin.at.toPrecision(4))), rows: bin.rows }));
  return (
    <ChartFrame
      title={`Values (${count(values.missing)} rows have none)`}
      rows={rows}
      rowKey={(row) => row.value}
      columns={[
        { title: values.binned ? "from value" : "value", number: true, value: (row) => Number(row.value) },
        { title: "rows", number: true, value: (row) => row.rows, show: (row) => count(row.rows) },
      ]}
    >
      <BarChart h={230} data={rows} dataKey="value" series={[{ name: "rows", color: "leaf.7" }]} valueFormatter={count} yAxisProps={wholeAxis(rows.map((row) => row.rows))} xAxisLabel={values.binned ? "value, from" : "value"} />
    </ChartFrame>
  );
}

/** How many users or items fall where. */
export function Histogram({ title, rows, axis, what }: { title: string; rows: Bar[]; axis: string; what: string }) {
  const named = rows.map((row) => ({ label: row.label, [what]: row.count }));
  // two ranges side by side would touch: each is labelled where it begins
  const ranges = rows.some((row) => rangeStart(row.label) !== row.label);
  return (
    <ChartFrame
      title={title}
      rows={rows}
      rowKey={(row) => row.label}
      columns={[
        { title: axis, value: (row) => row.label },
        { title: what, number: true, value: (row) => row.count, show: (row) => count(row.count) },
      ]}
    >
      <BarChart h={210} data={named} dataKey="label" series={[{ name: what, color: "leaf.7" }]} valueFormatter={count} yAxisProps={wholeAxis(rows.map((row) => row.count))} xAxisLabel={ranges ? `${axis}, from` : axis} xAxisProps={rows.length <= 12 ? { ...EVERY_LABEL, tickFormatter: rangeStart } : undefined} />
    </ChartFrame>
  );
}
