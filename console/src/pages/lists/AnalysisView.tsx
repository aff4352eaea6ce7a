import "@mantine/charts/styles.css";
import { LineChart } from "@mantine/charts";
import { SegmentedControl } from "@mantine/core";
import { type Schemas } from "../../api/http";
import { useListAnalysis } from "../../api/lists";
import { roundAxis } from "../../parts/charts/axes";
import { ChartFrame } from "../../parts/charts/ChartFrame";
import { FigureTable } from "../../parts/FigureTable";
import { count, percent } from "../../parts/format";
import { Section } from "../../parts/page";
import { useSearch } from "../../parts/search";
import { Shade } from "../../parts/Shade";
import { shapesOf, Swatch, type Shape } from "../../parts/charts/shapes";
import { Loaded } from "../../parts/states";
import { FileFindings } from "./FileFindings";
import { Dot, Legend } from "../contests/figures/MetricAgainstK";

type Report = Schemas["AnalysisReport"];
type Definition = Schemas["SurpriseReport"];
type Line = { at: string } & Record<string, string | number | null>;

const CUTS = { history: "by_history", popularity: "by_popularity", bias: "by_bias" } as const;
const OF = { history: "size of the history", popularity: "popularity of the item", bias: "bias of the user" };
type Cut = keyof typeof CUTS;

/** How unexpected lists are by several definitions, what that depends on, and whether the definitions agree. */
export function AnalysisView({ job }: { job: number }) {
  const query = useListAnalysis(job);
  return <Loaded query={query}>{(analysis) => <Body analysis={analysis} />}</Loaded>;
}

function Body({ analysis }: { analysis: Report }) {
  const shapes = shapesOf(analysis.definitions.map((each) => ({ label: each.name, family: "" })));
  return (
    <>
      <Section title={`How unexpected the lists of ${analysis.label} are`}>
        <Summary analysis={analysis} shapes={shapes} />
        <p className="quiet">
          {count(analysis.users)} users, {analysis.places} places. Normalised over all listed items: 1 is the most unexpected of them. Expected by anybody:
          the first {analysis.expected_n} of {analysis.expected}; what an item is: {analysis.content.join(", ") || "nothing"};{" "}
          {analysis.relevance ? "the test part says what is relevant." : "without a test part every item counts as relevant."}
        </p>
        {analysis.findings && <FileFindings findings={analysis.findings} />}
        {Object.entries(analysis.left_out ?? {}).map(([name, why]) => <p key={name} className="warn">{name}: {why}</p>)}
      </Section>
      <Places analysis={analysis} shapes={shapes} />
      <Depends analysis={analysis} shapes={shapes} />
      <Agreement analysis={analysis} />
      <Indexes analysis={analysis} />
    </>
  );
}

interface Props { analysis: Report; shapes: Map<string, Shape> }

function Summary({ analysis, shapes }: Props) {
  const spread = (title: string, field: keyof Schemas["Distribution"]) => ({
    title, number: true, value: (row: Definition) => row.normal[field], show: (row: Definition) => row.normal[field].toFixed(3),
  });
  return (
    <FigureTable
      label={`Unexpectedness of ${analysis.label}`}
      rows={analysis.definitions}
      rowKey={(row) => row.name}
      columns={[
        { title: "definition", value: (row) => row.name, show: (row) => <Named row={row} shape={shapes.get(row.name)} /> },
        spread("mean", "mean"), spread("deviation", "deviation"), spread("least", "least"), spread("25 %", "quarter"),
        spread("half", "half"), spread("75 %", "three_quarters"), spread("most", "most"),
        { title: "raw mean", number: true, value: (row) => row.raw.mean, show: (row) => row.raw.mean.toFixed(3) },
      ]}
    />
  );
}

/** A definition with its formula and where it was published. */
function Named({ row, shape }: { row: Definition; shape: Shape | undefined }) {
  return (
    <>
      {shape && <Swatch shape={shape} />}
      {row.name}
      <div className="quiet">{row.formula} ({row.source})</div>
    </>
  );
}

