import type { Schemas } from "../../api/http";
import { count } from "../../parts/format";

/** What a file of lists held, and what was odd about it. */
export function FileFindings({ findings }: { findings: Schemas["ListFindings"] }) {
  return (
    <>
      <p className="quiet">
        {findings.format}: {count(findings.rows)} rows, lists of {count(findings.users)} users; {count(findings.users_scored)} of them count.
      </p>
      <ul style={{ margin: "0 0 1rem", paddingLeft: "1.1rem" }}>
        {(findings.said ?? []).map((line) => <li key={line} className="warn">{line}</li>)}
      </ul>
    </>
  );
}
