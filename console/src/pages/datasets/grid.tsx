import { FigureTable } from "../../parts/FigureTable";
import { count } from "../../parts/format";

const LONG = 30;

function plain(cell: unknown): string | number | null {
  if (cell === null || cell === undefined) return null;
  if (Array.isArray(cell)) return cell.join("|");
  if (typeof cell === "number" || typeof cell === "string") return cell;
  return String(cell);
}

function drawn(cell: unknown): string {
  const value = plain(cell);
  if (value === null) return "–";
  if (typeof value === "number") return Number.isInteger(value) ? count(value) : String(Number(value.toPrecision(6)));
  return value.replace(/^(\d{4}-\d{2}-\d{2})T(\d{2}:\d{2}:\d{2})(\.\d+)?Z?$/, "$1 $2");
}

/** Rows of any columns, as an answer of the service has them. */
export function Grid({ label, columns, numbers, rows }: { label: string; columns: string[]; numbers: boolean[]; rows: unknown[][] }) {
  const numbered = rows.map((cells, at) => ({ at, cells }));
  return (
    <FigureTable
      label={label}
      rows={numbered}
      rowKey={(row) => String(row.at)}
      columns={columns.map((title, at) => ({
        title,
        number: numbers[at],
        value: (row: (typeof numbered)[number]) => plain(row.cells[at]),
        show: (row: (typeof numbered)[number]) => {
          const text = drawn(row.cells[at] ?? null);
          return <span className="cell-text" title={text.length > LONG ? text : undefined}>{text}</span>;
        },
      }))}
    />
  );
}
