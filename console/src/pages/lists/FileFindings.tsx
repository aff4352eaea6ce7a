import type { Schemas } from "../../api/http";
import { count } from "../../parts/format";

/** What a file of lists held, and what was odd about it. */
export function FileFindings({ found }: { found: Schemas["ListFindings"] }) {
  return (
    <>
      <p className="quiet">
        {found.format}: {count(found.rows)} rows, lists of {count(found.users)} users; {count(found.users_scored)} of them count.
      </p>
      <ul style={{ margin: "0 0 1rem", paddingLeft: "1.1rem" }}>
        {(found.said ?? []).map((line) => <li key={line} className="warn">{line}</li>)}
      </ul>
    </>
  );
}
