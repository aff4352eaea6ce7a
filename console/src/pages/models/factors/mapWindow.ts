import { type Schemas } from "../../../api/http";
import { count } from "../../../parts/format";
import { GROUPS, UNGROUPED, type Shape } from "../../../parts/charts/shapes";

export type Point = Schemas["MapPoint"];
export interface Window {
  x: [number, number];
  y: [number, number];
}

const MARGIN = 0.04;

function span(values: number[], middle: number | undefined, closer: number): [number, number] {
  const [low, high] = [Math.min(...values), Math.max(...values)];
  const half = (((high - low) / 2 || 1) * (1 + MARGIN)) / 2 ** closer;
  const at = closer === 0 || middle === undefined ? (low + high) / 2 : middle;
  return [at - half, at + half];
}

/** The part of the map that is drawn: all of it, or so many times halved around the item chosen, or around its middle. */
export function windowOf(points: Point[], chosen: Point | undefined, closer: number): Window {
  if (points.length === 0) return { x: [-1, 1], y: [-1, 1] };
  return { x: span(points.map((each) => each.x), chosen?.x, closer), y: span(points.map((each) => each.y), chosen?.y, closer) };
}

/** The points within it, in their order. */
export function inWindow(points: Point[], { x, y }: Window): Point[] {
  return points.filter((each) => each.x >= x[0] && each.x <= x[1] && each.y >= y[0] && each.y <= y[1]);
}

export interface PointGroup {
  name: string;
  shape: Shape;
  data: { x: number; y: number; place: number }[];
}

/** The most frequent values with a colour and a mark each, all others together; of each point where it lies and its
 * place among the given ones, for the chart takes numbers alone. */
export function groupsOf(points: Point[]): PointGroup[] {
  const [first = UNGROUPED, ...shapes] = GROUPS;
  const counts = new Map<string, number>();
  for (const { value } of points) if (value != null) counts.set(value, (counts.get(value) ?? 0) + 1);
  const named = [...counts].sort(([, one], [, other]) => other - one).slice(0, shapes.length).map(([value]) => value);
  const of = (wanted: (value: string | null | undefined) => boolean) =>
    points.flatMap(({ x, y, value }, place) => (wanted(value) ? [{ x, y, place }] : []));
  const groups = named.map((name, place) => ({ name, shape: shapes[place] ?? UNGROUPED, data: of((value) => value === name) }));
  const others = of((value) => value == null || !named.includes(value));
  if (others.length === 0) return groups;
  const name = named.length ? "others" : `the ${count(points.length)} items most users have`;
  // first, so that what is named is drawn over it
  return [{ name, shape: named.length ? UNGROUPED : first, data: others }, ...groups];
}
