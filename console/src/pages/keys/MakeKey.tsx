import { Button, Group, MultiSelect, NumberInput, TextInput } from "@mantine/core";
import { useState } from "react";
import { useCreateKey, type NewKey, type Scope } from "../../api/keys";
import { Failed } from "../../parts/states";

const SCOPES: { value: Scope; label: string }[] = [
  { value: "serve", label: "serve: read lists" },
  { value: "events", label: "events: send events" },
  { value: "build", label: "build: data, contests, models, shelves" },
  { value: "metrics", label: "metrics: the service's own figures" },
  { value: "admin", label: "admin: keys, and all of it" },
];

/** A form that makes a key. */
export function MakeKey({ onMade }: { onMade: (key: NewKey) => void }) {
  const [name, setName] = useState("");
  const [scopes, setScopes] = useState<Scope[]>([]);
  const [days, setDays] = useState<number | string>("");
  const [perMinute, setPerMinute] = useState<number | string>("");
  const create = useCreateKey((made) => {
    setName("");
    setScopes([]);
    onMade(made);
  });
  const optional = (value: number | string) => (value === "" ? null : Number(value));
  return (
    <form onSubmit={(event) => { event.preventDefault(); create.mutate({ name, scopes, days: optional(days), per_minute: optional(perMinute) }); }}>
      <Group gap="md" align="end">
        <TextInput size="xs" w={180} label="Name" autoComplete="off" value={name} onChange={(event) => setName(event.currentTarget.value)} />
        <MultiSelect size="xs" w={320} label="What it may do" searchable data={SCOPES} value={scopes} onChange={(value) => setScopes(value as Scope[])} />
        <NumberInput size="xs" w={130} label="Ends after days" placeholder="never" hideControls min={0} value={days} onChange={setDays} />
        <NumberInput size="xs" w={150} label="Calls a minute, at most" placeholder="any number" hideControls min={1} value={perMinute} onChange={setPerMinute} />
        <Button size="xs" type="submit" disabled={!name || scopes.length === 0} loading={create.isPending}>Make it</Button>
      </Group>
      {create.error && <Failed error={create.error} title="This was refused" />}
    </form>
  );
}
