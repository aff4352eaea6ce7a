import { Button } from "@mantine/core";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { save, standalone, toPng } from "./download";
import { FigureTable, type FigureColumn } from "./FigureTable";
import { Section } from "./page";

interface Props<Row> {
  title: string;
  rows: Row[];
  columns: FigureColumn<Row>[];
  rowKey: (row: Row) => string;
  side?: ReactNode;
  children: ReactNode;
}

const CHART_HEIGHT = 210;

/** Draws its content in a task of its own, after the page stands: charts are slow to lay out, figures are not. */
function AfterPaint({ height, children }: { height: number; children: ReactNode }) {
  const [ready, setReady] = useState(false);
  useEffect(() => {
    let timer = 0;
    const frame = requestAnimationFrame(() => { timer = window.setTimeout(() => setReady(true)); });
    return () => {
      cancelAnimationFrame(frame);
      window.clearTimeout(timer);
    };
  }, []);
  return ready ? children : <div style={{ height }} />;
}

/** A chart with its table one click away, and both to take along. */
export function ChartFrame<Row>({ title, rows, columns, rowKey, side, children }: Props<Row>) {
  const [asTable, setAsTable] = useState(false);
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
      {!asTable && <Button variant="subtle" size="compact-xs" onClick={() => void savePng()}>PNG</Button>}
      {!asTable && <Button variant="subtle" size="compact-xs" onClick={saveSvg}>SVG</Button>}
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
          <AfterPaint height={CHART_HEIGHT}>{children}</AfterPaint>
        </div>
      )}
    </Section>
  );
}
