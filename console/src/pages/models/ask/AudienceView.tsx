import { Checkbox, Group, SegmentedControl } from "@mantine/core";
import { useAudience, type ModelCard } from "../../../api/models";
import { IdsPicker } from "../../../parts/ids/IdsPicker";
import { Section } from "../../../parts/page";
import { Loaded } from "../../../parts/states";
import { useChoice, useChoices, usePairs } from "../choice";
import { IdPicker } from "../../../parts/ids/IdPicker";
import { Condition } from "../../../parts/Condition";
import { exampleOf } from "./conditionExample";
import { Places } from "./Places";
import { ValuesBeside, valuesOf } from "./ValuesBeside";

/** Users for an item it knows, or for a new one from users who touched it. */
export function AudienceView({ card }: { card: ModelCard }) {
  const [what, setWhat] = useChoice("what", "known");
  const [item, setItem] = useChoice("item");
  const [touchedBy, setTouchedBy] = useChoices("by");
  const [values, setValues] = usePairs("values");
  const [where, setWhere] = useChoice("where");
  const [known, setKnown] = useChoice("known");
  const isNew = card.folds_in_items && what === "new";
  const query = useAudience(card.name, { item: isNew ? "" : item, touchedBy: isNew ? touchedBy : [], values: isNew ? valuesOf(touchedBy, values) : undefined, where, known: known === "yes" });
  return (
    <Section title="Users for an item">
      <Group align="start" mb="sm">
        {card.folds_in_items && (
          <SegmentedControl
            size="xs" mt={22} aria-label="Which item" value={isNew ? "new" : "known"} onChange={setWhat}
            data={[{ value: "known", label: "an item it knows" }, { value: "new", label: "a new item" }]}
          />
        )}
        {isNew ? (
          <IdsPicker label="Users who touched it, by id or name" side="user" data={card.data} ids={touchedBy} onChange={setTouchedBy} />
        ) : (
          <IdPicker side="item" data={card.data} chosen={item} onChoose={setItem} />
        )}
        <Condition value={where} onSet={setWhere} example={exampleOf(query.data?.users[0]?.columns)} />
        <Checkbox size="xs" mt={28} label="keep users who have it" checked={known === "yes"} onChange={(event) => setKnown(event.currentTarget.checked ? "yes" : "")} />
      </Group>
      {isNew && <ValuesBeside side="user" data={card.data} ids={touchedBy} values={values} onSet={setValues} />}
      {isNew && touchedBy.length === 0 && <p className="quiet">Name a user at least who touched it.</p>}
      {(isNew ? touchedBy.length > 0 : item) && (
        <Loaded query={query}>
          {(audience) => <Places label="Users for an item" what="user" rows={audience.users.map((each) => ({ ...each, id: each.user, columns: each.columns ?? {} }))} />}
        </Loaded>
      )}
    </Section>
  );
}
