import { Table } from "@mantine/core";
import type { FileProposal } from "../../../api/imports";

/** The first rows of a file as they are read. */
export function PreviewRows({ file }: { file: FileProposal }) {
  return (
    <Table.ScrollContainer minWidth={320}>
      <Table className="figure-table" aria-label={`First rows of ${file.file}`} verticalSpacing={2} withRowBorders={false}>
        <Table.Thead>
          <Table.Tr>{file.columns.map((each) => <Table.Th key={each.column}>{each.column}</Table.Th>)}</Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {file.preview.map((row, place) => (
            <Table.Tr key={place}>
              {row.map((cell, column) => <Table.Td key={file.columns[column]?.column ?? column}>{cell === null ? <span className="quiet">missing</span> : <span className="cell-text">{cell}</span>}</Table.Td>)}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Table.ScrollContainer>
  );
}
