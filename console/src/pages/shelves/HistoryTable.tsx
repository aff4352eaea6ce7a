import type { History } from "../../api/datasets";
import { NamedItem } from "../../parts/ids/NamedItem";
import { nameIn } from "../../parts/ids/named";
import { FigureTable } from "../../parts/FigureTable";
import { count } from "../../parts/format";

/** What one user did, newest first. */
export function HistoryTable({ history }: { history: History }) {
  if (!history.known) return <p className="quiet">The data has never seen {history.user}.</p>;
  const rows = history.rows.map((row, place) => ({ ...row, place }));
  const columns = [
    { title: "item", value: (row: (typeof rows)[number]) => row.item, show: (row: (typeof rows)[number]) => <HistoryItem row={row} /> },
    { title: "kind", value: (row: (typeof rows)[number]) => row.kind ?? null },
    { title: "value", number: true, value: (row: (typeof rows)[number]) => row.value ?? null },
    { title: "day, UTC", value: (row: (typeof rows)[number]) => row.time ?? null, show: (row: (typeof rows)[number]) => row.time?.slice(0, 10) ?? "" },
  ];
  return (
    <>
      <FigureTable label="History" rows={rows} rowKey={(row) => String(row.place)} pageSize={12} columns={columns} />
      {history.total > history.rows.length && <p className="quiet">The newest {history.rows.length} of {count(history.total)} rows.</p>}
    </>
  );
}

function HistoryItem({ row }: { row: History["rows"][number] }) {
  return <NamedItem id={row.item} name={nameIn(row.columns)} />;
}
