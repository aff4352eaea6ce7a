import { type Schemas } from "../../../api/http";
import { FigureTable } from "../../../parts/FigureTable";
import { count, moment } from "../../../parts/format";

type Check = Schemas["ShelfCheck"];

interface ModelProps {
  name: string | null | undefined;
  figure?: number | null;
  metric?: string | null;
  trainedOn?: string | null;
}

function Model({ name, figure: value, metric, trainedOn }: ModelProps) {
  if (name == null) return <>no model</>;
  const rows = trainedOn?.startsWith("everything") ? "all rows" : "training part only";
  return <>{name}<br /><span className="quiet">{value != null && metric && `${metric} ${value.toFixed(4)}, `}{rows}</span></>;
}

/** Mistakes with their lines, or what each part of the condition leaves. */
export function Checked({ check }: { check: Check }) {
  const parts = check.parts ?? [];
  const sampled = check.sampled;
  return (
    <div role="status" aria-label="What the file comes to" style={{ marginTop: 14 }}>
      {check.problems.map((each) => (
        <p key={`${each.line}${each.message}`} className="warn" style={{ margin: "6px 0 0" }}>line {each.line}: {each.field}: {each.message}</p>
      ))}
      {(check.warnings ?? []).map((each) => <p key={each} className="warn" style={{ margin: "6px 0 0" }}>{each}</p>)}
      {(check.changes ?? []).length > 0 && (
        <FigureTable
          label="Models that change"
          rows={check.changes ?? []}
          rowKey={(row) => `${row.role} ${row.before} ${row.after}`}
          columns={[
            { title: "role", value: (row) => row.role },
            { title: "served now", value: (row) => row.before ?? "–", show: (row) => <Model name={row.before} figure={row.before_figure} metric={row.metric} trainedOn={row.before_trained_on} /> },
            { title: "after publishing", value: (row) => row.after ?? "–", show: (row) => <Model name={row.after} figure={row.after_figure} metric={row.metric} trainedOn={row.after_trained_on} /> },
          ]}
        />
      )}
      {parts.length > 0 && (
        <FigureTable
          label="Parts of the condition"
          rows={parts}
          rowKey={(row) => row.text}
          columns={[
            { title: "condition", value: (row) => row.text, show: (row) => <code>{row.text}</code> },
            { title: "leaves", number: true, value: (row) => row.left ?? null, show: (row) => (row.left == null ? "–" : count(row.left)) },
            { title: "depends on", value: (row) => (row.depends_on ?? []).join(", ") || "nothing" },
          ]}
        />
      )}
      <p className="quiet">
        {check.problems.length === 0 && "Nothing wrong. "}
        {parts.length > 0 && check.left != null && `${count(check.left)} of ${count(check.items ?? 0)} items are left${parts.some((part) => part.left == null) ? " by what depends on nothing" : ""}. `}
        {sampled && `For ${sampled.users} users drawn at random it leaves ${count(sampled.least)} to ${count(sampled.most)} items, median ${count(sampled.median)}. `}
        {check.next_refresh_at && `Next refresh by its schedule: ${moment(check.next_refresh_at)}.`}
      </p>
    </div>
  );
}
