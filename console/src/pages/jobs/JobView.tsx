import { useJob } from "../../api/jobs";
import { Section } from "../../parts/page";
import { Asked } from "../../parts/states";

/** One job's log and outcome. */
export function JobView({ id }: { id: number }) {
  const job = useJob(id);
  return (
    <Section title={`Job ${id}`}>
      <Asked query={job}>
        {(found) => (
          <>
            <p className="quiet" style={{ margin: 0 }}>
              {found.kind} {found.subject}, {found.state}, attempt {found.attempt}.
              {found.problem && <span className="warn"> {found.problem.detail}</span>}
            </p>
            <pre className="file" tabIndex={0}>{(found.log ?? []).map((line) => `${new Date(line.at).toTimeString().slice(0, 8)}  ${line.text}`).join("\n")}</pre>
          </>
        )}
      </Asked>
    </Section>
  );
}
