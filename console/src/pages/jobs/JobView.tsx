import { Anchor } from "@mantine/core";
import { fileOfJob } from "../../api/exports";
import { useJob } from "../../api/jobs";
import { Section } from "../../parts/page";
import { Loaded } from "../../parts/states";
import { RoundsView } from "./RoundsView";

/** One job's log and outcome. */
export function JobView({ id }: { id: number }) {
  const query = useJob(id);
  return (
    <Section title={`Job ${id}`}>
      <Loaded query={query}>
        {(job) => (
          <>
            <p className="quiet" style={{ margin: 0 }}>
              {job.kind} {job.subject}, {job.state}, attempt {job.attempt}.
              {job.state === "done" && Boolean(job.result?.file) && <> <Anchor href={fileOfJob(job.id)} download>Fetch its file</Anchor>.</>}
              {job.problem && <span className="warn"> {job.problem.detail}</span>}
            </p>
            <RoundsView job={job} />
            <pre className="file" tabIndex={0}>{(job.log ?? []).map((line) => `${new Date(line.at).toTimeString().slice(0, 8)}  ${line.text}`).join("\n")}</pre>
          </>
        )}
      </Loaded>
    </Section>
  );
}
