import { Button, Checkbox, Group, SegmentedControl, TextInput } from "@mantine/core";
import { useState } from "react";
import { useAudience, useSimilar, useUserList, type ModelCard } from "../../api/models";
import { FigureTable, type FigureColumn } from "../../parts/FigureTable";
import { NAME_COLUMNS } from "../../parts/named";
import { Section } from "../../parts/page";
import { Loaded } from "../../parts/states";
import { useChoice } from "./choice";
import { IdPicker } from "./IdPicker";
import { LikenessView } from "./LikenessView";

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
        <Condition value={where} onSet={setWhere} example={exampleOf(query.data?.list[0]?.columns)} />
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
        <Condition value={where} onSet={setWhere} example={exampleOf(query.data?.users[0]?.columns)} />
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
  const [other, setOther] = useChoice("with");
  const of = side === "user" ? "user" : "item";
  const query = useSimilar(card.name, of, id);
  return (
    <Section title={`${of === "item" ? "Items" : "Users"} like one`}>
      <Group align="start">
        <SegmentedControl
          size="xs"
          mt={22}
          aria-label="Side"
          value={of}
          data={[{ value: "item", label: "items" }, { value: "user", label: "users" }]}
          onChange={(next) => {
            setId("");
            setOther("");
            setSide(next);
          }}
        />
        <IdPicker key={of} side={of} data={card.data} chosen={id} onChoose={setId} />
      </Group>
      {id && (
        <Loaded query={query}>
          {(lists) => (
            <>
              <Places
                label="Most alike" what={of} score="likeness" onWork={setOther}
                rows={lists.list.map((each) => ({ ...each, score: each.likeness, columns: each.columns ?? {} }))}
              />
              <p className="quiet">Likeness: {lists.by}.</p>
              {other && <LikenessView card={card} side={of} one={id} other={other} onClose={() => setOther("")} />}
            </>
          )}
        </Loaded>
      )}
    </Section>
  );
}

/** A condition that fits the columns at hand; a name would keep one item only. */
function exampleOf(columns: Record<string, unknown> | undefined): string | undefined {
  const told = Object.entries(columns ?? {}).filter(([name, value]) => value != null && !NAME_COLUMNS.includes(name));
  const text = told.find(([, value]) => typeof value === "string");
  if (text) return `${text[0]} = '${String(text[1])}'`;
  const number = told.find(([, value]) => typeof value === "number");
  return number && `${number[0]} >= ${String(number[1])}`;
}

function Condition({ value, onSet, example }: { value: string; onSet: (next: string) => void; example?: string }) {
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

interface PlacesProps {
  label: string;
  what: string;
  rows: Place[];
  score?: string;
  /** Works the likeness of one of them by hand. */
  onWork?: (id: string) => void;
}

function Places({ label, what, rows, score = "score", onWork }: PlacesProps) {
  const text = (value: unknown): string => (value == null ? "" : Array.isArray(value) ? value.join(", ") : String(value));
  const fit = Object.keys(rows[0]?.columns ?? {}).filter((each) => Math.max(...rows.map((row) => text(row.columns[each]).length)) <= 40);
  // what people call a thing comes first, wherever its table has it
  const short = fit.toSorted((one, other) => Number(NAME_COLUMNS.includes(other)) - Number(NAME_COLUMNS.includes(one)));
  const columns: FigureColumn<Place>[] = [
    { title: "place", number: true, value: (row) => row.position },
    { title: what, value: (row) => row.id, show: (row) => <span className="id">{row.id}</span> },
    { title: score, number: true, value: (row) => row.score, show: (row) => row.score.toFixed(4) },
    ...(rows.some((row) => row.raw != null) ? BY_HAND : []),
    ...short.slice(0, MOST_COLUMNS).map(
      (each): FigureColumn<Place> => ({
        title: each.replaceAll("_", " "),
        value: (row) => text(row.columns[each]),
        show: (row) => (NAME_COLUMNS.includes(each) ? <span className="item-name">{text(row.columns[each])}</span> : text(row.columns[each])),
      }),
    ),
    ...(onWork ? [{ title: "", value: () => null, show: (row: Place) => <Button size="compact-xs" variant="subtle" onClick={() => onWork(row.id)}>Work by hand</Button> }] : []),
  ];
  return <FigureTable label={label} rows={rows} rowKey={(row) => row.id} columns={columns} />;
}
