import { Select } from "@mantine/core";
import { useAgreement, type Run } from "../../../api/contests";
import { FigureTable } from "../../../parts/FigureTable";
import { Section } from "../../../parts/page";
import { useSearch } from "../../../parts/search";
import { Shade } from "../../../parts/Shade";
import { Loaded } from "../../../parts/states";

interface Row { metric: string; values: (number | null)[] }

/** Whether two metrics order the users of a contender alike: Spearman's rho of every pair of metrics. */
export function AgreementView({ run, part }: { run: Run; part: "test" | "validation" }) {
  const [search, choose] = useSearch();
  const labels = (run.standings ?? []).map((each) => each.contender);
  const contender = labels.find((each) => each === search.get("agreement")) ?? run.winner ?? labels[0] ?? "";
  const query = useAgreement(run.name, contender, part);
  if ((run.spec.rank?.metrics ?? []).length < 2) return null;
  const side = <Select aria-label="Contender whose metrics are compared" size="xs" w={220} data={labels} value={contender} allowDeselect={false} onChange={(value) => value && choose("agreement", value)} />;
  return (
    <Section title={`Do the metrics agree, ${part} part`} side={side}>
      <Loaded query={query}>
        {(agreement) => (
          <>
            <FigureTable
              label="Do the metrics agree"
              rows={agreement.metrics.map((metric, place): Row => ({ metric, values: agreement.spearman[place] ?? [] }))}
              rowKey={(row) => row.metric}
              columns={[
                { title: "Spearman", value: (row) => row.metric },
                ...agreement.metrics.map((metric, place) => ({ title: metric, number: true, value: (row: Row) => row.values[place] ?? null, show: (row: Row) => <Shade value={row.values[place]} /> })),
              ]}
            />
            <p className="quiet">Over {agreement.users} users of {contender}. Metrics near 1 rank the users alike: one of them says it all.</p>
          </>
        )}
      </Loaded>
    </Section>
  );
}
