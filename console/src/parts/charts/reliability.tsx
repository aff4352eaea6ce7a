import { ErrorBar } from "recharts";
import { decadePercent, decades } from "./axes";

interface Bin {
  said: number;
  taken: number;
  low: number;
  high: number;
}

/** Both axes of what was said against what came true: the same whole powers of ten. */
export function chanceAxes(bins: Bin[]) {
  const ticks = decades(bins.flatMap((bin) => [bin.said, bin.taken]));
  const axis = { type: "number" as const, scale: "log" as const, domain: [ticks[0] ?? 0.001, ticks[ticks.length - 1] ?? 1], ticks, tickFormatter: decadePercent };
  return { x: axis, y: { ...axis, width: 62 }, lowest: ticks[0] ?? 0.001 };
}

/** A bin as what a chart draws: how often its pairs were taken, and how far the interval reaches down and up from there. */
export function drawn(bin: Bin, label: string, lowest: number) {
  // zero has no place on a scale of powers of ten: nothing is drawn at it, and an interval from it begins at the edge
  if (bin.taken <= 0) return { said: bin.said, "as said": bin.said };
  return { said: bin.said, "as said": bin.said, [label]: bin.taken, [reach(label)]: [bin.taken - Math.max(bin.low, lowest), bin.high - bin.taken] };
}

/** The 95 % interval of each point of a line. */
export function Interval({ label, color }: { label: string; color: string }) {
  return <ErrorBar dataKey={reach(label)} direction="y" width={4} strokeWidth={1.5} stroke={color} />;
}

const reach = (label: string) => `interval of ${label}`;
