import { Autocomplete, Button, Group, NumberInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { useHistory, useMatches } from "../../api/datasets";
import { useList, type ShelfVersion } from "../../api/shelves";
import { Condition } from "../../parts/Condition";
import { IdsPicker } from "../../parts/ids/IdsPicker";
import { matchOption } from "../../parts/ids/MatchOption";
import { Section } from "../../parts/page";
import { Loaded } from "../../parts/states";
import { AnswerTable } from "./AnswerTable";
import { BesidePicker, TwoLists } from "./Beside";
import { HistoryTable } from "./HistoryTable";
import { StageFlow } from "./StageFlow";

const MAX_N = 1000;

/** What is asked for, kept in the URL so that a finding can be sent to a colleague. */
function useRequestInUrl() {
  const [search, setSearch] = useSearchParams();
  const ask = (change: Partial<ReturnType<typeof requestInUrl>>) => {
    // the address as it is: what was asked for before may not have been drawn yet
    const now = new URLSearchParams(window.location.search);
    const next = { ...requestInUrl(now), ...change };
    const query = new URLSearchParams();
    if (next.user) query.set("user", next.user);
    next.recent.forEach((item) => query.append("recent", item));
    if (next.n !== 10) query.set("n", String(next.n));
    if (next.where) query.set("where", next.where);
    if (next.beside) query.set("beside", next.beside);
    const changes = now.get("changes");
    if (changes) query.set("changes", changes);
    setSearch(query);
  };
  return { request: requestInUrl(search), ask };
}

function requestInUrl(search: URLSearchParams) {
  const n = Math.min(MAX_N, Math.max(1, Number(search.get("n")) || 10));
  return { user: search.get("user") ?? "", recent: search.getAll("recent"), n, where: search.get("where") ?? "", beside: search.get("beside") ?? "" };
}

/** The list of a shelf for what is asked for. key: what the shelf's name stands for just now. */
function useAnswer(shelf: string, key: string, { user, recent, n, where }: ReturnType<typeof requestInUrl>) {
  return useList(["answer", key], shelf, { user: user || undefined, recent, n, where: where || undefined }, shelf !== "");
}

/** Pick someone, or nobody, and see history beside the list, or two lists beside one another. */
export function TryIt({ shelf }: { shelf: ShelfVersion }) {
  const { request, ask } = useRequestInUrl();
  const answer = useAnswer(shelf.shelf, shelf.name, request);
  const other = useAnswer(request.beside, request.beside, request);
  const history = useHistory(shelf.data, request.user);
  return (
    <>
      <Section title="Try it">
        <Group align="end" gap="md">
          <UserPicker version={shelf.data} user={request.user} onPick={(user) => ask({ user })} />
          <IdsPicker label="Recent items, by id or name" side="item" data={shelf.data} ids={request.recent} onChange={(recent) => ask({ recent })} placeholder="none" />
          <NumberInput label="How many" size="xs" w={90} min={1} max={MAX_N} value={request.n} onChange={(n) => ask({ n: Number(n) || 10 })} />
          <Condition label="One more condition" value={request.where} onSet={(where) => ask({ where })} example="over columns of items and users" />
          <BesidePicker shelf={shelf} beside={request.beside} onPick={(beside) => ask({ beside })} />
          <Button size="xs" variant="default" onClick={() => ask({ user: "", recent: [] })}>
            Someone anonymous
          </Button>
        </Group>
        {!request.beside && answer.data && <StageFlow answer={answer.data} />}
      </Section>
      {request.beside ? (
        <Loaded query={answer}>{(one) => <Loaded query={other}>{(another) => <TwoLists one={one} other={another} />}</Loaded>}</Loaded>
      ) : (
        <div className="columns">
          <Section title={request.user ? `History of ${request.user}` : "History"}>
            {request.user ? <Loaded query={history}>{(past) => <HistoryTable history={past} />}</Loaded> : <p className="quiet">Nobody was named, so there is none.</p>}
          </Section>
          <Section title="List">
            <Loaded query={answer}>{(list) => <AnswerTable answer={list} />}</Loaded>
          </Section>
        </div>
      )}
    </>
  );
}

function UserPicker({ version, user, onPick }: { version: string; user: string; onPick: (user: string) => void }) {
  const [text, setText] = useState(user);
  const [searched] = useDebouncedValue(text, 200);
  const matches = useMatches(version, "user", searched);
  const [last, setLast] = useState(user);
  if (last !== user) {
    // the URL changed from elsewhere
    setLast(user);
    setText(user);
  }
  return (
    <Autocomplete
      label="User, any id or name"
      size="xs"
      w={180}
      placeholder="someone anonymous"
      data={(matches.data ?? []).map((each) => each.id)}
      renderOption={matchOption(matches.data)}
      filter={({ options }) => options}
      value={text}
      onChange={setText}
      onOptionSubmit={onPick}
      onKeyDown={(event) => event.key === "Enter" && onPick(text.trim())}
      onBlur={() => text.trim() !== user && onPick(text.trim())}
    />
  );
}
