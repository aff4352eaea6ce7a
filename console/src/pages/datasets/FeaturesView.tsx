import { useEncoding, type DatasetVersion } from "../../api/datasets";
import { FigureTable } from "../../parts/FigureTable";
import { count, percent } from "../../parts/format";
import { Section } from "../../parts/page";
import { Loaded, Empty } from "../../parts/states";

/** How item and user columns become the features of a model. */
export function FeaturesView({ version }: { version: DatasetVersion }) {
  const hasItems = (version.item_columns ?? []).length > 0;
  const hasUsers = (version.user_columns ?? []).length > 0;
  if (!hasItems && !hasUsers) {
    return <Empty what="This version has neither an item nor a user table. They come in with the interactions." />;
  }
  return (
    <>
      {hasItems && <Encoding version={version.name} table="items" />}
      {hasUsers && <Encoding version={version.name} table="users" />}
    </>
  );
}

function Encoding({ version, table }: { version: string; table: "items" | "users" }) {
  const query = useEncoding(version, table);
  return (
    <Section title={`Features of ${table}`}>
      <Loaded query={query}>
        {(report) => (
          <>
            <p className="quiet">
              {count(report.rows)} rows, {count(report.features)} features, {percent(report.filled)} of them not zero; learned from the {table} that have interactions.
            </p>
            <FigureTable
              label={`Features of ${table}`}
              rows={report.columns}
              rowKey={(row) => row.column}
              columns={[
                { title: "column", value: (row) => row.column },
                { title: "as", value: (row) => row.role },
                { title: "features", number: true, value: (row) => row.features, show: (row) => count(row.features) },
                { title: "missing", number: true, value: (row) => row.missing, show: (row) => count(row.missing) },
                { title: "how", value: (row) => row.how },
                { title: "such as", value: (row) => (row.examples ?? []).slice(0, 2).join(", ") },
              ]}
            />
          </>
        )}
      </Loaded>
    </Section>
  );
}
