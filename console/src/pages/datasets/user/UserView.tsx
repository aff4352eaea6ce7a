import { useHistory, type DatasetVersion, type History } from "../../../api/datasets";
import { count, moment } from "../../../parts/format";
import { IdPicker } from "../../../parts/ids/IdPicker";
import { Figures, Section } from "../../../parts/page";
import { useSearch } from "../../../parts/search";
import { Loaded } from "../../../parts/states";
import { HistoryTable } from "../../shelves/HistoryTable";
import { AlikeUsers } from "./AlikeUsers";
import { KindsOverTime } from "./KindsOverTime";
import { ShownTo } from "./ShownTo";

/** The most rows of one user that the service answers. */
const MAX_ROWS = 500;

/** One user: what they did and when, what each shelf shows them, and who is like them. */
export function UserView({ version }: { version: DatasetVersion }) {
  const [search, choose] = useSearch();
  const user = search.get("user") ?? "";
  const history = useHistory(version.name, user, MAX_ROWS);
  return (
    <>
      <Section title="One user">
        <IdPicker side="user" data={version.name} chosen={user} onChoose={(next) => choose("user", next)} anyone />
        {user === "" && <p className="quiet">Choose a user to see their rows, what shelves show them, and who is like them.</p>}
      </Section>
      {user !== "" && (
        <Loaded query={history}>
          {(known) => (
            <>
              {known.known && <Facts history={known} />}
              <div className="columns">
                <Section title="Rows">
                  <HistoryTable history={known} />
                </Section>
                <ShownTo version={version} user={user} key={`shown ${user}`} />
              </div>
              {known.known && <AlikeUsers version={version} user={user} />}
            </>
          )}
        </Loaded>
      )}
    </>
  );
}

function Facts({ history }: { history: History }) {
  const times = history.rows.flatMap((row) => row.time ?? []);
  const values = history.rows.flatMap((row) => row.value ?? []);
  const figures: [string, string][] = [
    ["rows", count(history.total)],
    ["items", count(new Set(history.rows.map((row) => row.item)).size)],
  ];
  const [newest] = times;
  const oldest = times.at(-1);
  if (newest !== undefined && oldest !== undefined) figures.push(["first", moment(oldest)], ["last", moment(newest)]);
  if (values.length > 0) figures.push(["mean value", (values.reduce((sum, value) => sum + value, 0) / values.length).toFixed(2)]);
  return (
    <>
      <Figures rows={figures} />
      {history.total > history.rows.length && <p className="quiet">Figures and chart are of the newest {count(history.rows.length)} rows.</p>}
      {times.length > 0 && <KindsOverTime rows={history.rows} />}
    </>
  );
}
