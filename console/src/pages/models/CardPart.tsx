import { Anchor, Group } from "@mantine/core";
import type { ReactNode } from "react";
import type { ModelCard } from "../../api/models";
import { FigureTable } from "../../parts/FigureTable";
import { count, duration, figure, moment } from "../../parts/format";
import { Figures, Section } from "../../parts/page";

function asText(fields: Record<string, unknown>): string {
  return Object.entries(fields)
    .filter(([, value]) => value !== null && !(typeof value === "object" && Object.values(value).every((each) => each === null)))
    .map(([field, value]) => `${field} ${Array.isArray(value) ? JSON.stringify(value) : typeof value === "object" ? `(${asText(value as Record<string, unknown>)})` : String(value)}`)
    .join(", ");
}

/** The inputs of a learned order with the largest shares. */
function mostTelling(importance: Record<string, number>): string {
  return Object.entries(importance)
    .slice(0, 10)
    .map(([name, share]) => `${name} ${(100 * share).toFixed(0)} %`)
    .join(", ");
}

/** A model's card: what it is, where it comes from, what it cost, when not to use it. */
export function CardPart({ card }: { card: ModelCard }) {
  const rows: [string, ReactNode][] = [
    ["what it is", `${card.summary} (${card.family}, ${card.feedback} feedback)`],
    ["source", card.source],
    ["not for", card.unfit],
    ["parameters", asText(card.params)],
    ["chosen by the fit", asText(Object.fromEntries(Object.entries(card.chosen ?? {}).map(([name, value]) => [name, Number(value.toPrecision(4))])))],
    ...Object.entries(card.columns ?? {}).map(([where, names]): [string, ReactNode] => [where.replaceAll("_", " "), names.join(", ")]),
    ["inputs that say most", mostTelling(card.importance ?? {})],
    ["fitted on", card.provenance],
    ["preparation", asText(card.prepare)],
    ["split", asText(card.split)],
    ["warnings", (card.warnings ?? []).join("; ")],
    ["refresh", card.note ?? ""],
    ["serves the unseen", `${card.folds_in ? "new users by folding in their items" : "no new users"}; ${card.folds_in_items ? "new items from the users who touched them" : "no new items"}`],
    ["made by", `gleaner ${card.code_version}, ${moment(card.created_at)}`],
    ["data hash", card.content_hash.slice(0, 16)],
    ["state file", card.state_sha256.slice(0, 16)],
    ["take along", <Exports key="exports" card={card} />],
  ];
  const figures: [string, string][] = card.decided_by ? [[`${card.decided_by}, test`, figure(card.figures[card.decided_by] ?? 0)]] : [];
  return (
    <>
      <Figures
        rows={[
          ...figures,
          ["users", count(card.users)],
          ["items", count(card.items)],
          ["cells", count(card.cells)],
          ["time to fit", duration(card.fit_seconds)],
          ["peak memory", `${card.peak_memory_mb.toFixed(0)} MB`],
        ]}
      />
      <Section title="Card">
        <FigureTable
          label="Card"
          rows={rows.filter(([, value]) => value !== "")}
          rowKey={([field]) => field}
          columns={[
            { title: "field", value: ([field]) => field, width: "22%" },
            { title: "value", value: ([, value]) => (typeof value === "string" ? value : ""), show: ([, value]) => value },
          ]}
        />
      </Section>
    </>
  );
}

function Exports({ card }: { card: ModelCard }) {
  const forms = [["folder", "whole model"], ...(card.has_factors ? [["factors", "factors, Parquet"], ["onnx", "scoring, ONNX"]] : []), ...((card.network ?? []).length ? [["network", "network, ONNX"]] : [])];
  return (
    <Group gap="md">
      {forms.map(([form, title]) => (
        <Anchor key={form} size="sm" href={`/v1/models/${encodeURIComponent(card.name)}/export?form=${form}`} download>
          {title}
        </Anchor>
      ))}
    </Group>
  );
}
