import { Button, Group, Pagination, Table } from "@mantine/core";
import { useState, type ReactNode } from "react";
import { toParquet } from "../api/datasets";
import { save, toCsv } from "./download";

type Cell = string | number | null;

/** One column: `value` is what is sorted and downloaded, `show` what is drawn. */
export interface FigureColumn<Row> {
  title: string;
  value: (row: Row) => Cell;
  show?: (row: Row) => ReactNode;
  number?: boolean;
  width?: string;
  /** Draw to the cell's edges, so that what is drawn joins up from row to row. */
  flush?: boolean;
}

interface Props<Row> {
  label: string;
  rows: Row[];
  columns: FigureColumn<Row>[];
  rowKey: (row: Row) => string;
  pageSize?: number;
}

function compare(a: Cell, b: Cell): number {
  if (a === null || b === null) return a === b ? 0 : a === null ? 1 : -1;
  return typeof a === "number" && typeof b === "number" ? a - b : String(a).localeCompare(String(b));
}

/** A table that sorts by any column, pages, and downloads as CSV. */
export function FigureTable<Row>({ label, rows, columns, rowKey, pageSize = 25 }: Props<Row>) {
  const [sort, setSort] = useState<{ column: number; down: boolean } | null>(null);
  const [page, setPage] = useState(1);
  const by = sort && columns[sort.column];
  const ordered = by ? rows.toSorted((a, b) => compare(by.value(a), by.value(b)) * (sort.down ? -1 : 1)) : rows;
  const pages = Math.max(1, Math.ceil(rows.length / pageSize));
  const shown = ordered.slice((Math.min(page, pages) - 1) * pageSize, Math.min(page, pages) * pageSize);
  const titles = columns.map((c) => c.title || "name");
  const cells = () => ordered.map((row) => columns.map((c) => c.value(row)));
  const saveCsv = () => save(`${label}.csv`, new Blob([toCsv(titles, cells())], { type: "text/csv" }));
  const saveParquet = async () => save(`${label}.parquet`, await toParquet(titles, cells()));
  return (
    <>
      <Table.ScrollContainer minWidth={320}>
        <Table className="figure-table" aria-label={label} verticalSpacing={4} withRowBorders={false}>
          <Table.Thead>
            <Table.Tr>
              {columns.map((column, index) => {
                const down = sort?.column === index ? sort.down : undefined;
                return (
                  <Table.Th
                    key={column.title}
                    className={column.number ? "number" : undefined}
                    w={column.width}
                    aria-sort={down === undefined ? "none" : down ? "descending" : "ascending"}
                  >
                    <button className="sort-button" onClick={() => setSort({ column: index, down: down === undefined ? !!column.number : !down })}>
                      {column.title}
                      {down === undefined ? "" : down ? " ↓" : " ↑"}
                    </button>
                  </Table.Th>
                );
              })}
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {shown.map((row) => (
              <Table.Tr key={rowKey(row)}>
                {columns.map((column) => (
                  <Table.Td key={column.title} className={column.number ? "number" : undefined} py={column.flush ? 0 : undefined}>
                    {column.show ? column.show(row) : column.value(row)}
                  </Table.Td>
                ))}
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </Table.ScrollContainer>
      <Group justify="space-between" mt={4}>
        <Group gap={0}>
          <Button variant="subtle" size="compact-xs" onClick={saveCsv}>CSV</Button>
          <Button variant="subtle" size="compact-xs" onClick={() => void saveParquet()}>Parquet</Button>
        </Group>
        {pages > 1 && (
          <Pagination
            total={pages}
            value={Math.min(page, pages)}
            onChange={setPage}
            size="xs"
            getControlProps={(control) => ({ "aria-label": `${control} page` })}
            getItemProps={(item) => ({ "aria-label": `page ${item}` })}
          />
        )}
      </Group>
    </>
  );
}
