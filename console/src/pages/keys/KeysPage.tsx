import { Button, Group, Select } from "@mantine/core";
import { useState } from "react";
import { useKeys, useRevokeKey, useRotateKey, useWrites, type Key, type NewKey } from "../../api/keys";
import { Confirm } from "../../parts/Confirm";
import { FigureTable } from "../../parts/FigureTable";
import { exactly, moment } from "../../parts/format";
import { Opened } from "../../parts/Opened";
import { PageTitle, Section } from "../../parts/page";
import { useSearch } from "../../parts/search";
import { Empty, Failed, Loaded } from "../../parts/states";
import { MakeKey } from "./MakeKey";
import { Secret } from "./Secret";

/** Keys of programs and people: make, rotate, revoke; and what was written with each. */
export default function KeysPage() {
  const keys = useKeys();
  const [secret, setSecret] = useState<NewKey | null>(null);
  return (
    <>
      <PageTitle title="Keys" />
      {secret && <Opened id={secret.secret}><Secret made={secret} onClose={() => setSecret(null)} /></Opened>}
      <Section title="Make a key"><MakeKey onMade={setSecret} /></Section>
      <Loaded query={keys}>
        {({ items }) => (
          <>
            <Section title="All keys">
              {items.length > 0 ? <AllKeys keys={items} onSecret={setSecret} /> : <Empty what="No key has been made: only this machine is let in. The first key that may do everything should be yours." />}
            </Section>
            <Writes keys={items} />
          </>
        )}
      </Loaded>
    </>
  );
}

function stateOf(key: Key): string {
  if (key.revoked_at) return `revoked ${moment(key.revoked_at)}`;
  if (key.expires_at && new Date(key.expires_at) < new Date()) return `ended ${moment(key.expires_at)}`;
  return key.expires_at ? `until ${moment(key.expires_at)}` : "open";
}

function AllKeys({ keys, onSecret }: { keys: Key[]; onSecret: (key: NewKey) => void }) {
  const [asked, setAsked] = useState<{ what: "rotate" | "revoke"; name: string } | null>(null);
  const close = () => setAsked(null);
  const rotate = useRotateKey((made) => { onSecret(made); close(); });
  const revoke = useRevokeKey(close);
  const error = rotate.error ?? revoke.error;
  return (
    <>
      <FigureTable
        label="Keys"
        rows={keys}
        rowKey={(row) => row.name}
        columns={[
          { title: "key", value: (row) => row.name },
          { title: "may", value: (row) => row.scopes.join(", ") },
          { title: "calls a minute", number: true, value: (row) => row.per_minute ?? null, show: (row) => row.per_minute ?? "any number" },
          { title: "made", value: (row) => row.created_at, show: (row) => moment(row.created_at) },
          { title: "state", value: stateOf, show: (row) => <span className={row.revoked_at ? "quiet" : undefined}>{stateOf(row)}</span> },
          { title: "secret before opens until", value: (row) => row.previous_until ?? null, show: (row) => (row.previous_until ? moment(row.previous_until) : "") },
          {
            title: "", value: () => null,
            show: (row) => !row.revoked_at && (
              <Group gap={4} wrap="nowrap" justify="end">
                <Button size="compact-xs" variant="default" aria-label={`Rotate ${row.name}`} onClick={() => setAsked({ what: "rotate", name: row.name })}>Rotate</Button>
                <Button size="compact-xs" variant="default" aria-label={`Revoke ${row.name}`} onClick={() => setAsked({ what: "revoke", name: row.name })}>Revoke</Button>
              </Group>
            ),
          },
        ]}
      />
      {error && <Failed error={error} title="This was refused" />}
      {asked?.what === "revoke" && (
        <Confirm title={`Revoke ${asked.name}?`} action="Revoke" busy={revoke.isPending} onConfirm={() => revoke.mutate(asked.name)} onClose={close}>
          Whoever calls with it is refused from now on. A revoked key does not come back.
        </Confirm>
      )}
      {asked?.what === "rotate" && (
        <Confirm title={`Give ${asked.name} a new secret?`} action="Rotate" busy={rotate.isPending} onConfirm={() => rotate.mutate({ name: asked.name, minutes: 60 })} onClose={close}>
          The new secret is shown once. The one before opens for another hour, so that callers can be changed one by one.
        </Confirm>
      )}
    </>
  );
}

function Writes({ keys }: { keys: Key[] }) {
  const [search, choose] = useSearch();
  const key = search.get("key");
  const writes = useWrites(key);
  return (
    <Section title="What was written last" side={<Select aria-label="Of which key" size="xs" w={180} placeholder="every key" clearable data={keys.map((each) => each.name)} value={key} onChange={(value) => choose("key", value)} />}>
      <Loaded query={writes}>
        {({ items }) => items.length === 0 ? <p className="quiet">Nothing has been written yet.</p> : (
          <FigureTable
            label="Writes"
            rows={items}
            rowKey={(row) => row.request_id}
            columns={[
              { title: "at", value: (row) => row.at, show: (row) => exactly(row.at) },
              { title: "key", value: (row) => row.key, show: (row) => row.key ?? <span className="quiet">this machine</span> },
              { title: "from", value: (row) => row.address ?? "" },
              { title: "call", value: (row) => `${row.method} ${row.path}`, show: (row) => <code>{row.method} {row.path}</code> },
            ]}
          />
        )}
      </Loaded>
    </Section>
  );
}
