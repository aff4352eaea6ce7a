import { Anchor, Badge } from "@mantine/core";
import { Link } from "react-router";
import type { Run, Standing } from "../../api/contests";
import { duration, figure } from "../../parts/format";
import { FigureTable } from "../../parts/FigureTable";
import { Mark, Swatch, type Shape } from "../../parts/charts/shapes";

const VERDICTS: Record<string, string> = { better: "better", worse: "worse", "cannot tell": "cannot tell", baseline: "baseline" };

interface Props {
  run: Run;
  metric: string;
  part: string;
  shapes: Map<string, Shape>;
}

export function figureOf(standing: Standing, metric: string, part: string) {
  return standing.figures?.find((each) => each.metric === metric && each.part === part);
}

function intervalOf(standing: Standing, metric: string, part: string) {
  const value = figureOf(standing, metric, part);
  return value?.low == null || value.high == null ? null : `${value.low} to ${value.high}`;
}

/** Contenders by one metric, each with its interval to scale and the popularity line through all rows. */
export function Leaderboard({ run, metric, part, shapes }: Props) {
  const sign = run.less_is_better?.includes(metric) ? -1 : 1;
  const worth = (standing: Standing) => sign * (figureOf(standing, metric, part)?.mean ?? -sign * Infinity);
  const standings = (run.standings ?? []).toSorted((a, b) => worth(b) - worth(a));
  if (!standings.length) return <p className="quiet">No contender has finished yet.</p>;
  const highest = Math.max(...standings.map((each) => figureOf(each, metric, part)?.high ?? figureOf(each, metric, part)?.mean ?? 0)) || 1;
  const baseline = standings.find((each) => each.against_popular?.verdict === "baseline");
  const called = baseline?.family === "popular" ? "popularity" : (baseline?.family ?? "").replace("_", " ");
  const line = baseline && figureOf(baseline, metric, part)?.mean;
  return (
    <FigureTable
      label={`Leaderboard of ${run.name} by ${metric}`}
      rows={standings}
      rowKey={(row) => row.contender}
      columns={[
        { title: "contender", value: (row) => row.contender, show: (row) => <Name standing={row} shape={shapes.get(row.contender)} won={row.contender === run.winner} /> },
        { title: metric, number: true, value: (row) => figureOf(row, metric, part)?.mean ?? null, show: (row) => <Mean standing={row} metric={metric} part={part} /> },
        {
          title: `95 % interval, dashed: ${called}`,
          width: "38%",
          flush: true,
          value: (row) => intervalOf(row, metric, part),
          show: (row) => <Interval standing={row} metric={metric} part={part} highest={highest} line={line} shape={shapes.get(row.contender)} />,
        },
        { title: `against ${called} (${run.decide_by}, test)`, value: (row) => row.against_popular?.difference ?? null, show: (row) => <Against standing={row} /> },
        { title: "fit", number: true, value: (row) => row.fit_seconds, show: (row) => duration(row.fit_seconds) },
        { title: "memory", number: true, value: (row) => row.peak_memory_mb, show: (row) => `${row.peak_memory_mb.toFixed(0)} MB` },
      ]}
    />
  );
}

function Mean({ standing, metric, part }: { standing: Standing; metric: string; part: string }) {
  const value = figureOf(standing, metric, part);
  return value ? <strong>{figure(value.mean)}</strong> : <span className="quiet">none</span>;
}

function Name({ standing, shape, won }: { standing: Standing; shape?: Shape; won: boolean }) {
  return (
    <>
      {shape && <Swatch shape={shape} />}
      {standing.model ? <Anchor component={Link} to={`/models/${standing.model}`}>{standing.contender}</Anchor> : standing.contender}
      {won && <Badge ml={8} size="xs" variant="outline">winner</Badge>}
    </>
  );
}

function Against({ standing }: { standing: Standing }) {
  const gap = standing.against_popular;
  if (!gap || gap.verdict === "baseline") return <span className="quiet">baseline</span>;
  // no contender has the figure user by user, or this one has none: nothing was compared
  if (!gap.difference && !gap.low && !gap.high) return null;
  const sign = gap.difference >= 0 ? "+" : "−";
  return (
    <span className={gap.verdict === "better" ? undefined : "warn"}>
      {VERDICTS[gap.verdict]} ({sign}{figure(Math.abs(gap.difference))})
    </span>
  );
}

interface IntervalProps {
  standing: Standing;
  metric: string;
  part: string;
  highest: number;
  line: number | undefined;
  shape?: Shape;
}

function Interval({ standing, metric, part, highest, line, shape }: IntervalProps) {
  const value = figureOf(standing, metric, part);
  if (!value || !shape) return null;
  const { low, high } = value;
  const at = (value: number) => `${(value / highest) * 96 + 1}%`;
  return (
    <svg className="interval" role="img" aria-label={low == null || high == null ? "no interval" : `${figure(low)} to ${figure(high)}`}>
      {line !== undefined && <line x1={at(line)} x2={at(line)} y1="0" y2="100%" stroke="var(--mantine-color-dimmed)" strokeDasharray="3 3" />}
      {low != null && high != null && <line x1={at(low)} x2={at(high)} y1="50%" y2="50%" stroke={shape.color} strokeWidth="2" />}
      {[low, high].map((edge, side) => edge != null && <line key={side} x1={at(edge)} x2={at(edge)} y1="34%" y2="66%" stroke={shape.color} strokeWidth="2" />)}
      <svg x={at(value.mean)} y="50%" overflow="visible">
        <Mark shape={shape} x={0} y={0} />
      </svg>
    </svg>
  );
}
