import { type Schemas } from "../../../api/http";
import { FigureTable } from "../../../parts/FigureTable";
import { count } from "../../../parts/format";
import { Section } from "../../../parts/page";

type Report = Schemas["DivideReport"];
type Part = Report["parts"][number];

/** What each step of a preparation did, and what each part of the split holds. */
export function Divided({ report }: { report: Report }) {
  return (
    <>
      <p className="quiet">
        To train on: {count(report.users)} users, {count(report.items)} items, {count(report.cells)} cells.
        {Object.entries(report.left_out ?? {}).map(([why, rows]) => ` Left out: ${count(rows)} rows ${why}.`)}
      </p>
      <Section title="Steps">
        <FigureTable
          label="Steps"
          rows={report.steps}
          rowKey={(row) => row.name}
          columns={[
            { title: "step", value: (row) => row.name },
            { title: "rows in", number: true, value: (row) => row.rows_in, show: (row) => count(row.rows_in) },
            { title: "rows out", number: true, value: (row) => row.rows_out, show: (row) => count(row.rows_out) },
            { title: "what it did", value: (row) => row.note },
          ]}
        />
      </Section>
      <Section title="Parts">
        <FigureTable
          label="Parts"
          rows={report.parts}
          rowKey={partName}
          columns={[
            { title: "part", value: partName },
            { title: "rows", number: true, value: (row) => row.rows, show: (row) => count(row.rows) },
            { title: "users", number: true, value: (row) => row.users, show: (row) => count(row.users) },
            { title: "items", number: true, value: (row) => row.items, show: (row) => count(row.items) },
            { title: "unseen users", number: true, value: (row) => row.unseen_users ?? null, show: (row) => (row.unseen_users == null ? "" : count(row.unseen_users)) },
            { title: "unseen items", number: true, value: (row) => row.unseen_items ?? null, show: (row) => (row.unseen_items == null ? "" : count(row.unseen_items)) },
            { title: "leak check", value: (row) => row.leak?.verdict ?? null, show: (row) => row.leak && <span className={row.leak.leaks ? "warn" : undefined}>{row.leak.leaks ? "leaks" : "none found"}</span> },
          ]}
        />
        {report.parts.map((part) => part.leak && <p key={partName(part)} className={part.leak.leaks ? "warn" : "quiet"}>Leak check, {partName(part)}: {part.leak.verdict}.</p>)}
        <p className="quiet">Users and items that training never saw are left out of the figures, the same for every contender.</p>
      </Section>
    </>
  );
}

function partName(part: Part): string {
  return part.fold == null ? part.part : `${part.part} ${part.fold}`;
}
