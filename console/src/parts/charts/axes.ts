import { count } from "../format";

/** Round numbers from the lowest to the highest of what is drawn, some four to seven of them. */
export function roundTicks(values: number[]): number[] {
  const [low, high] = [Math.min(...values), Math.max(...values)];
  if (!(high > low)) return [low];
  const step = roundStep(high - low);
  return multiples(step, Math.ceil(low / step - 1e-9), Math.floor(high / step + 1e-9));
}

/** A fifth of a range, up to the next 1, 2 or 5 with zeros. */
function roundStep(range: number): number {
  const rough = range / 5;
  const ten = 10 ** Math.floor(Math.log10(rough));
  return ten * ([1, 2, 5, 10].find((each) => each * ten >= rough * (1 - 1e-9)) ?? 10);
}

function multiples(step: number, first: number, last: number): number[] {
  return Array.from({ length: last - first + 1 }, (_, place) => Number(((first + place) * step).toPrecision(12)));
}

/** An axis from a round number below all that is drawn to one above it, its ticks with the same number of places. */
export function roundAxis(drawn: (number | null | undefined)[]) {
  const values = drawn.filter((each): each is number => Number.isFinite(each));
  if (values.length === 0) return {};
  const [low, high] = [Math.min(...values), Math.max(...values)];
  // where all figures are alike the steps are as large as they are
  const step = roundStep(high > low ? high - low : Math.abs(low) || 1);
  const [first, last] = [Math.floor(low / step + 1e-9), Math.ceil(high / step - 1e-9)];
  const ticks = multiples(step, first, Math.max(last, first + 1));
  const places = Math.max(0, -Math.floor(Math.log10(step) + 1e-9));
  return {
    ticks,
    domain: [ticks[0] ?? low, ticks[ticks.length - 1] ?? high],
    // none is left out, and the outermost stay at their lines
    interval: 0,
    tickFormatter: (value: number) => (places > 0 ? value.toFixed(places) : count(value)),
  };
}

/** Where a range of whole numbers begins, "3" of "3-4"; whatever is none, such as a month, stays as it is. */
export function rangeStart(label: string): string {
  const [, from, to] = /^(\d+)-(\d+)$/.exec(label) ?? [];
  return from !== undefined && Number(to) > Number(from) ? from : label;
}

/** A share that is a power of ten. */
export function decadePercent(share: number): string {
  return `${Number((share * 100).toPrecision(1))} %`;
}

/** Round numbers within what is drawn on a scale of powers of ten: 1, 2 and 5 with zeros, over a wide range 1 alone. */
export function logTicks(values: number[]): number[] {
  const drawn = values.filter((each) => each > 0);
  const [low, high] = [Math.min(...drawn), Math.max(...drawn)];
  const steps = high / low > 500 ? [1] : [1, 2, 5];
  const round = decades(drawn).flatMap((ten) => steps.map((step) => Number((step * ten).toPrecision(3))));
  const ticks = round.filter((each) => each >= low && each <= high);
  return ticks.length > 1 ? ticks : roundTicks(drawn);
}

/** Round powers of ten around what is drawn. */
export function decades(values: number[]): number[] {
  const found = values.filter((each) => each > 0).map(Math.log10);
  const first = Math.floor(Math.min(...found));
  const last = Math.ceil(Math.max(...found));
  return Array.from({ length: last - first + 1 }, (_, place) => 10 ** (first + place));
}
