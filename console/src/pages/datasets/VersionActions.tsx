import { Autocomplete, Button, Group } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useForgetUser, useMatches, useRemoveVersion, type DatasetVersion } from "../../api/datasets";
import { Confirm } from "../../parts/Confirm";
import { count } from "../../parts/format";
import { matchOption } from "../../parts/ids/MatchOption";
import { Failed } from "../../parts/states";
import { JobProgress } from "../../parts/jobs/JobProgress";

/** What can be done to a version: rows added, the whole taken away, a user forgotten. */
export function VersionActions({ version }: { version: DatasetVersion }) {
  const [asked, setAsked] = useState<"remove" | "forget" | null>(null);
  const [user, setUser] = useState("");
  const [wanted] = useDebouncedValue(user, 200);
  const matches = useMatches(version.name, "user", wanted);
  const navigate = useNavigate();
  const [job, setJob] = useState<number | null>(null);
  const [forgotten, setForgotten] = useState<string | null>(null);
  const close = () => setAsked(null);
  const remove = useRemoveVersion(version.name, () => void navigate("/data"));
  const forget = useForgetUser(version.dataset, (begun) => setJob(begun.id));
  const refused = remove.error ?? forget.error;
  return (
    <>
      <Group gap="md" align="end">
        <Button component={Link} to={`/data/new?onto=${version.name}`} size="xs" variant="default">Add rows to {version.name}</Button>
        <Button size="xs" variant="default" onClick={() => setAsked("remove")}>Remove {version.name}</Button>
        <Autocomplete size="xs" w={200} label="A user, by id or name" data={(matches.data ?? []).map((each) => each.id)} renderOption={matchOption(matches.data)} filter={({ options }) => options} value={user} onChange={setUser} />
        <Button size="xs" variant="default" disabled={!user} onClick={() => setAsked("forget")}>Forget this user</Button>
      </Group>
      {refused && <Failed error={refused} title="This was refused" />}
      {job !== null && <JobProgress id={job} onDone={(done) => setForgotten(done.message ?? "")} />}
      {forgotten !== null && <p role="status" className="quiet">{forgotten}</p>}
      {asked === "remove" && (
        <Confirm title={`Remove ${version.name}?`} action="Remove" busy={remove.isPending} onConfirm={() => { close(); remove.mutate(); }} onClose={close}>
          Its {count(version.rows)} rows and its tables go, and its number is not given again. It stays while a model that learned from it is here.
        </Confirm>
      )}
      {asked === "forget" && (
        <Confirm title={`Forget ${user}?`} action="Forget" busy={forget.isPending} onConfirm={() => { close(); forget.mutate(user); }} onClose={close}>
          Every row of {user} goes from every version of {version.dataset}, and from events. Models that learned from them stay as they are and are named.
        </Confirm>
      )}
    </>
  );
}
