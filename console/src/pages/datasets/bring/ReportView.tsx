import type { Schemas } from "../../../api/http";
import type { ImportReport } from "../../../api/imports";
import { FigureTable } from "../../../parts/FigureTable";
import { count } from "../../../parts/format";
import { Section } from "../../../parts/page";

/** What import read, kept, dropped and found. */
export function ReportView({ report }: { report: ImportReport }) {
  return (
    <>
      <Section title="Findings">
        {report.findings.length === 0 && <p className="quiet">Nothing odd.</p>}
        <ul className="findings">
          {report.findings.map((finding) => (
            <Finding key={finding.text} finding={finding} />
          ))}
        </ul>
      </Section>
      <Section title="Files">
        <FigureTable
          label="Files"
          rows={report.files}
          rowKey={(row) => row.part}
          columns={[
            { title: "part", value: (row) => row.part },
            { title: "file", value: (row) => row.file },
            { title: "format", value: (row) => [row.format, ...Object.entries(row.details ?? {}).map(([key, value]) => `${key} ${value}`)].join(", ") },
            { title: "rows read", number: true, value: (row) => row.rows_read, show: (row) => count(row.rows_read) },
            { title: "kept", number: true, value: (row) => row.rows_kept, show: (row) => count(row.rows_kept) },
            { title: "left out", value: (row) => (row.unused ?? []).join(", ") },
          ]}
        />
      </Section>
      <div className="columns">
        <Dropped files={report.files} />
        <Missing files={report.files} />
      </div>
    </>
  );
}

function Finding({ finding }: { finding: Schemas["Finding"] }) {
  return (
    <li>
      {finding.level === "warning" && <strong className="warn">Attention: </strong>}
      {finding.text}
      {finding.examples && finding.examples.length > 0 && <span className="quiet"> such as {finding.examples.join(", ")}</span>}
    </li>
  );
}

function Dropped({ files }: { files: Schemas["FileReport"][] }) {
  const rows = files.flatMap((file) => (file.dropped ?? []).map((each) => ({ ...each, file: file.file })));
  return (
    <Section title="Rows that were dropped">
      {rows.length === 0 ? (
        <p className="quiet">None.</p>
      ) : (
        <FigureTable
          label="Rows that were dropped"
          rows={rows}
          rowKey={(row) => row.file + row.reason}
          columns={[
            { title: "file", value: (row) => row.file },
            { title: "reason", value: (row) => row.reason },
            { title: "rows", number: true, value: (row) => row.rows, show: (row) => count(row.rows) },
            { title: "such as", value: (row) => (row.examples ?? []).join("; ") },
          ]}
        />
      )}
    </Section>
  );
}

function Missing({ files }: { files: Schemas["FileReport"][] }) {
  const rows = files.flatMap((file) => Object.entries(file.missing ?? {}).map(([column, cells]) => ({ file: file.file, column, cells, of: file.rows_kept })));
  return (
    <Section title="Cells without a value">
      {rows.length === 0 ? (
        <p className="quiet">None.</p>
      ) : (
        <FigureTable
          label="Cells without a value"
          rows={rows}
          rowKey={(row) => row.file + row.column}
          columns={[
            { title: "file", value: (row) => row.file },
            { title: "column", value: (row) => row.column },
            { title: "missing", number: true, value: (row) => row.cells, show: (row) => count(row.cells) },
            { title: "of rows", number: true, value: (row) => row.of, show: (row) => count(row.of) },
          ]}
        />
      )}
    </Section>
  );
}
