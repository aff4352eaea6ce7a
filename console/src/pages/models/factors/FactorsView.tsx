import { type Schemas } from "../../../api/http";
import { useFactors, type ModelCard } from "../../../api/models";
import { FigureTable } from "../../../parts/FigureTable";
import { count, percent } from "../../../parts/format";
import { Section } from "../../../parts/page";
import { useSearch } from "../../../parts/search";
import { Loaded } from "../../../parts/states";
import { ItemMap } from "./ItemMap";

const ENDS = 4;

/** What each factor stands for, and the items on the two leading ones. */
export function FactorsView({ card }: { card: ModelCard }) {
  const [search] = useSearch();
  const query = useFactors(card.name, ENDS, search.get("colour"));
  return (
    <Loaded query={query}>
      {(report) => (
        <>
          <FactorTable report={report} />
          <ItemMap points={report.map} columns={report.columns ?? []} />
        </>
      )}
    </Loaded>
  );
}

/** What stands out at an end, in words. */
function trait({ column, value, here, overall }: Schemas["EndTrait"]): string {
  if (value == null) return `${column.replaceAll("_", " ")}: median ${median(here)} here, ${median(overall)} of all`;
  return `${column.replaceAll("_", " ")} ${value}: ${percent(here)} here, ${percent(overall)} of all`;
}

const median = (value: number) => (Number.isInteger(value) ? count(value) : value.toPrecision(3));

function End({ traits, items }: { traits: Schemas["EndTrait"][]; items: Schemas["FactorEnd"][] }) {
  return (
    <>
      {traits.map((each) => <div key={each.column}>{trait(each)}</div>)}
      <div className="item-name quiet">{items.map((each) => each.name ?? each.item).join(", ")}</div>
    </>
  );
}

function FactorTable({ report }: { report: Schemas["FactorsReport"] }) {
  const said = (traits: Schemas["EndTrait"][] = [], items: Schemas["FactorEnd"][]) => [...traits.map(trait), ...items.map((each) => each.name ?? each.item)].join("; ");
  return (
    <Section title="Factors">
      <FigureTable
        label="Factors"
        rows={report.factors}
        rowKey={(row) => String(row.factor)}
        pageSize={6}
        columns={[
          { title: "factor", number: true, value: (row) => row.factor },
          { title: "share of variance", number: true, value: (row) => row.share, show: (row) => percent(row.share) },
          { title: "one end", value: (row) => said(row.top_traits, row.top), show: (row) => <End traits={row.top_traits ?? []} items={row.top} /> },
          { title: "other end", value: (row) => said(row.bottom_traits, row.bottom), show: (row) => <End traits={row.bottom_traits ?? []} items={row.bottom} /> },
        ]}
      />
      <p className="quiet">
        What stands out among the {count(report.end_items ?? 0)} items at each end, beside all items, and the items farthest out. Factors are turned to the principal axes of the scores; where nothing is
        below 0, they are as learned.
      </p>
    </Section>
  );
}
