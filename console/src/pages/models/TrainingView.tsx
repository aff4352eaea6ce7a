import "@mantine/charts/styles.css";
import { LineChart } from "@mantine/charts";
import type { Schemas } from "../../api/http";
import type { ModelCard } from "../../api/models";
import { roundAxis } from "../../parts/charts/axes";
import { ChartFrame } from "../../parts/charts/ChartFrame";
import { Figures } from "../../parts/page";
import { SERIES } from "../../parts/charts/shapes";
import { NetworkPicture } from "./NetworkPicture";

export type Round = Schemas["Round"];

/** How the fit went: losses, and validation metrics where it was watched, by iteration. */
export function TrainingView({ card }: { card: ModelCard }) {
  const rounds = card.rounds ?? [];
  const figures: [string, string][] = [["iterations", String(rounds.length)]];
  if (card.best_iteration != null) figures.push(["best iteration", String(card.best_iteration)]);
  return (
    <>
      <Figures rows={figures} />
      {(card.warnings ?? []).map((text) => <p key={text} className="quiet">Warning: {text}</p>)}
      <RoundCurves rounds={rounds} />
      <NetworkPicture card={card} />
    </>
  );
}

/** A curve of every loss and of every metric, by iteration. */
export function RoundCurves({ rounds }: { rounds: Round[] }) {
  const losses = [...new Set(rounds.flatMap((each) => Object.keys(each.losses)))];
  const metrics = [...new Set(rounds.flatMap((each) => Object.keys(each.metrics)))];
  return (
    <div className="columns">
      {losses.map((name) => <Curve key={name} title={`${name} loss by iteration`} rounds={rounds} of={(each) => each.losses[name] ?? null} colour={0} />)}
      {metrics.map((name) => <Curve key={name} title={`${name} on the validation part`} rounds={rounds} of={(each) => each.metrics[name] ?? null} colour={1} />)}
    </div>
  );
}

function Curve({ title, rounds, of, colour }: { title: string; rounds: Round[]; of: (round: Round) => number | null; colour: number }) {
  const rows = rounds.map((each) => ({ iteration: each.iteration, value: of(each), seconds: each.seconds })).filter((each) => each.value !== null);
  return (
    <ChartFrame
      title={title}
      rows={rows}
      rowKey={(row) => String(row.iteration)}
      columns={[
        { title: "iteration", number: true, value: (row) => row.iteration },
        { title: "value", number: true, value: (row) => row.value, show: (row) => (row.value ?? 0).toFixed(4) },
        { title: "seconds", number: true, value: (row) => row.seconds, show: (row) => row.seconds.toFixed(2) },
      ]}
    >
      <LineChart
        h={210}
        data={rows}
        dataKey="iteration"
        series={[{ name: "value", label: title, color: SERIES[colour] ?? "gray" }]}
        curveType="linear"
        withDots={rows.length < 40}
        yAxisProps={{ ...roundAxis(rows.map((row) => row.value)), width: 60 }}
        valueFormatter={(value) => value.toFixed(4)}
        xAxisLabel="iteration"
      />
    </ChartFrame>
  );
}
