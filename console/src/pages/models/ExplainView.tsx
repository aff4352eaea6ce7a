import { Group } from "@mantine/core";
import { type Schemas } from "../../api/http";
import { useExplanation, type ModelCard } from "../../api/models";
import { FigureTable, type FigureColumn } from "../../parts/FigureTable";
import { Section } from "../../parts/page";
import { Asked } from "../../parts/states";
import { useChoice } from "./choice";
import { IdPicker } from "./IdPicker";

type Term = Schemas["ExplainTerm"];

/** Why a user gets a score for an item, laid out as a sum a person can check. */
export function ExplainView({ card }: { card: ModelCard }) {
  const [user, setUser] = useChoice("user");
  const [item, setItem] = useChoice("item");
  const query = useExplanation(card.name, user, item);
  return (
    <Section title="Why this score">
      <Group align="end">
        <IdPicker side="user" data={card.data} chosen={user} onChoose={setUser} />
        <IdPicker side="item" data={card.data} chosen={item} onChoose={setItem} />
      </Group>
      {user && item && <Asked query={query}>{(found) => <Sum found={found} />}</Asked>}
    </Section>
  );
}

function Sum({ found }: { found: Schemas["ModelExplanation"] }) {
  const names = Object.keys(found.terms[0]?.columns ?? {});
  const columns: FigureColumn<Term>[] = [
    { title: found.side, value: (row) => row.id },
    ...(found.terms.some((row) => row.name) ? [{ title: "name", value: (row: Term) => row.name ?? null, show: (row: Term) => <span className="item-name">{row.name}</span> }] : []),
    ...names.map(
      (each): FigureColumn<Term> => ({
        title: each,
        number: true,
        value: (row) => row.columns[each] ?? null,
        show: (row) => (row.columns[each] === undefined ? "" : row.columns[each].toFixed(each === "overlap" ? 0 : 4)),
      }),
    ),
  ];
  return (
    <>
      <p className="quiet">{found.kind === "sum" ? `adds = ${found.formula}` : found.formula}</p>
      <FigureTable label="Terms" rows={found.terms} rowKey={(row) => row.id} columns={columns} pageSize={12} />
      {found.result != null ? (
        <p>
          {found.start !== 0 && <>{found.start.toFixed(4)} (the mean) + </>}
          sum of adds {(found.result - found.start).toFixed(4)} = <strong>{found.result.toFixed(4)}</strong>
          {found.value != null && <>; on the scale {found.value.toFixed(2)}</>}
          {found.apart && <>; {found.apart}</>}
        </p>
      ) : (
        <p>score {found.score.toFixed(4)}</p>
      )}
    </>
  );
}
