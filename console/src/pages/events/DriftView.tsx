import { useNames } from "../../api/datasets";
import type { Schemas } from "../../api/http";
import { FigureTable } from "../../parts/FigureTable";
import { percent } from "../../parts/format";
import { NamedItem } from "../../parts/ids/NamedItem";
import { Section } from "../../parts/page";

type Drift = Schemas["LiveDrift"];

/** A distance, and whether it is more than so few rows would show by chance. */
function sentence(name: string, share: number, chance: number): string {
  const more = share > chance * 1.25 ? "more than" : "about what";
  return `${name} ${share.toFixed(3)}, ${more} chance alone would show (${chance.toFixed(3)})`;
}

/** How far events are from the rows of the version: distances of shares, and what moved most. */
export function DriftView({ drift, version }: { drift: Drift; version: string }) {
  const names = useNames(version, "item", drift.movers.map((each) => each.name)).data;
  const parts = [sentence("popularity", drift.popularity, drift.popularity_by_chance)];
  if (drift.values != null && drift.values_by_chance != null) parts.push(sentence("values", drift.values, drift.values_by_chance));
  const means = drift.value_means ? `; mean value ${drift.value_means[0].toFixed(2)}, now ${drift.value_means[1].toFixed(2)}` : "";
  const columns = [
    { title: version, number: true, value: (row: Schemas["Drift"]) => row.before, show: (row: Schemas["Drift"]) => percent(row.before) },
    { title: "events", number: true, value: (row: Schemas["Drift"]) => row.after, show: (row: Schemas["Drift"]) => percent(row.after) },
  ];
  return (
    <Section title={`Drift against ${version}`}>
      <p className="quiet" style={{ margin: 0 }}>Distance of shares, 0 to 1: {parts.join("; ")}{means}.</p>
      <div className="columns">
        <div>
          <FigureTable label="Items that moved most" rows={drift.movers} rowKey={(row) => row.name} pageSize={5} columns={[{ title: "item", value: (row) => row.name, show: (row) => <NamedItem id={row.name} name={names?.get(row.name)} /> }, ...columns]} />
        </div>
        {(drift.kinds ?? []).length > 0 && (
          <div>
            <FigureTable label="Kinds" rows={drift.kinds ?? []} rowKey={(row) => row.name} columns={[{ title: "kind", value: (row) => row.name || "(none)" }, ...columns]} />
          </div>
        )}
      </div>
    </Section>
  );
}
