import { Checkbox, Group, SegmentedControl } from "@mantine/core";
import { useBestItems, type ModelCard } from "../../../api/models";
import { IdsPicker } from "../../../parts/ids/IdsPicker";
import { Section } from "../../../parts/page";
import { Loaded } from "../../../parts/states";
import { useChoice, useChoices, usePairs } from "../choice";
import { IdPicker } from "../../../parts/ids/IdPicker";
import { Condition } from "../../../parts/Condition";
import { exampleOf } from "./conditionExample";
import { Places } from "./Places";
import { ValuesBeside, valuesOf } from "./ValuesBeside";

/** Items for a user it knows, or for someone new from a few items. */
export function RecommendView({ card }: { card: ModelCard }) {
  const [who, setWho] = useChoice("who", "known");
  const [user, setUser] = useChoice("user");
  const [touched, setTouched] = useChoices("touched");
  const [values, setValues] = usePairs("values");
  const [only, setOnly] = useChoices("only");
  const [where, setWhere] = useChoice("where");
  const [known, setKnown] = useChoice("known");
  const isNew = card.folds_in && who === "new";
  const query = useBestItems(card.name, { user: isNew ? "" : user, touched: isNew ? touched : [], values: isNew ? valuesOf(touched, values) : undefined, only, where, known: known === "yes" });
  return (
    <Section title="Items for a user">
      <Group align="start" mb="sm">
        {card.folds_in && (
          <SegmentedControl
            size="xs" mt={22} aria-label="For whom" value={isNew ? "new" : "known"} onChange={setWho}
            data={[{ value: "known", label: "a user it knows" }, { value: "new", label: "someone new" }]}
          />
        )}
        {isNew ? (
          <IdsPicker label="Items they have touched, by id or name" side="item" data={card.data} ids={touched} onChange={setTouched} />
        ) : (
          <IdPicker side="user" data={card.data} chosen={user} onChoose={setUser} />
        )}
        <Condition value={where} onSet={setWhere} example={exampleOf(query.data?.list[0]?.columns)} />
        <IdsPicker label="Only these items, put in order" side="item" data={card.data} ids={only} onChange={setOnly} placeholder="all" />
        <Checkbox size="xs" mt={28} label="keep items they have" checked={known === "yes"} onChange={(event) => setKnown(event.currentTarget.checked ? "yes" : "")} />
      </Group>
      {isNew && <ValuesBeside side="item" data={card.data} ids={touched} values={values} onSet={setValues} />}
      {isNew && touched.length === 0 && <p className="quiet">Name an item at least that they have touched.</p>}
      {(isNew ? touched.length > 0 : user) && (
        <Loaded query={query}>
          {(answer) => (
            <>
              <Places label="Items for a user" what="item" rows={answer.list.map((each) => ({ ...each, id: each.item, score: each.score ?? 0, columns: each.columns ?? {} }))} />
              <p className="quiet">
                {answer.leftOut > 0 && `${answer.leftOut} items they have are left out. `}
                {answer.whereKeeps != null && `The condition holds for ${answer.whereKeeps} items. `}
                {answer.note}
              </p>
            </>
          )}
        </Loaded>
      )}
    </Section>
  );
}
