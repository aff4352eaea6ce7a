import { Checkbox, Group, SegmentedControl, TextInput } from "@mantine/core";
import { useState } from "react";
import { useAudience, useSimilar, useUserList, type ModelCard } from "../../api/models";
import { FigureTable, type FigureColumn } from "../../parts/FigureTable";
import { Section } from "../../parts/page";
import { Loaded } from "../../parts/states";
import { useChoice } from "./choice";
import { IdPicker } from "./IdPicker";

const MOST_COLUMNS = 4;
interface Place {
  id: string;
  position: number;
  score: number;
  raw?: number | null;
  overlap?: number | null;
  columns: Record<string, unknown>;
}

/** What a likeness is worked out from, where a person can redo it. */
const BY_HAND: FigureColumn<Place>[] = [
  { title: "raw", number: true, value: (row) => row.raw ?? null, show: (row) => row.raw?.toFixed(4) ?? "" },
  { title: "overlap", number: true, value: (row) => row.overlap ?? null },
];

/** Items for a user. */
export function RecommendView({ card }: { card: ModelCard }) {
  const [user, setUser] = useChoice("user");
  const [where, setWhere] = useChoice("where");
  const [known, setKnown] = useChoice("known");
  const query = useUserList(card.name, user, where, known === "yes");
  return (
    <Section title="Items for a user">
      <Group align="end">
        <IdPicker side="user" data={card.data} chosen={user} onChoose={setUser} />
        <Condition value={where} onSet={setWhere} example="stock > 0 AND family = 'pea'" />
        <Checkbox size="xs" label="keep items they have" checked={known === "yes"} onChange={(event) => setKnown(event.currentTarget.checked ? "yes" : "")} />
      </Group>
      {user && (
        <Loaded query={query}>
          {(lists) => (
            <>
              <Places label="Items for a user" what="item" rows={lists.list.map((each) => ({ ...each, id: each.item, score: each.score ?? 0, columns: each.columns ?? {} }))} />
              <p className="quiet">
                {lists.left_out > 0 && `${lists.left_out} items they have are left out. `}
                {lists.where_keeps != null && `The condition holds for ${lists.where_keeps} items. `}
                {lists.note}
              </p>
            </>
          )}
        </Loaded>
      )}
    </Section>
  );
}

/** Users for an item. */
export function AudienceView({ card }: { card: ModelCard }) {
  const [item, setItem] = useChoice("item");
  const [where, setWhere] = useChoice("where");
  const [known, setKnown] = useChoice("known");
  const query = useAudience(card.name, item, where, known === "yes");
  return (
    <Section title="Users for an item">
      <Group align="end">
        <IdPicker side="item" data={card.data} chosen={item} onChoose={setItem} />
        <Condition value={where} onSet={setWhere} example="zone = 'Z4'" />
        <Checkbox size="xs" label="keep users who have it" checked={known === "yes"} onChange={(event) => setKnown(event.currentTarget.checked ? "yes" : "")} />
      </Group>
      {item && (
        <Loaded query={query}>
          {(lists) => <Places label="Users for an item" what="user" rows={lists.users.map((each) => ({ ...each, id: each.user, columns: each.columns ?? {} }))} />}
        </Loaded>
      )}
    </Section>
  );
}

/** Items like an item, or users like a user. */
export function SimilarView({ card }: { card: ModelCard }) {
  const [side, setSide] = useChoice("side", "item");
  const [id, setId] = useChoice("id");
  const of = side === "user" ? "user" : "item";
  const query = useSimilar(card.name, of, id);
  return (
    <Section title={`${of === "item" ? "Items" : "Users"} like one`}>
      <Group align="end">
        <SegmentedControl
          size="xs"
          aria-label="Side"
          value={of}
          data={[{ value: "item", label: "items" }, { value: "user", label: "users" }]}
          onChange={(next) => {
            setId("");
            setSide(next);
          }}
        />
        <IdPicker key={of} side={of} data={card.data} chosen={id} onChoose={setId} />
      </Group>
      {id && (
        <Loaded query={query}>
          {(lists) => (
            <>
              <Places label="Most alike" what={of} score="likeness" rows={lists.list.map((each) => ({ ...each, score: each.likeness, columns: each.columns ?? {} }))} />
              <p className="quiet">Likeness: {lists.by}.</p>
            </>
          )}
        </Loaded>
      )}
    </Section>
  );
}

function Condition({ value, onSet, example }: { value: string; onSet: (next: string) => void; example: string }) {
  const [typed, setTyped] = useState(value);
  return (
    <TextInput
      label="Condition"
      size="xs"
      w={280}
      placeholder={example}
      value={typed}
      onChange={(event) => setTyped(event.currentTarget.value)}
      onBlur={() => onSet(typed)}
      onKeyDown={(event) => event.key === "Enter" && onSet(typed)}
    />
  );
}

function Places({ label, what, rows, score = "score" }: { label: string; what: string; rows: Place[]; score?: string }) {
  const text = (value: unknown): string => (value == null ? "" : Array.isArray(value) ? value.join(", ") : String(value));
  const short = Object.keys(rows[0]?.columns ?? {}).filter((each) => Math.max(...rows.map((row) => text(row.columns[each]).length)) <= 40);
  const columns: FigureColumn<Place>[] = [
    { title: "place", number: true, value: (row) => row.position },
    { title: what, value: (row) => row.id },
    { title: score, number: true, value: (row) => row.score, show: (row) => row.score.toFixed(4) },
    ...(rows.some((row) => row.raw != null) ? BY_HAND : []),
    ...short.slice(0, MOST_COLUMNS).map(
      (each): FigureColumn<Place> => ({
        title: each.replaceAll("_", " "),
        value: (row) => text(row.columns[each]),
        show: (row) => (each === "name" ? <span className="item-name">{text(row.columns[each])}</span> : text(row.columns[each])),
      }),
    ),
  ];
  return <FigureTable label={label} rows={rows} rowKey={(row) => row.id} columns={columns} />;
}
