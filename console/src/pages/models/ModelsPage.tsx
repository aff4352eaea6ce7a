import { Anchor } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, type ModelCard, type ModelSummary } from "../../api/client";
import { FigureTable } from "../../parts/FigureTable";
import { count, duration, figure, moment } from "../../parts/format";
import { Figures, PageTitle, Section } from "../../parts/page";
import { Asked, Empty } from "../../parts/states";

/** The registry, and the card of one model. */
export default function ModelsPage() {
  const { model } = useParams();
  const models = useQuery({ queryKey: ["models"], queryFn: api.models });
  return (
    <>
      {model ? <CardView name={model} /> : <PageTitle title="Models" />}
      <Asked query={models}>
        {({ items }) =>
          items.length ? <ModelTable models={items} /> : <Empty what="No models yet. A contest trains and registers them:" command="gleaner contest run first-look.yaml" />
        }
      </Asked>
    </>
  );
}

function ModelTable({ models }: { models: ModelSummary[] }) {
  return (
    <Section title="Registry">
      <FigureTable
        label="Registry"
        rows={models}
        rowKey={(row) => row.name}
        columns={[
          { title: "model", value: (row) => row.name, show: (row) => <Anchor component={Link} to={`/models/${row.name}`}>{row.name}</Anchor> },
          { title: "data", value: (row) => row.data },
          { title: "run", value: (row) => row.run, show: (row) => <Anchor component={Link} to={`/contests/${row.run}`}>{row.run}</Anchor> },
          { title: "users", number: true, value: (row) => row.users, show: (row) => count(row.users) },
          { title: "items", number: true, value: (row) => row.items, show: (row) => count(row.items) },
          { title: "deciding figure, test", number: true, value: (row) => row.figures[row.decided_by] ?? null, show: (row) => `${row.decided_by} ${figure(row.figures[row.decided_by] ?? 0)}` },
          { title: "trained", value: (row) => row.created_at, show: (row) => moment(row.created_at) },
        ]}
      />
    </Section>
  );
}

function CardView({ name }: { name: string }) {
  const card = useQuery({ queryKey: ["model", name], queryFn: () => api.model(name), staleTime: Infinity });
  return (
    <>
      <PageTitle title={name} />
      <Asked query={card}>{(found) => <Card card={found} />}</Asked>
    </>
  );
}

function Card({ card }: { card: ModelCard }) {
  const said = (fields: Record<string, unknown>): string =>
    Object.entries(fields)
      .filter(([, value]) => value !== null)
      .map(([field, value]) => `${field} ${typeof value === "object" ? `(${said(value as Record<string, unknown>)})` : String(value)}`)
      .join(", ");
  const rows: [string, string][] = [
    ["what it is", `${card.summary} (${card.family}, ${card.feedback} feedback)`],
    ["parameters", said(card.params)],
    ["trained on", `${card.data}, ${card.trained_on} parts, by ${card.run}`],
    ["preparation", said(card.prepare)],
    ["split", said(card.split)],
    ["serves the unseen", card.folds_in ? "yes, by folding in their items" : "no"],
    ["made by", `gleaner ${card.code_version}, ${moment(card.created_at)}`],
    ["data hash", card.content_hash.slice(0, 16)],
    ["state file", card.state_sha256.slice(0, 16)],
  ];
  return (
    <>
      <Figures
        rows={[
          [`${card.decided_by}, test`, figure(card.figures[card.decided_by] ?? 0)],
          ["users", count(card.users)],
          ["items", count(card.items)],
          ["cells", count(card.cells)],
          ["time to fit", duration(card.fit_seconds)],
          ["peak memory", `${card.peak_memory_mb.toFixed(0)} MB`],
        ]}
      />
      <Section title="Card">
        <FigureTable label="Card" rows={rows} rowKey={([field]) => field} columns={[{ title: "field", value: ([field]) => field, width: "22%" }, { title: "value", value: ([, value]) => value }]} />
      </Section>
    </>
  );
}
