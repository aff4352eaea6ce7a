import { Button } from "@mantine/core";
import { useCallback, useEffect, useRef, useState, type ReactNode } from "react";
import { flushSync } from "react-dom";
import { save, standalone, toPng } from "../download";
import { FigureTable, type FigureColumn } from "../FigureTable";
import { Section } from "../page";

interface Props<Row> {
  title: string;
  rows: Row[];
  columns: FigureColumn<Row>[];
  rowKey: (row: Row) => string;
  side?: ReactNode;
  children: ReactNode;
}

const CHART_HEIGHT = 210;

/** How far below the window a chart is drawn already. */
const AHEAD = "300px";

/** Where a chart will be: says when it comes near the window, or the page is printed. Charts are slow to lay out, figures
 *  are not, and few of a long page are looked at. */
function Undrawn({ onNear }: { onNear: () => void }) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    let timer = 0;
    const watching = new IntersectionObserver((entries) => {
      // in a task of its own, after the page stands
      if (entries.some((entry) => entry.isIntersecting)) timer = window.setTimeout(onNear);
    }, { rootMargin: AHEAD });
    const print = () => flushSync(onNear);
    if (place.current) watching.observe(place.current);
    window.addEventListener("beforeprint", print);
    return () => {
      watching.disconnect();
      window.clearTimeout(timer);
      window.removeEventListener("beforeprint", print);
    };
  }, [onNear]);
  return <div ref={place} style={{ height: CHART_HEIGHT }} />;
}

/** A chart with its table one click away, and both to take along. */
export function ChartFrame<Row>({ title, rows, columns, rowKey, side, children }: Props<Row>) {
  const [asTable, setAsTable] = useState(false);
  const [drawn, setDrawn] = useState(false);
  const draw = useCallback(() => setDrawn(true), []);
  const frame = useRef<HTMLDivElement>(null);
  const drawing = () => frame.current?.querySelector<SVGSVGElement>("svg.recharts-surface");
  const saveSvg = () => {
    const svg = drawing();
    if (svg) save(`${title}.svg`, new Blob([standalone(svg)], { type: "image/svg+xml" }));
  };
  const savePng = async () => {
    const svg = drawing();
    if (svg) save(`${title}.png`, await toPng(svg));
  };
  const buttons = (
    <>
      {side}
      {!asTable && <Button variant="subtle" size="compact-xs" disabled={!drawn} onClick={() => void savePng()}>PNG</Button>}
      {!asTable && <Button variant="subtle" size="compact-xs" disabled={!drawn} onClick={saveSvg}>SVG</Button>}
      <Button variant="subtle" size="compact-xs" aria-pressed={asTable} onClick={() => setAsTable(!asTable)}>
        {asTable ? "Chart" : "Table"}
      </Button>
    </>
  );
  return (
    <Section title={title} side={buttons}>
      {asTable ? (
        <FigureTable label={title} rows={rows} columns={columns} rowKey={rowKey} pageSize={12} />
      ) : (
        <div ref={frame} role="img" aria-label={`Chart: ${title}. The table button shows its figures.`}>
          {drawn ? children : <Undrawn onNear={draw} />}
        </div>
      )}
    </Section>
  );
}
