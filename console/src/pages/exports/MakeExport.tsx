import { Button, Checkbox, Group, NumberInput, Select, TextInput } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import { useBeginExport, type ExportRequest } from "../../api/exports";
import type { Schemas } from "../../api/http";
import { sendFile } from "../../api/imports";
import { useModels } from "../../api/models";
import { useShelves } from "../../api/shelves";
import { useDraft } from "../../parts/files/draft";
import { IdsPicker } from "../../parts/ids/IdsPicker";
import { Empty, Failed, Loaded } from "../../parts/states";
import { Destination } from "./Destination";

const WHAT: { value: ExportRequest["what"]; label: string; says: string }[] = [
  { value: "lists", label: "lists as a shelf serves them", says: "For every user of training, conditions, slots and fallback included." },
  { value: "top-items", label: "the best items of every user", says: "By one model, a row for each." },
  { value: "top-users", label: "the users who would like each item most", says: "By one model, a row for each." },
  { value: "affinity", label: "scores of chosen items for every user", says: "A row for each user, a column for each item." },
  { value: "values", label: "predicted values of pairs", says: "For a file with the columns user and item." },
];

type Draft = Omit<ExportRequest, "pairs">;

function empty(): Draft {
  return { what: "lists", n: 10, format: "csv", exact: false, items: [], where: null, include_known: false, to: null, table: null, model: null, shelf: null };
}

/** A form that begins an export, or the way to something that can be exported. */
export function MakeExport() {
  const models = useModels();
  const shelves = useShelves();
  return (
    <Loaded query={models}>
      {({ items }) =>
        items.length > 0 ? (
          <Loaded query={shelves}>{(served) => <ExportForm models={items} shelves={served.items} />}</Loaded>
        ) : (
          <Empty what="What is exported comes of a model or a shelf, and there is neither yet. A contest fits several models and says which is best.">
            <Button component={Link} to="/contests/new" size="xs">Write a contest</Button>
          </Empty>
        )
      }
    </Loaded>
  );
}

function ExportForm({ models, shelves }: { models: Schemas["ModelSummary"][]; shelves: Schemas["ShelfSummary"][] }) {
  const [draft, change, clear] = useDraft("export", empty);
  const [pairs, setPairs] = useState<File | null>(null);
  const [sending, setSending] = useState<Error | null>(null);
  const begin = useBeginExport(clear);
  const set = (part: Partial<Draft>) => change((now) => ({ ...now, ...part }));
  const of = draft.what === "lists" ? draft.shelf : draft.model;
  const goes = draft.table ? draft.table.url !== "" && draft.table.table !== "" : draft.to !== "";
  const ready = goes && !!of && (draft.what !== "affinity" || (draft.items ?? []).length > 0) && (draft.what !== "values" || pairs !== null);
  const start = async () => {
    setSending(null);
    const lists = draft.what === "lists";
    const request: ExportRequest = { ...draft, model: lists ? null : draft.model, shelf: lists ? draft.shelf : null, items: draft.what === "affinity" ? draft.items : [] };
    if (lists) Object.assign(request, { where: null, include_known: false });
    try {
      if (draft.what === "values" && pairs) {
        request.where = null;
        request.pairs = { upload: (await sendFile(pairs, () => undefined)).upload, file: pairs.name };
      }
      begin.mutate(request);
    } catch (refused) {
      setSending(refused as Error);
    }
  };
  const narrowed = draft.what === "top-items" || draft.what === "top-users" || draft.what === "affinity";
  return (
    <>
      <Group gap="md" align="end">
        <Select size="xs" w={280} label="What" allowDeselect={false} data={WHAT} value={draft.what} onChange={(value) => value && set({ what: value as Draft["what"] })} />
        {draft.what === "lists" ? (
          <Select size="xs" w={230} label="Of the shelf" searchable placeholder={shelves.length > 0 ? undefined : "there is none yet"} disabled={shelves.length === 0} data={shelves.map((each) => each.shelf)} value={draft.shelf ?? null} onChange={(value) => set({ shelf: value })} />
        ) : (
          <Select size="xs" w={230} label="Of the model" searchable data={models.map((each) => each.name)} value={draft.model ?? null} onChange={(value) => set({ model: value })} />
        )}
        {draft.what !== "affinity" && draft.what !== "values" && <NumberInput size="xs" w={110} label="Of each at most" hideControls min={1} max={1000} value={draft.n} onChange={(value) => value !== "" && set({ n: Number(value) })} />}
      </Group>
      <p className="quiet">{WHAT.find((each) => each.value === draft.what)?.says}</p>
      <Group gap="md" align="end">
        {draft.what === "affinity" && <IdsPicker label="Items, by id or name" side="item" data={models.find((each) => each.name === draft.model)?.data ?? ""} ids={draft.items ?? []} onChange={(items) => set({ items })} />}
        {draft.what === "values" && (
          <label className="file-choice">
            <span>Pairs, a file with user and item</span>
            <input type="file" aria-label="Pairs" onChange={(event) => setPairs(event.currentTarget.files?.[0] ?? null)} />
          </label>
        )}
        {narrowed && <TextInput size="xs" w={300} label={`Only ${draft.what === "top-items" ? "items" : "users"} for which`} placeholder="a condition over their columns" value={draft.where ?? ""} onChange={(event) => set({ where: event.currentTarget.value || null })} />}
        {(draft.what === "top-items" || draft.what === "top-users") && <Checkbox size="xs" label="Keep what a user has" checked={draft.include_known} onChange={(event) => set({ include_known: event.currentTarget.checked })} />}
        <Destination goes={draft} onChange={set} />
        <Button size="xs" disabled={!ready} loading={begin.isPending} onClick={() => void start()}>Export</Button>
      </Group>
      {(sending ?? begin.error) && <Failed error={(sending ?? begin.error) as Error} title="This was refused" />}
    </>
  );
}
