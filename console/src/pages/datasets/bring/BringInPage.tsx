import { Button, Checkbox, Group } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { useDatasets } from "../../../api/datasets";
import { ApiError, versionPath } from "../../../api/http";
import { useBeginImport, useImportLook, useProposal, type FileProposal } from "../../../api/imports";
import { useJob } from "../../../api/jobs";
import { JobProgress } from "../../../parts/jobs/JobProgress";
import { count } from "../../../parts/format";
import { Opened } from "../../../parts/Opened";
import { PageTitle, Section } from "../../../parts/page";
import { Failed, Loading } from "../../../parts/states";
import { useSearch } from "../../../parts/search";
import { ReportView } from "./ReportView";
import { ColumnsTable } from "./ColumnsTable";
import { DerivedColumns } from "./DerivedColumns";
import { ImportFile } from "./ImportFile";
import { ImportSettings, isName } from "./ImportSettings";
import { importRequest, OTHER_PARTS, proposalRequest, rolesOf, TABLES, useImportDraft, withSource, type ImportDraft, type TableName } from "./importDraft";
import { isWithin, type FieldProblem } from "../../../parts/files/yamlFile";
import { JoinedTables } from "./JoinedTables";
import { PreviewRows } from "./PreviewRows";
import { SourceField } from "./SourceField";

/** Which sources the form has room for, and what each is called. */
const PLACES = {
  whole: TABLES.map((table) => [table, table] as const),
  divided: [["interactions", "training"], ...OTHER_PARTS.map((part) => [part, part] as const), ["items", "items"], ["users", "users"]],
} as const;

/** Brings data in: where it is, what its columns are, what would be dropped, and then the import itself. */
export default function BringInPage() {
  const [draft, change, clear] = useImportDraft();
  const [search, choose] = useSearch();
  const onto = search.get("onto");
  useEffect(() => {
    if (onto === null) return;
    // said once, by the link that led here; from now on it is the form's
    const { name, number } = versionPath(onto);
    change((now) => ({ ...now, name, onto: number }));
    choose("onto", null);
  }, [onto, change, choose]);
  const datasets = useDatasets();
  const proposal = useProposal(proposalRequest(draft));
  const asked = proposalRequest(draft);
  const files = asked ? (proposal.data?.files ?? []).filter((file) => hasSource(draft, file.part)) : [];
  const problems = asked ? problemsOf(proposal) : [];
  const proposed = proposal.data?.roles ?? {};
  const roles = rolesOf(draft, proposed);
  return (
    <>
      <PageTitle title="Bring data in">
        <Button size="xs" variant="default" onClick={clear}>Start over</Button>
      </PageTitle>
      <div className="sources">
        {PLACES[draft.divided ? "divided" : "whole"].map(([place, shown]) => (
          <SourceField key={place} table={shown} source={draft.sources[place]} problems={problems.filter((each) => isWithin(each, place))} onChange={(source) => change((now) => withSource(now, place, source))} />
        ))}
      </div>
      <Checkbox
        size="xs" mt="md" mb={4} checked={draft.divided} onChange={(event) => { const divided = event.currentTarget.checked; change((now) => ({ ...now, divided })); }}
        label="My files are already split into training, validation and test"
      />
      <JoinedTables tables={draft.tables} problems={problems} onChange={(tables) => change((now) => ({ ...now, tables }))} />
      {proposal.isLoading && <Loading lines={4} />}
      {asked && proposal.error && problems.length === 0 && <Failed error={proposal.error} title="The files could not be looked into" />}
      {files.map((file) => {
        const source = draft.sources[file.part as TableName];
        return (
          <Section key={file.part} title={file.file} side={<span className="quiet">{[file.format, ...Object.entries(file.details ?? {}).map(([key, value]) => `${key} ${value}`)].join(", ")}</span>}>
            {file.part in draft.sources && <ColumnsTable file={file} draft={draft} roles={roles} change={change} />}
            {source && <DerivedColumns file={file} source={source} tables={draft.tables} problems={problems.filter((each) => isWithin(each, `${file.part}.derive`))} onChange={(next) => change((now) => withSource(now, file.part as TableName, next))} />}
            <h3>First rows</h3>
            <PreviewRows file={file} />
          </Section>
        );
      })}
      {files.length > 0 && datasets.data && <Finish draft={draft} change={change} clear={clear} files={files} proposed={proposed} datasets={datasets.data.items} />}
    </>
  );
}

