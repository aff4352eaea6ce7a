import { Alert, Badge } from "@mantine/core";
import type { Answer } from "../../api/shelves";
import { FigureTable } from "../../parts/FigureTable";
import { NAME_COLUMNS, nameIn } from "../../parts/ids/named";
import { StageFlow } from "./StageFlow";

type Place = Answer["list"][number];

/** The list as it was served: each place with its score and source, and what was left out or stood in. other: a list
 * for the same person, in which each item has a place or none. */
export function AnswerTable({ answer, other, label = "List" }: { answer: Answer; other?: Answer; label?: string }) {
  const leftOut = Object.entries(answer.left_out ?? {}).filter(([, rows]) => rows > 0).map(([reason, rows]) => `${rows} ${reason === "where" ? "by the condition" : reason}`);
  const extra = Object.keys(answer.list[0]?.columns ?? {}).filter((column) => !NAME_COLUMNS.includes(column));
  const sources = new Set(answer.list.map((row) => row.source)).size;
  const there = new Map(other?.list.map((row) => [row.item, row.position]));
  // counts, such as how many users have an item
  const whole = answer.list.every((row) => Number.isInteger(row.score ?? 0));
  const drawn = answer.list.some((row) => row.propensity != null);
  return (
    <>
      {answer.folded_in && <p className="quiet">{answer.folded_in}</p>}
      {answer.fallback && (
        <Alert color="ochre" variant="outline" title="Fallback" py={6} mb="xs">
          {answer.fallback}
        </Alert>
      )}
      <FigureTable
        label={label}
        rows={answer.list}
        rowKey={(row) => row.item}
        columns={[
          { title: "place", number: true, value: (row) => row.position },
          { title: "item", value: (row) => row.item, show: (row) => <ItemName place={row} why={!other} /> },
          ...(other ? [{ title: "there at", number: true, value: (row: Place) => there.get(row.item) ?? null, show: (row: Place) => there.get(row.item) ?? "not" }] : []),
          ...extra.map((column) => ({
            title: column,
            value: (row: Place) => text(row.columns?.[column]),
            number: answer.list.every((row) => typeof (row.columns?.[column] ?? 0) === "number"),
          })),
          { title: "score", number: true, value: (row) => row.score ?? null, show: (row) => (row.score == null ? "" : row.score.toFixed(whole ? 0 : 4)) },
          ...(drawn ? [{ title: "chance", number: true, value: (row: Place) => row.propensity ?? null, show: (row: Place) => row.propensity?.toFixed(3) ?? "" }] : []),
          ...(sources > 1 ? [{ title: "source", value: (row: Place) => row.source }] : []),
        ]}
      />
      {other && <StageFlow answer={answer} />}
      <p className="quiet">
        {answer.shelf}@{answer.version} by {answer.model}
        {leftOut.length > 0 && <>; left out: {leftOut.join(", ")}</>}
        {answer.note && <>; {answer.note}</>}. List id {answer.list_id}.
      </p>
    </>
  );
}

function text(value: unknown): string | number | null {
  return typeof value === "number" || value === null || value === undefined ? (value ?? null) : String(value);
}

function ItemName({ place, why }: { place: Place; why: boolean }) {
  const name = nameIn(place.columns);
  return (
    <>
      <span className="item-name">{name ?? place.item}</span>
      {name ? <span className="quiet"> {place.item}</span> : null}
      {place.promoted && <Badge ml={6} size="xs" color="ochre" variant="outline">promoted</Badge>}
      {why && place.reason && <div className="quiet">{place.reason}</div>}
    </>
  );
}
