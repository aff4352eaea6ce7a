import "@mantine/charts/styles.css";
import { LineChart } from "@mantine/charts";
import type { Schemas } from "../../api/http";
import { ChartFrame } from "../../parts/charts/ChartFrame";
import { count } from "../../parts/format";

/** Events and lists of each of the last sixty minutes. */
export function LastHour({ state }: { state: Schemas["LiveState"] }) {
  const rows = state.events_per_minute.map((events, place) => ({
    ago: place - 59,
    events,
    lists: state.lists_per_minute[place] ?? 0,
  }));
  return (
    <ChartFrame
      title="Last hour, by minute"
      rows={rows}
      rowKey={(row) => String(row.ago)}
      columns={[
        { title: "minute", number: true, value: (row) => row.ago },
        { title: "events", number: true, value: (row) => row.events },
        { title: "lists", number: true, value: (row) => row.lists },
      ]}
    >
      <LineChart
        h={210}
        data={rows}
        dataKey="ago"
        series={[
          { name: "events", color: "leaf.7" },
          { name: "lists", color: "ochre.6", strokeDasharray: "5 3" },
        ]}
        withDots={false}
        withLegend
        curveType="linear"
        valueFormatter={count}
        yAxisProps={{ allowDecimals: false }}
        xAxisProps={{ ticks: [-45, -30, -15, 0], tickFormatter: (minute: number) => (minute === 0 ? "now" : `${-minute} min ago`) }}
        legendProps={{ verticalAlign: "top", height: 34 }}
      />
    </ChartFrame>
  );
}
