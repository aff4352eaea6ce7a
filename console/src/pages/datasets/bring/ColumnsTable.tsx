import { Select, Table } from "@mantine/core";
import type { ColumnGuess, FileProposal, Source, TypeName } from "../../../api/imports";
import { percent } from "../../../parts/format";
import { ROLES, withSource, type ImportDraft, type RoleName, type TableName } from "./importDraft";

const TYPES: TypeName[] = ["category", "categories", "number", "flag", "date", "text", "link", "picture", "ignored"];
const CONTEXT = "context";
const LEFT_OUT = "left out";
const AUTOMATIC = "automatic";

interface Props {
  file: FileProposal;
  draft: ImportDraft;
  roles: Partial<Record<RoleName, string>>;
  change: (change: (now: ImportDraft) => ImportDraft) => void;
}

/** The columns of one file: what each is taken for and why, to be changed by hand. */
export function ColumnsTable({ file, draft, roles, change }: Props) {
  const table = file.part as TableName;
  const rows = table === "interactions";
  return (
    <Table.ScrollContainer minWidth={640}>
      <Table className="figure-table" aria-label={`Columns of ${file.file}`} verticalSpacing={3} withRowBorders={false}>
        <Table.Thead>
          <Table.Tr>
            {["column", "role", "type", "why", "such as"].map((title) => <Table.Th key={title}>{title}</Table.Th>)}
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {file.columns.map((column) => (
            <Table.Tr key={column.column}>
              <Table.Td>{column.column}</Table.Td>
              <Table.Td>{rows ? <RoleSelect column={column.column} draft={draft} roles={roles} change={change} /> : <IdSelect table={table} column={column} draft={draft} change={change} />}</Table.Td>
              <Table.Td>
                {rows && roles.time === column.column
                  ? <TimeFormatSelect column={column} source={draft.sources.interactions} change={change} />
                  : <TypeSelect table={table} column={column} source={draft.sources[table]} change={change} fixed={rows && !draft.context.includes(column.column)} />}
              </Table.Td>
              <Table.Td className="quiet">{column.reason}</Table.Td>
              <Table.Td className="quiet"><span className="cell-text">{(column.examples ?? []).join(", ")}</span></Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Table.ScrollContainer>
  );
}

function RoleSelect({ column, draft, roles, change }: { column: string } & Omit<Props, "file">) {
  const role = draft.context.includes(column) ? CONTEXT : (ROLES.find((each) => roles[each] === column) ?? LEFT_OUT);
  const choose = (next: string) =>
    change((now) => {
      const kept: ImportDraft["roles"] = { ...now.roles };
      // what had been proposed for this column holds no longer
      for (const each of ROLES) if (roles[each] === column) kept[each] = null;
      if (next !== CONTEXT && next !== LEFT_OUT) kept[next as RoleName] = column;
      const others = now.context.filter((each) => each !== column);
      return { ...now, roles: kept, context: next === CONTEXT ? [...others, column] : others };
    });
  return (
    <Select
      aria-label={`Role of ${column}`} size="xs" w={120} allowDeselect={false}
      data={[...ROLES, CONTEXT, LEFT_OUT]} value={role} onChange={(value) => value && choose(value)}
    />
  );
}

function IdSelect({ table, column, draft, change }: { table: TableName; column: ColumnGuess } & Omit<Props, "file" | "roles">) {
  const source = draft.sources[table];
  const isId = source?.id ? source.id === column.column : column.type === "id";
  const isName = source?.name !== undefined ? source.name === column.column : column.role === "name";
  const choose = (role: string) =>
    source && change((now) => withSource(now, table, role === "id" ? { ...source, id: column.column } : { ...source, name: role === "name" ? column.column : null }));
  return (
    <Select
      aria-label={`Role of ${column.column} in ${table}`} size="xs" w={120} allowDeselect={false}
      data={["id", "name", "column"]} value={isId ? "id" : isName ? "name" : "column"}
      onChange={(value) => value && (value !== "column" || isName) && choose(value)}
    />
  );
}

/** How the time column is written: found from its cells unless chosen. A choice is a step of the file that reads it. */
function TimeFormatSelect({ column, source, change }: { column: ColumnGuess; source: Source | undefined; change: Props["change"] }) {
  const steps = source?.derive ?? [];
  const step = steps.find((each) => each.time === column.column);
  const formats = column.time_formats ?? [];
  const found = formats[0];
  const labels = formats.map((each) => ({ value: each.format, label: `${each.label}: ${each.format} (${percent(each.share)})` }));
  const declared = step?.format && !formats.some((each) => each.format === step.format) ? [{ value: step.format, label: step.format }] : [];
  const choose = (format: string) =>
    change((now) => {
      const others = steps.filter((each) => each.time !== column.column);
      const next = format === AUTOMATIC && !step?.zone ? others : [...others, { into: [], take: [], time: column.column, format: format === AUTOMATIC ? null : format, zone: step?.zone ?? null }];
      return source ? withSource(now, "interactions", { ...source, derive: next }) : now;
    });
  const automatic = { value: AUTOMATIC, label: found ? `found: ${found.label}` : "not recognised: choose below" };
  const orders = new Set(formats.filter((each) => each.share === found?.share).map((each) => each.label.split(",")[0]));
  const isClose = !step && orders.has("day first") && orders.has("month first");
  return (
    <Select
      aria-label={`Format of ${column.column}`} size="xs" w={220} allowDeselect={false} data={[automatic, ...labels, ...declared]}
      value={step?.format ?? AUTOMATIC} onChange={(value) => value && choose(value)}
      error={isClose ? "Day or month first? Choose." : undefined}
    />
  );
}

function TypeSelect({ table, column, source, change, fixed }: { table: TableName; column: ColumnGuess; source: Source | undefined; change: Props["change"]; fixed: boolean }) {
  const given = source?.types?.[column.column];
  if (fixed || column.type === "id" || !source) return <span className="quiet">{column.type}</span>;
  const choose = (type: TypeName) =>
    change((now) => withSource(now, table, { ...source, types: { ...source.types, [column.column]: { type, separator: type === "categories" ? (column.separator ?? "|") : null } } }));
  return (
    <Select
      aria-label={`Type of ${column.column}${table === "interactions" ? "" : ` in ${table}`}`} size="xs" w={120} allowDeselect={false}
      data={TYPES} value={given?.type ?? column.type} onChange={(value) => value && choose(value as TypeName)}
    />
  );
}
