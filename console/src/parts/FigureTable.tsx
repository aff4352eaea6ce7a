import { Button, Checkbox, Group, Pagination, Popover, Stack, Table, VisuallyHidden } from "@mantine/core";
import { useSessionStorage } from "@mantine/hooks";
import { useState, type ReactNode } from "react";
import { toParquet } from "../api/datasets";
import { save, toCsv } from "./download";

type Cell = string | number | null;

/** One column: `value` is what is sorted and downloaded, `show` what is drawn. One without a title holds buttons. */
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

/** From so many columns on, a person may want some of them away. */
const MANY_COLUMNS = 4;

function compare(a: Cell, b: Cell): number {
  if (a === null || b === null) return a === b ? 0 : a === null ? 1 : -1;
  return typeof a === "number" && typeof b === "number" ? a - b : String(a).localeCompare(String(b));
}

/** Which of a table's columns are shown, kept while the window is open. */
function ChooseColumns({ titles, hidden, onHide }: { titles: string[]; hidden: string[]; onHide: (hidden: string[]) => void }) {
  const shown = titles.filter((title) => !hidden.includes(title));
  return (
    <Popover position="top-start" withinPortal shadow="sm">
      <Popover.Target><Button variant="subtle" size="compact-xs">Columns</Button></Popover.Target>
      <Popover.Dropdown>
        <Checkbox.Group aria-label="Columns shown" value={shown} onChange={(next) => next.length > 0 && onHide(titles.filter((title) => !next.includes(title)))}>
          <Stack gap={6}>{titles.map((title) => <Checkbox key={title} size="xs" value={title} label={title} />)}</Stack>
        </Checkbox.Group>
      </Popover.Dropdown>
    </Popover>
  );
}

/** A table that sorts by any column, pages, leaves columns out, and downloads as CSV or Parquet. */
export function FigureTable<Row>({ label, rows, columns: every, rowKey, pageSize = 25 }: Props<Row>) {
  const [hidden, hide] = useSessionStorage<string[]>({ key: `columns of ${label}`, defaultValue: [] });
  const named = every.filter((column) => column.title).map((column) => column.title);
  const columns = every.filter((column) => !hidden.includes(column.title) || named.every((title) => hidden.includes(title)));
  const [sort, setSort] = useState<{ column: string; down: boolean } | null>(null);
  const [page, setPage] = useState(1);
  const by = sort && columns.find((column) => column.title === sort.column);
  const ordered = by ? rows.toSorted((a, b) => compare(by.value(a), by.value(b)) * (sort.down ? -1 : 1)) : rows;
  const pages = Math.max(1, Math.ceil(rows.length / pageSize));
  const shown = ordered.slice((Math.min(page, pages) - 1) * pageSize, Math.min(page, pages) * pageSize);
  const told = columns.filter((column) => column.title);
  const titles = told.map((column) => column.title);
  const cells = () => ordered.map((row) => told.map((column) => column.value(row)));
  const saveCsv = () => save(`${label}.csv`, new Blob([toCsv(titles, cells())], { type: "text/csv" }));
  const saveParquet = async () => save(`${label}.parquet`, await toParquet(titles, cells()));
  return (
    <>
      <Table.ScrollContainer minWidth={320}>
        <Table className="figure-table" aria-label={label} verticalSpacing={4} withRowBorders={false}>
          <Table.Thead>
            <Table.Tr>
              {columns.map((column) => {
                if (!column.title) return <Table.Th key=""><VisuallyHidden>what can be done</VisuallyHidden></Table.Th>;
                const down = sort?.column === column.title ? sort.down : undefined;
                return (
                  <Table.Th
                    key={column.title}
                    className={column.number ? "number" : undefined}
                    w={column.width}
                    aria-sort={down === undefined ? "none" : down ? "descending" : "ascending"}
                  >
                    <button className="sort-button" onClick={() => setSort({ column: column.title, down: down === undefined ? !!column.number : !down })}>
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
          {named.length >= MANY_COLUMNS && <ChooseColumns titles={named} hidden={hidden} onHide={hide} />}
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
