import { Anchor, Textarea } from "@mantine/core";
import { useState } from "react";
import type { ImportRequest } from "../../../api/imports";
import type { ImportDraft } from "./importDraft";
import { mappingText, withMapping } from "./mappingFile";

interface Props {
  draft: ImportDraft;
  request: ImportRequest | null;
  change: (change: (now: ImportDraft) => ImportDraft) => void;
}

/** The import as its mapping file, which follows the form and is followed by it. */
export function ImportFile({ draft, request, change }: Props) {
  // what is typed stays as it is, comments too, for as long as it says what the form says
  const [typed, setTyped] = useState<{ text: string; says: string; problem?: string } | null>(null);
  const says = request ? mappingText(request) : "";
  const mine = typed && (typed.problem !== undefined || typed.says === "" || typed.says === says);
  const text = mine ? typed.text : says;
  const take = (next: string) => {
    try {
      const read = withMapping(draft, next);
      change(() => read);
      setTyped({ text: next, says: "" });
    } catch (wrong) {
      setTyped({ text: next, says: "", problem: (wrong as Error).message });
    }
  };
  if (typed?.says === "" && typed.problem === undefined && says) setTyped({ ...typed, says });
  const problem = mine ? typed.problem : undefined;
  return (
    <div>
      <Textarea
        label="The same as a file" description="What gleaner data add --map takes: keep it, and the next import needs no form." autosize minRows={6} maxRows={24}
        styles={{ input: { fontFamily: "var(--mantine-font-family-monospace)" } }} spellCheck={false}
        value={text} error={problem} onChange={(event) => take(event.currentTarget.value)}
      />
      <Anchor size="sm" download={`${draft.name || "import"}.yaml`} href={`data:application/yaml;charset=utf-8,${encodeURIComponent(text)}`}>Download</Anchor>
    </div>
  );
}
