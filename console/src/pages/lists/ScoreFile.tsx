import { Button } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { sendFile } from "../../api/imports";
import { useScoreLists } from "../../api/lists";
import type { Run } from "../../api/contests";
import { JobProgress } from "../../parts/jobs/JobProgress";
import { Failed } from "../../parts/states";

/** Scores lists that were made elsewhere beside the contenders of a run: a file with user, item and place or score. */
export function ScoreFile({ run, open }: { run: Run; open: (job: number) => void }) {
  const input = useRef<HTMLInputElement>(null);
  const queries = useQueryClient();
  const [job, setJob] = useState<number | null>(null);
  const [error, setError] = useState<Error | null>(null);
  const score = useScoreLists(run.name, (begun) => setJob(begun.id));
  const send = async (file: File | undefined) => {
    if (!file) return;
    setError(null);
    try {
      score.mutate({ upload: (await sendFile(file, () => undefined)).upload, file: file.name });
    } catch (refused) {
      setError(refused as Error);
    }
  };
  const wrong = error ?? score.error;
  return (
    <>
      <Button size="compact-xs" variant="default" loading={score.isPending} onClick={() => input.current?.click()}>Score a file of lists</Button>
      <input ref={input} type="file" hidden aria-label="Lists made elsewhere" onChange={(event) => void send(event.currentTarget.files?.[0])} />
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
