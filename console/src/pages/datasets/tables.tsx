import type { Schemas } from "../../api/http";
import { count, percent } from "../../parts/format";
import { FigureTable } from "../../parts/FigureTable";
import { Section } from "../../parts/page";

const SPREAD = ["min", "q25", "median", "q75", "q99", "max", "mean"];
const NAMES: Record<string, string> = { min: "least", q25: "a quarter below", median: "half below", q75: "three quarters below", q99: "99 % below", max: "most", mean: "mean" };

/** Activity per user and per item. */
export function SpreadTable({ profile }: { profile: Schemas["Profile"] }) {
  const show = (value: number | undefined) => (value === undefined ? "" : Number.isInteger(value) ? count(value) : value.toFixed(1));
  return (
    <Section title="Activity">
      <FigureTable
        label="Activity"
        rows={SPREAD}
        rowKey={(row) => row}
        columns={[
          { title: "rows", value: (row) => NAMES[row] ?? row },
          { title: "per user", number: true, value: (row) => profile.rows_per_user[row] ?? null, show: (row) => show(profile.rows_per_user[row]) },
          { title: "per item", number: true, value: (row) => profile.rows_per_item[row] ?? null, show: (row) => show(profile.rows_per_item[row]) },
        ]}
      />
    </Section>
  );
}

/** Columns of an item or user table. */
export function ColumnsTable({ title, columns }: { title: string; columns: Schemas["TableColumn"][] }) {
  if (!columns.length) return null;
  return (
    <Section title={title}>
      <FigureTable
        label={title}
        rows={columns}
        rowKey={(row) => row.name}
        columns={[
          { title: "column", value: (row) => row.name },
          { title: "type", value: (row) => row.type },
          { title: "different", number: true, value: (row) => row.distinct ?? null, show: (row) => (row.distinct == null ? "" : count(row.distinct)) },
          { title: "missing", number: true, value: (row) => row.missing, show: (row) => count(row.missing) },
        ]}
      />
    </Section>
  );
}

/** Users and items with few rows. */
export function ColdTable({ profile }: { profile: Schemas["Profile"] }) {
  const cold = profile.cold ?? {};
  const users = cold.user ?? [];
  if (!users.length) return null;
  const rows = users.map((user, place) => ({ user, item: cold.item?.[place] }));
  const shareOf = (one: Schemas["ColdCount"] | undefined) => (one ? `${count(one.count)} (${percent(one.share)})` : "");
  return (
    <Section title="Cold users and items">
      <FigureTable
        label="Cold users and items"
        rows={rows}
        rowKey={(row) => String(row.user.at_most)}
        columns={[
          { title: "with at most", number: true, value: (row) => row.user.at_most, show: (row) => `${row.user.at_most} ${row.user.at_most === 1 ? "row" : "rows"}` },
          { title: "users", number: true, value: (row) => row.user.count, show: (row) => shareOf(row.user) },
          { title: "items", number: true, value: (row) => row.item?.count ?? null, show: (row) => shareOf(row.item) },
        ]}
      />
    </Section>
  );
}
