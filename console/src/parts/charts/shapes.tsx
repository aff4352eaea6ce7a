/** Colour, mark and dash of each series of a chart: safe for colour-blind readers, and told apart without colour. */
export interface Shape {
  color: string;
  mark: "circle" | "square" | "triangle" | "diamond" | "cross" | "star";
  dash: string | undefined;
}

/** Set for light and dark in the theme. */
export const SERIES = [1, 2, 3, 4, 5, 6].map((number) => `var(--series-${number})`);
const MARKS: Shape["mark"][] = ["circle", "square", "triangle", "diamond", "cross", "star"];
export const DASHES = [undefined, "6 3", "2 3", "8 3 2 3", "4 2", "1 2"];
const BASELINE: Shape = { color: "var(--mantine-color-dimmed)", mark: "circle", dash: "3 3" };

/** The shapes of a contest's contenders, by label: the order of the file decides, so that they hold on every chart. */
export function shapesOf(contenders: { label: string; family: string }[]): Map<string, Shape> {
  const others = contenders.filter((contender) => contender.family !== "popular");
  return new Map(
    contenders.map((contender) => {
      const place = others.indexOf(contender);
      const shape: Shape = {
        color: SERIES[place % SERIES.length] ?? "",
        // the next six have the same colours with other marks
        mark: MARKS[(place + Math.floor(place / SERIES.length)) % MARKS.length] ?? "circle",
        dash: DASHES[Math.floor(place / SERIES.length) % DASHES.length],
      };
      return [contender.label, contender.family === "popular" ? BASELINE : shape];
    }),
  );
}

const PATHS: Record<Shape["mark"], string> = {
  circle: "M0-4A4 4 0 1 1 0 4A4 4 0 1 1 0-4Z",
  square: "M-3.6-3.6H3.6V3.6H-3.6Z",
  triangle: "M0-4.6L4.4 3.6H-4.4Z",
  diamond: "M0-5L4.4 0L0 5L-4.4 0Z",
  cross: "M-1.4-4.4H1.4V-1.4H4.4V1.4H1.4V4.4H-1.4V1.4H-4.4V-1.4H-1.4Z",
  star: "M0-5L1.3-1.6H4.9L2 .6L3 4.2L0 2L-3 4.2L-2 .6L-4.9-1.6H-1.3Z",
};

/** Groups of points in the order of their size, told apart by colour and by mark. */
export const GROUPS: Shape[] = SERIES.map((color, place) => ({ color, mark: MARKS[place] ?? "circle", dash: undefined }));
/** What is in no group of its own. */
export const UNGROUPED: Shape = { color: "var(--mantine-color-default-border)", mark: "circle", dash: undefined };

/** A mark at a place of an SVG. */
export function Mark({ shape, x, y }: { shape: Shape; x: number; y: number }) {
  return <path d={PATHS[shape.mark]} transform={`translate(${x} ${y})`} fill={shape.color} />;
}

/** A mark beside a name. */
export function Swatch({ shape }: { shape: Shape }) {
  return (
    <svg width="14" height="12" viewBox="-7 -6 14 12" aria-hidden="true" style={{ marginRight: 6, verticalAlign: "-1px" }}>
      <Mark shape={shape} x={0} y={0} />
    </svg>
  );
}
