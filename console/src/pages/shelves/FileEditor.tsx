import { Button, Group, Textarea } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState } from "react";
import { type Schemas } from "../../api/http";
import { usePublishShelf, useShelfCheck, type ShelfVersion } from "../../api/shelves";
import { FigureTable } from "../../parts/FigureTable";
import { count } from "../../parts/format";
import { Section } from "../../parts/page";
import { Failed } from "../../parts/states";

type Check = Schemas["ShelfCheck"];

/** The file as it can be changed: looked at as it is typed, and published as the next version. */
export function FileEditor({ shelf }: { shelf: ShelfVersion }) {
  const [text, setText] = useState(shelf.file);
  const [settled] = useDebouncedValue(text, 400);
  const changed = text !== shelf.file;
  const check = useShelfCheck(settled);
  const publish = usePublishShelf();
  const wrong = (check.data?.problems.length ?? 0) > 0 || check.isError;
  return (
    <Section title={`File of ${shelf.name}`}>
      <p className="quiet" style={{ margin: 0 }}>
        Models named without a number were pinned when it was published: {[...shelf.spec.candidates, ...shelf.spec.fallback].map((source) => source.model).join(", ")}.
      </p>
      <Textarea
        aria-label="Shelf file, YAML" autosize minRows={6} mt="xs" value={text} spellCheck={false}
        onChange={(event) => setText(event.currentTarget.value)}
        styles={{ input: { fontFamily: "var(--mantine-font-family-monospace)" } }}
      />
      <Group mt="xs" gap="sm">
        <Button size="xs" disabled={!changed || wrong || settled !== text} loading={publish.isPending} onClick={() => publish.mutate(text)}>Publish as the next version</Button>
        <Button size="xs" variant="default" disabled={!changed} onClick={() => setText(shelf.file)}>As it is served</Button>
      </Group>
      {publish.error && <Failed error={publish.error} />}
      {check.error && <Failed error={check.error} />}
      {check.data && <Checked check={check.data} />}
    </Section>
  );
}

/** Mistakes with their lines, or what each part of the condition leaves. */
function Checked({ check }: { check: Check }) {
  const parts = check.parts ?? [];
  const sampled = check.sampled;
  return (
    <div role="status" aria-label="What the file comes to" style={{ marginTop: 14 }}>
      {check.problems.map((each) => (
        <p key={`${each.line}${each.message}`} className="warn" style={{ margin: "6px 0 0" }}>line {each.line}: {each.field}: {each.message}</p>
      ))}
      {(check.warnings ?? []).map((each) => <p key={each} className="warn" style={{ margin: "6px 0 0" }}>{each}</p>)}
      {parts.length > 0 && (
        <FigureTable
          label="Parts of the condition"
          rows={parts}
          rowKey={(row) => row.text}
          columns={[
            { title: "condition", value: (row) => row.text, show: (row) => <code>{row.text}</code> },
            { title: "leaves", number: true, value: (row) => row.left ?? null, show: (row) => (row.left == null ? "–" : count(row.left)) },
            { title: "depends on", value: (row) => (row.depends_on ?? []).join(", ") || "nothing" },
          ]}
        />
      )}
      <p className="quiet">
        {check.problems.length === 0 && "Nothing wrong. "}
        {parts.length > 0 && check.left != null && `${count(check.left)} of ${count(check.items ?? 0)} items are left${parts.some((part) => part.left == null) ? " by what depends on nothing" : ""}. `}
        {sampled && `For ${sampled.users} users drawn at random it leaves ${count(sampled.least)} to ${count(sampled.most)} items, median ${count(sampled.median)}.`}
      </p>
    </div>
  );
}
