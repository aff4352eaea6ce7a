import { useComparison, type Run } from "../../../api/contests";
import { type Schemas } from "../../../api/http";
import { FigureTable } from "../../../parts/FigureTable";
import { count } from "../../../parts/format";
import { Section } from "../../../parts/page";
import { Swatch, type Shape } from "../../../parts/charts/shapes";
import { Loaded } from "../../../parts/states";

type Pair = Schemas["PairDifference"];

interface Props {
  run: Run;
  metric: string;
  shapes: Map<string, Shape>;
}

function signed(value: number): string {
  return `${value < 0 ? "−" : "+"}${Math.abs(value).toFixed(4)}`;
}

function chance(p: number): string {
  return p < 0.0001 ? "< 0.0001" : p.toFixed(4);
}

/** Every pair of contenders compared user by user: as a grid, and as a table of figures. */
export function WhatBeatsWhat({ run, metric, shapes }: Props) {
  const query = useComparison(run.name, metric);
  return (
    <Section title={`What beats what, ${metric} on the test part`}>
      <Loaded query={query}>
        {(comparison) => (
          <>
            <Grid pairs={comparison.pairs} names={(run.standings ?? []).map((each) => each.contender)} shapes={shapes} />
            <p className="quiet">Row less column, user by user. In full ink: real after correction for all pairs (Holm). Faint: cannot be told apart at this size.</p>
            <FigureTable
              label={`Pairs of ${run.name} by ${metric}`}
              rows={comparison.pairs.toSorted((a, b) => a.p_holm - b.p_holm)}
              rowKey={(row) => `${row.first} ${row.second}`}
              pageSize={6}
              columns={[
                { title: "first", value: (row) => row.first },
                { title: "second", value: (row) => row.second },
                { title: "difference", number: true, value: (row) => row.difference, show: (row) => signed(row.difference) },
                { title: "low", number: true, value: (row) => row.low, show: (row) => signed(row.low) },
                { title: "high", number: true, value: (row) => row.high, show: (row) => signed(row.high) },
                { title: "p", number: true, value: (row) => row.p, show: (row) => chance(row.p) },
                { title: "p, corrected", number: true, value: (row) => row.p_holm, show: (row) => chance(row.p_holm) },
                { title: "users", number: true, value: (row) => row.users, show: (row) => count(row.users) },
                { title: "the first is", value: (row) => row.verdict, show: (row) => <span className={row.verdict === "cannot tell" ? "warn" : undefined}>{row.verdict}</span> },
              ]}
            />
          </>
        )}
      </Loaded>
    </Section>
  );
}

function Grid({ pairs, names, shapes }: { pairs: Pair[]; names: string[]; shapes: Map<string, Shape> }) {
  const compared = names.filter((name) => pairs.some((pair) => pair.first === name || pair.second === name));
  const gap = (row: string, column: string) => {
    const straight = pairs.find((pair) => pair.first === row && pair.second === column);
    const turned = pairs.find((pair) => pair.first === column && pair.second === row);
    const value = straight ? straight.difference : turned ? -turned.difference : null;
    return value === null ? null : { value, real: (straight ?? turned)?.verdict !== "cannot tell" };
  };
  return (
    <div className="heat-frame" tabIndex={0} role="group" aria-label="Differences of all pairs">
      <table className="heat">
        <thead>
          <tr>
            <td />
            {compared.map((name) => <th key={name} scope="col">{name}</th>)}
          </tr>
        </thead>
        <tbody>
          {compared.map((row) => {
            const shape = shapes.get(row);
            return (
              <tr key={row}>
                <th scope="row">{shape && <Swatch shape={shape} />}{row}</th>
                {compared.map((column) => {
                  const difference = gap(row, column);
                  return <td key={column} className={difference && !difference.real ? "quiet" : undefined}>{difference ? (difference.real ? <strong>{signed(difference.value)}</strong> : signed(difference.value)) : ""}</td>;
                })}
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}