function Lines({ title, label, rows, analysis, shapes, side }: Props & { title: string; label: string; rows: Line[]; side?: React.ReactNode }) {
  const names = analysis.definitions.map((each) => each.name);
  return (
    <ChartFrame
      title={title}
      rows={rows}
      rowKey={(row) => row.at}
      columns={[
        { title: label, value: (row) => row.at },
        ...names.map((name) => ({ title: name, number: true, value: (row: Line) => row[name] ?? null, show: (row: Line) => (row[name] == null ? "" : Number(row[name]).toFixed(3)) })),
      ]}
      side={side}
    >
      <LineChart
        h={250}
        data={rows}
        dataKey="at"
        series={names.map((name) => ({ name, color: shapes.get(name)?.color ?? "gray", strokeDasharray: shapes.get(name)?.dash }))}
        curveType="linear"
        valueFormatter={(value) => value.toFixed(3)}
        xAxisProps={{ padding: { left: 20, right: 20 } }}
        yAxisProps={{ ...roundAxis(names.flatMap((name) => rows.map((row) => row[name] as number | null))), width: 62 }}
        xAxisLabel={label}
        lineProps={(line) => ({ dot: <Dot shape={shapes.get(line.name)} />, activeDot: false })}
      />
      <Legend names={names} shapes={shapes} />
    </ChartFrame>
  );
}

function Places({ analysis, shapes }: Props) {
  const rows = Array.from({ length: analysis.places }, (_, place): Line => ({
    at: String(place + 1), ...Object.fromEntries(analysis.definitions.map((each) => [each.name, each.by_place[place] ?? null])),
  }));
  return <Lines title="Unexpectedness at each place" label="place" rows={rows} analysis={analysis} shapes={shapes} />;
}

function Depends({ analysis, shapes }: Props) {
  const [search, choose] = useSearch();
  const wanted = search.get("cut") as Cut;
  const cut: Cut = wanted in CUTS ? wanted : "history";
  const bins = analysis.definitions[0]?.[CUTS[cut]].bins ?? [];
  const rows = bins.map((bin, place): Line => ({
    at: `${bin.name} (${count(bin.n)})`, ...Object.fromEntries(analysis.definitions.map((each) => [each.name, each[CUTS[cut]].bins[place]?.mean ?? null])),
  }));
  const side = <SegmentedControl aria-label="Cut by" size="xs" data={Object.keys(CUTS)} value={cut} onChange={(value) => choose("cut", value)} />;
  return (
    <>
      <Lines title={`Unexpectedness by ${OF[cut]}`} label={`${OF[cut]} (${cut === "popularity" ? "listed items" : "users"})`} rows={rows} analysis={analysis} shapes={shapes} side={side} />
      <p className="quiet">
        Spearman&apos;s rho with it:{" "}
        {analysis.definitions.map((each) => `${each.name} ${signed(each[CUTS[cut]].rho)}`).join(", ")}.
      </p>
    </>
  );
}

function signed(value: number | null): string {
  return value == null ? "none" : `${value < 0 ? "-" : "+"}${Math.abs(value).toFixed(2)}`;
}

function Agreement({ analysis }: { analysis: Report }) {
  const [search, choose] = useSearch();
  const by = search.get("correlation") === "Kendall" ? "Kendall" : "Spearman";
  const square = by === "Kendall" ? analysis.kendall : analysis.spearman;
  const rows = analysis.definitions.map((each, place) => ({ name: each.name, values: square[place] ?? [] }));
  const side = <SegmentedControl aria-label="Correlation" size="xs" data={["Spearman", "Kendall"]} value={by} onChange={(value) => choose("correlation", value)} />;
  return (
    <Section title="Do the definitions agree" side={side}>
      <FigureTable
        label="Do the definitions agree"
        rows={rows}
        rowKey={(row) => row.name}
        columns={[
          { title: by, value: (row) => row.name },
          ...rows.map((column, place) => ({ title: column.name, number: true, value: (row: (typeof rows)[number]) => row.values[place] ?? null, show: (row: (typeof rows)[number]) => <Shade value={row.values[place]} /> })),
        ]}
      />
    </Section>
  );
}

/** One figure for all definitions, by each method: its rho with each, and what it holds of them. */
function Indexes({ analysis }: { analysis: Report }) {
  return (
    <Section title="One index for all of them">
      <FigureTable
        label="One index for all of them"
        rows={analysis.definitions.map((each) => each.name)}
        rowKey={(row) => row}
        columns={[
          { title: "rho with", value: (row) => row },
          ...analysis.indexes.flatMap((index) => [
            { title: index.method, number: true, value: (row: string) => index.rho[row] ?? null, show: (row: string) => <Shade value={index.rho[row]} /> },
            ...(Object.keys(index.weights ?? {}).length ? [{ title: `weight, ${index.method}`, number: true, value: (row: string) => index.weights?.[row] ?? null, show: (row: string) => signed(index.weights?.[row] ?? null) }] : []),
          ]),
        ]}
      />
      {analysis.indexes.map((index) => (
        <p key={index.method} className="quiet" style={{ margin: 0 }}>
          {index.method}: its directions explain {index.explained.slice(0, 4).map(percent).join(", ")}; the first is the index.
        </p>
      ))}
    </Section>
  );
}
