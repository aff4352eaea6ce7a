import { Group } from "@mantine/core";
import { type Schemas } from "../../api/http";
import { useExplanation, type ModelCard } from "../../api/models";
import { FigureTable, type FigureColumn } from "../../parts/FigureTable";
import { Section } from "../../parts/page";
import { Loaded } from "../../parts/states";
import { useChoice } from "./choice";
import { IdPicker } from "../../parts/ids/IdPicker";

type Term = Schemas["ExplainTerm"];

/** Why a user gets a score for an item, laid out as a sum a person can check. */
export function ExplainView({ card }: { card: ModelCard }) {
  const [user, setUser] = useChoice("user");
  const [item, setItem] = useChoice("item");
  const query = useExplanation(card.name, user, item);
  return (
    <Section title="Why this score">
      <Group align="start" mb="sm">
        <IdPicker side="user" data={card.data} chosen={user} onChoose={setUser} />
        <IdPicker side="item" data={card.data} chosen={item} onChoose={setItem} />
      </Group>
      {user && item && <Loaded query={query}>{(explanation) => <Sum explanation={explanation} />}</Loaded>}
    </Section>
  );
}

function Sum({ explanation }: { explanation: Schemas["ModelExplanation"] }) {
  const names = Object.keys(explanation.terms[0]?.columns ?? {});
  const columns: FigureColumn<Term>[] = [
    { title: explanation.side, value: (row) => row.id },
    ...(explanation.terms.some((row) => row.name) ? [{ title: "name", value: (row: Term) => row.name ?? null, show: (row: Term) => <span className="item-name">{row.name}</span> }] : []),
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
      <p className="quiet">{explanation.kind === "sum" ? `adds = ${explanation.formula}` : explanation.formula}</p>
      <FigureTable label="Terms" rows={explanation.terms} rowKey={(row) => row.id} columns={columns} pageSize={12} />
      {explanation.result != null ? (
        <p>
          {explanation.start !== 0 && <>{explanation.start.toFixed(4)} ({explanation.side === "input" ? "where every pair begins" : "the mean"}) + </>}
          sum of adds {(explanation.result - explanation.start).toFixed(4)} = <strong>{explanation.result.toFixed(4)}</strong>
          {explanation.value != null && <>; on the scale {explanation.value.toFixed(2)}</>}
          {explanation.apart && <>; {explanation.apart}</>}
        </p>
      ) : (
        <p>score {explanation.score.toFixed(4)}</p>
      )}
    </>
  );
}
