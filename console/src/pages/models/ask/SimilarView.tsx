import { Group, SegmentedControl } from "@mantine/core";
import { useSimilar, type ModelCard } from "../../../api/models";
import { Section } from "../../../parts/page";
import { Loaded } from "../../../parts/states";
import { useChoice } from "../choice";
import { IdPicker } from "../../../parts/ids/IdPicker";
import { AllAlike } from "./AllAlike";
import { Condition } from "../../../parts/Condition";
import { exampleOf } from "./conditionExample";
import { LikenessView } from "./LikenessView";
import { Places } from "./Places";

/** Items like an item, or users like a user. */
export function SimilarView({ card }: { card: ModelCard }) {
  const [side, setSide] = useChoice("side", "item");
  const [id, setId] = useChoice("id");
  const [other, setOther] = useChoice("with");
  const of = side === "user" ? "user" : "item";
  const [where, setWhere] = useChoice("where");
  const query = useSimilar(card.name, of, id, where);
  return (
    <Section title={`${of === "item" ? "Items" : "Users"} like one`}>
      <Group align="start" mb="sm">
        <SegmentedControl
          size="xs"
          mt={22}
          aria-label="Side"
          value={of}
          data={[{ value: "item", label: "items" }, { value: "user", label: "users" }]}
          onChange={(next) => {
            setId("");
            setWhere("");
            setOther("");
            setSide(next);
          }}
        />
        <IdPicker key={of} side={of} data={card.data} chosen={id} onChoose={setId} />
        <Condition key={`where ${of}`} value={where} onSet={setWhere} example={exampleOf(query.data?.list[0]?.columns)} />
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
              <AllAlike key={of} model={card.name} side={of} where={where} />
              {other && <LikenessView card={card} side={of} one={id} other={other} onClose={() => setOther("")} />}
            </>
          )}
        </Loaded>
      )}
    </Section>
  );
}
