import { Alert, Button, Group } from "@mantine/core";
import { useCallback } from "react";
import type { ShelfVersion } from "../../../api/shelves";
import { useDraft } from "../../../parts/files/draft";
import { ShelfEditor } from "./ShelfEditor";

/** Edits of a shelf that are not published yet. basedOn: the version they were begun on. */
interface Edits {
  text: string;
  basedOn: number;
}

/** The shelf as it can be changed, and published as the next version. Edits are kept until they are published. */
export function FileEditor({ shelf }: { shelf: ShelfVersion }) {
  const none = useCallback((): Edits | null => null, []);
  const [edits, change, clear] = useDraft<Edits | null>(`shelf ${shelf.shelf}`, none);
  const text = edits?.text ?? shelf.file;
  const setText = (next: string) => {
    if (next === shelf.file) clear();
    else change((now) => ({ text: next, basedOn: now?.basedOn ?? shelf.number }));
  };
  const keep = () => change((now) => now && { ...now, basedOn: shelf.number });
  const isStale = edits !== null && edits.basedOn !== shelf.number;
  return (
    <ShelfEditor
      title={`File of ${shelf.name}`} text={text} setText={setText} served={shelf.file} basedOn={edits?.basedOn ?? shelf.number}
      publish="Publish as the next version" data={shelf.data} blocked={isStale} onPublished={clear}
    >
      {isStale && (
        <Alert color="ochre" variant="outline" role="alert" title={`${shelf.name} was published meanwhile`}>
          Your edits were begun on version {edits.basedOn}. <em>Versions</em>, below, shows what version {shelf.number} changed.
          <Group gap="sm" mt="xs">
            <Button size="compact-sm" onClick={keep}>Keep my edits on top of version {shelf.number}</Button>
            <Button size="compact-sm" variant="default" onClick={clear}>Discard my edits</Button>
          </Group>
        </Alert>
      )}
      <p className="quiet" style={{ margin: 0 }}>Served by {modelsOf(shelf).join(", ")}. A model that is named without a number stays the one that is served.</p>
    </ShelfEditor>
  );
}

function modelsOf(shelf: ShelfVersion): string[] {
  return [...new Set([...shelf.spec.candidates, ...shelf.spec.fallback].flatMap((source) => source.model ?? []))];
}
