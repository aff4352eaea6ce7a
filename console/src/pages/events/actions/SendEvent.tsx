import { Button, Group, NumberInput, Select } from "@mantine/core";
import { useState } from "react";
import type { DatasetVersion } from "../../../api/datasets";
import { useSendEvent } from "../../../api/events";
import { IdPicker } from "../../../parts/ids/IdPicker";
import { Failed } from "../../../parts/states";

/** One event, of someone the data knows or of someone new. */
export function SendEvent({ version }: { version: DatasetVersion }) {
  const kinds = (version.profile.kinds ?? []).flatMap((each) => each.kind ?? []);
  const [user, setUser] = useState("");
  const [item, setItem] = useState("");
  const [kind, setKind] = useState(kinds[0] ?? null);
  const [value, setValue] = useState<number | string>("");
  const [sent, setSent] = useState<string[]>([]);
  const send = useSendEvent(version.dataset, (accepted) => {
    const notes = accepted.notes ?? [];
    setSent([`Kept: ${user}, ${kind ?? "met"}, ${item}.${notes.length ? "" : " The next list reflects it."}`, ...notes]);
  });
  const event = { user, item, kind: kind ?? undefined, value: value === "" ? undefined : Number(value) };
  return (
    <>
      <Group align="start">
        <IdPicker side="user" data={version.name} chosen={user} onChoose={setUser} anyone />
        <IdPicker side="item" data={version.name} chosen={item} onChoose={setItem} anyone />
        {kinds.length > 0 && <Select size="xs" w={140} label="Kind" allowDeselect={false} data={kinds} value={kind} onChange={setKind} />}
        {version.roles.value && <NumberInput size="xs" w={100} label="Value" hideControls placeholder="none" value={value} onChange={setValue} />}
        <Button size="xs" mt={24} variant="default" disabled={!user || !item} loading={send.isPending} onClick={() => { setSent([]); send.mutate(event); }}>Send</Button>
      </Group>
      {send.error && <Failed error={send.error} title="This was refused" />}
      {sent.length > 0 && <div role="status">{sent.map((line) => <p key={line} className="quiet">{line}</p>)}</div>}
    </>
  );
}
