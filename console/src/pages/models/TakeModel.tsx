import { Button } from "@mantine/core";
import { useRef, useState } from "react";
import { useNavigate } from "react-router";
import { sendFile } from "../../api/imports";
import { useTakeModel } from "../../api/models";
import { JobProgress } from "../../parts/jobs/JobProgress";
import { Failed } from "../../parts/states";

/** Takes in a model that was exported, from its zipped folder. */
export function TakeModel() {
  const [job, setJob] = useState<number | null>(null);
  const [error, setError] = useState<Error | null>(null);
  const input = useRef<HTMLInputElement>(null);
  const navigate = useNavigate();
  const take = useTakeModel((begun) => setJob(begun.id));
  const send = async (file: File | undefined) => {
    if (!file) return;
    setError(null);
    try {
      take.mutate((await sendFile(file, () => undefined)).upload);
    } catch (refused) {
      setError(refused as Error);
    }
  };
  const wrong = error ?? take.error;
  return (
    <>
      <Button size="xs" variant="default" loading={take.isPending} onClick={() => input.current?.click()}>Take one in</Button>
      <input ref={input} type="file" hidden accept=".zip" aria-label="Exported model" onChange={(event) => void send(event.currentTarget.files?.[0])} />
      {wrong && <Failed error={wrong} title="This was refused" />}
      {job !== null && <JobProgress id={job} onDone={(done) => void navigate(`/models/${String(done.result?.model)}`)} />}
    </>
  );
}
