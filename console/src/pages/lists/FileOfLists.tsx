import { Button, Checkbox, Group, TextInput } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { sendFile } from "../../api/imports";
import { useAnalyseLists, useScoreLists, type Analysis, type ListsRead } from "../../api/lists";
import type { Run } from "../../api/contests";
import { JobProgress } from "../../parts/jobs/JobProgress";
import { Failed } from "../../parts/states";

const COLUMNS = [
  { name: "user", otherwise: "user" },
  { name: "item", otherwise: "item" },
  { name: "place", otherwise: "place, position or rank" },
  { name: "score", otherwise: "score, where there is no place" },
] as const;

/** Scores lists that were made elsewhere beside the contenders of a run, or analyses them: a file with user, item and place or score. */
export function FileOfLists({ run, how, open }: { run: Run; how: Analysis; open: (job: number) => void }) {
  const input = useRef<HTMLInputElement>(null);
  const queries = useQueryClient();
  const [job, setJob] = useState<number | null>(null);
  const [asked, setAsked] = useState(false);
  const [read, setRead] = useState<ListsRead>({ columns: {}, drop_known: false });
  const [error, setError] = useState<Error | null>(null);
  const [work, setWork] = useState<"score" | "analyse">("score");
  const score = useScoreLists(run.name, (begun) => setJob(begun.id));
  const analyse = useAnalyseLists(run.name, (begun) => setJob(begun.id));
  const pick = (wanted: typeof work) => {
    setWork(wanted);
    input.current?.click();
  };
  const send = async (file: File | undefined) => {
    if (!file) return;
    setError(null);
    try {
      const sent = { upload: (await sendFile(file, () => undefined)).upload, file: file.name, read };
      if (work === "score") score.mutate(sent);
      else analyse.mutate({ lists: sent, how });
    } catch (refused) {
      setError(refused as Error);
    }
  };
  const wrong = error ?? (work === "score" ? score.error : analyse.error);
  return (
    <>
      <Group gap="xs">
        <Button size="compact-xs" variant="default" loading={score.isPending} onClick={() => pick("score")}>Score a file of lists</Button>
        <Button size="compact-xs" variant="default" loading={analyse.isPending} onClick={() => pick("analyse")}>Analyse a file of lists</Button>
        <Button size="compact-xs" variant="subtle" aria-expanded={asked} onClick={() => setAsked(!asked)}>How it is read</Button>
      </Group>
      {asked && <HowRead read={read} onChange={setRead} />}
      <input ref={input} type="file" hidden aria-label="Lists made elsewhere" onChange={(event) => {
        void send(event.currentTarget.files?.[0]);
        event.currentTarget.value = ""; // the same file may be picked again
      }} />
      {wrong && <Failed error={wrong} title="This was refused" />}
      {job !== null && (
        <JobProgress
          id={job}
          onDone={() => {
            void queries.invalidateQueries({ queryKey: ["list work", run.data] });
            open(job);
          }}
        />
      )}
    </>
  );
}

/** What the columns of the file are called, where not as usual. */
function HowRead({ read, onChange }: { read: ListsRead; onChange: (read: ListsRead) => void }) {
  return (
    <Group align="end" gap="md" mt="xs">
      {COLUMNS.map(({ name, otherwise }) => (
        <TextInput
          key={name} size="xs" w={200} label={`Column of the ${name}`} placeholder={otherwise} value={read.columns[name] ?? ""}
          onChange={(event) => onChange({ ...read, columns: { ...read.columns, [name]: event.currentTarget.value || undefined } })}
        />
      ))}
      <Checkbox size="xs" label="take out items a user has in training" checked={read.drop_known} onChange={(event) => onChange({ ...read, drop_known: event.currentTarget.checked })} />
    </Group>
  );
}
