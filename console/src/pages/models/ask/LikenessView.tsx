import { Button } from "@mantine/core";
import { useLikeness, type ModelCard } from "../../../api/models";
import { FigureTable } from "../../../parts/FigureTable";
import { count } from "../../../parts/format";
import { Section } from "../../../parts/page";
import { Loaded } from "../../../parts/states";

const exact = (value: number) => String(Number(value.toPrecision(6)));

/** How alike two are, worked by hand: the numbers that go in, each step, the result. */
export function LikenessView({ card, side, one, other, onClose }: { card: ModelCard; side: "item" | "user"; one: string; other: string; onClose: () => void }) {
  const query = useLikeness(card.name, side, one, other);
  return (
    <Section title="Likeness worked by hand" side={<Button size="compact-xs" variant="subtle" onClick={onClose}>Close</Button>}>
      <Loaded query={query}>
        {(worked) => (
          <>
            <p>
              The one is <strong className="item-name">{worked.one_name ?? worked.one}</strong>, the other <strong className="item-name">{worked.other_name ?? worked.other}</strong>.
              They are compared by {worked.by}.
            </p>
            {worked.entries.length > 0 && (
              <>
                <FigureTable
                  label={`What both have, by ${worked.entries_of}`} rows={worked.entries} rowKey={(row) => row.id} pageSize={10}
                  columns={[
                    { title: worked.entries_of, value: (row) => row.id },
                    ...(worked.entries.some((each) => each.name) ? [{ title: "name", value: (row: (typeof worked.entries)[number]) => row.name ?? null }] : []),
                    ...Object.keys(worked.entries[0]?.columns ?? {}).map((name) => ({
                      title: name.replaceAll("_", " "), number: true,
                      value: (row: (typeof worked.entries)[number]) => row.columns[name] ?? null,
                      show: (row: (typeof worked.entries)[number]) => exact(row.columns[name] ?? 0),
                    })),
                  ]}
                />
                {worked.entries.length < worked.entries_in_all && <p className="quiet">The {count(worked.entries.length)} that weigh most, of {count(worked.entries_in_all)} that both have.</p>}
              </>
            )}
            <FigureTable
              label="Steps of the likeness" rows={worked.steps} rowKey={(row) => row.what}
              columns={[
                { title: "step", value: (row) => row.what },
                { title: "worked", value: (row) => row.worked },
                { title: "comes to", number: true, value: (row) => row.result, show: (row) => exact(row.result) },
              ]}
            />
            {worked.note && <p className="warn">The model itself goes by {exact(worked.model_has)}: {worked.note}.</p>}
          </>
        )}
      </Loaded>
    </Section>
  );
}