/** Problems of files and steps: those the answer names, or those of the refusal that took its place. */
function problemsOf({ data, error }: Pick<ReturnType<typeof useProposal>, "data" | "error">): FieldProblem[] {
  if (error) return error instanceof ApiError ? error.errors : [];
  return data?.problems ?? [];
}

/** Whether a part of an earlier answer still has a file. */
function hasSource(draft: ImportDraft, part: string): boolean {
  return part.startsWith("tables.") ? part.slice("tables.".length) in draft.tables : draft.sources[part as TableName] !== undefined;
}

interface FinishProps {
  draft: ReturnType<typeof useImportDraft>[0];
  change: ReturnType<typeof useImportDraft>[1];
  clear: () => void;
  files: FileProposal[];
  proposed: Record<string, string>;
  datasets: Parameters<typeof ImportSettings>[0]["datasets"];
}

/** The last step: settings, a look at every row, the import, and how far it is. */
function Finish({ draft, change, clear, files, proposed, datasets }: FinishProps) {
  const [search, choose] = useSearch();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [lookJob, setLookJob] = useState<number | null>(null);
  const job = Number(search.get("job")) || null;
  const ids = Object.fromEntries(files.map((file) => [file.part, file.columns.find((each) => each.type === "id" && each.role)?.column]));
  const names = Object.fromEntries(files.map((file) => [file.part, file.columns.find((each) => each.role === "name")?.column]));
  const roles = rolesOf(draft, proposed);
  const request = importRequest(draft, proposed, ids, names);
  const look = useBeginImport((begun) => setLookJob(begun.id));
  const bring = useBeginImport((begun) => choose("job", String(begun.id)));
  const ready = request !== null && isName(draft.name);
  const missing = (["user", "item"] as const).filter((role) => !roles[role]);
  const error = bring.error ?? look.error;
  return (
    <Section title="Import">
      <div className="columns">
        <div>
          <ImportSettings draft={draft} datasets={datasets} hasValues={!!roles.value} errors={error instanceof ApiError ? error.errors : []} change={change} />
          {missing.length > 0 && <p className="warn">Say above which column is the {missing.join(" and which is the ")}.</p>}
          <Group gap="sm" mt="sm">
            <Button size="xs" disabled={!ready} loading={bring.isPending} onClick={() => request && bring.mutate({ name: draft.name, request })}>Import</Button>
            <Button size="xs" variant="default" disabled={!ready} loading={look.isPending} onClick={() => request && look.mutate({ name: draft.name, request: { ...request, only_look: true } })}>
              Look at every row first
            </Button>
            <span className="quiet">This shows what would be kept and what dropped; nothing is imported yet.</span>
          </Group>
        </div>
        <ImportFile draft={draft} request={request} change={change} />
      </div>
      {error && <Failed error={error} title="This was refused" />}
      {lookJob !== null && <Opened id={lookJob}><Looked job={lookJob} /></Opened>}
      {job !== null && (
        <JobProgress
          id={job}
          onDone={(done) => {
            clear();
            void queries.invalidateQueries();
            void navigate(`/data/${String(done.result?.version)}?view=import`);
          }}
        />
      )}
    </Section>
  );
}

function Looked({ job }: { job: number }) {
  const state = useJob(job).data?.state;
  const look = useImportLook(job, state === "done");
  return (
    <>
      <JobProgress id={job} />
      {look.error && <Failed error={look.error} />}
      {look.data && (
        <>
          <p>An import would keep {count(look.data.rows)} rows of {count(look.data.users)} users and {count(look.data.items)} items.</p>
          <ReportView report={look.data.report} />
        </>
      )}
    </>
  );
}
