import { Select } from "@mantine/core";
import { useShelfHistory, useShelves, type Answer, type ShelfVersion } from "../../api/shelves";
import { Section } from "../../parts/page";
import { AnswerTable } from "./AnswerTable";

/** Chooses another shelf, or an earlier version of this one, for the same request. */
export function BesidePicker({ shelf, beside, onPick }: { shelf: ShelfVersion; beside: string; onPick: (beside: string) => void }) {
  const shelves = useShelves();
  const history = useShelfHistory(shelf.shelf);
  const versions = history.data?.versions.map((each) => each.name).filter((name) => name !== shelf.name) ?? [];
  const others = shelves.data?.items.map((each) => each.shelf).filter((name) => name !== shelf.shelf) ?? [];
  const groups = [{ group: "Versions of this shelf", items: versions }, { group: "Other shelves", items: others }];
  return (
    <Select
      label="Beside"
      size="xs"
      w={180}
      placeholder="nothing"
      clearable
      searchable
      data={groups.filter((each) => each.items.length > 0)}
      value={beside || null}
      onChange={(value) => onPick(value ?? "")}
    />
  );
}

/** Two lists for the same person, each place with where its item stands in the other. */
export function TwoLists({ one, other }: { one: Answer; other: Answer }) {
  return (
    <>
      <p className="quiet">{shared(one, other)}</p>
      <div className="columns">
        <Section title={named(one)}>
          <AnswerTable answer={one} other={other} label={`List of ${named(one)}`} />
        </Section>
        <Section title={named(other)}>
          <AnswerTable answer={other} other={one} label={`List of ${named(other)}`} />
        </Section>
      </div>
    </>
  );
}

function named(answer: Answer): string {
  return `${answer.shelf}@${answer.version}`;
}

function shared(one: Answer, other: Answer): string {
  const there = new Map(other.list.map((place) => [place.item, place.position]));
  const both = one.list.filter((place) => there.has(place.item));
  const same = both.filter((place) => there.get(place.item) === place.position).length;
  return `${both.length} of ${Math.max(one.list.length, other.list.length)} stand in both, ${same} at the same place.`;
}
