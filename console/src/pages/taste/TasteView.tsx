import { Button } from "@mantine/core";
import { type ModelCard } from "../../api/models";
import { useList, type ShelfVersion } from "../../api/shelves";
import { Section } from "../../parts/page";
import { Loaded } from "../../parts/states";
import { AnswerTable } from "../shelves/AnswerTable";
import { marksFor } from "./marks";
import { Offered } from "./Offered";
import { Picked } from "./Picked";
import { usePicks } from "./usePicks";

const LISTED = 10;

/** Items to pick beside the list that comes of them. */
export function TasteView({ shelf, card }: { shelf: ShelfVersion; card: ModelCard | undefined }) {
  const { picked, values, toggle, say, clear } = usePicks();
  const answer = useList(["taste", shelf.name], shelf.shelf, { recent: picked, values, n: LISTED });
  return (
    <div className="columns">
      <div>
        <Section title="Picked" side={<Button size="compact-xs" variant="default" disabled={!picked.length} onClick={clear}>Start again</Button>}>
          <Picked shelf={shelf} picked={picked} values={values} marks={marksFor(card)} onSay={say} onDrop={toggle} />
        </Section>
        <Section title="To pick from">
          <Offered shelf={shelf} picked={picked} onToggle={toggle} />
        </Section>
      </div>
      <Section title="What they would be shown, and why">
        <Loaded query={answer}>{(list) => <AnswerTable answer={list} />}</Loaded>
      </Section>
    </div>
  );
}
