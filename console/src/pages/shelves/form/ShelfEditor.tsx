import { Anchor, Button, Checkbox, Group, Textarea } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState, type ReactNode } from "react";
import { useVersion } from "../../../api/datasets";
import { useModels } from "../../../api/models";
import { usePublishShelf, useShelfCheck, type ShelfVersion } from "../../../api/shelves";
import { Section } from "../../../parts/page";
import { Failed } from "../../../parts/states";
import { FileForm } from "../../../parts/files/FileForm";
import { useYamlFile } from "../../../parts/files/useYamlFile";
import { textAt, withValue } from "../../../parts/files/yamlFile";
import { Checked } from "./Checked";
import { ShelfForm } from "./ShelfForm";

interface Props {
  title: string;
  text: string;
  setText: (text: string) => void;
  /** The text that is served, of a shelf that exists. */
  served?: string;
  /** The version that the text was edited from; 0 for a new shelf. */
  basedOn: number;
  /** Whether a question has to be answered before publishing. */
  blocked?: boolean;
  publish: string;
  data: string;
  onPublished: (shelf: ShelfVersion) => void;
  /** What stands beside the title. */
  side?: ReactNode;
  children?: ReactNode;
}

/** A shelf as a form and as a file at once, each following the other; looked at as it changes, and published. */
export function ShelfEditor({ title, text, setText, served, basedOn, blocked = false, publish: action, data, onPublished, side, children }: Props) {
  const [settled] = useDebouncedValue(text, 400);
  const [updateModels, setUpdateModels] = useState(false);
  const check = useShelfCheck(settled, updateModels);
  const publish = usePublishShelf((shelf) => {
    setUpdateModels(false);
    onPublished(shelf);
  });
  const models = useModels();
  const version = useVersion(data);
  const { file, unreadable } = useYamlFile(text);
  const problems = check.data?.problems ?? [];
  const wrong = problems.length > 0 || check.isError || unreadable !== undefined;
  const changes = check.data?.changes ?? [];
  const isUnconfirmed = changes.length > 0 && !updateModels;
  const isUnchanged = text === served && changes.length === 0;
  const names = (models.data?.items ?? []).filter((each) => each.data.split("@")[0] === data.split("@")[0]).map((each) => each.name.split("@")[0] ?? "");
  return (
    <div className="form-and-file">
      <FileForm unreadable={unreadable}>
        <ShelfForm file={file} problems={problems} change={(path, value) => setText(withValue(text, path, value))} models={[...new Set(names)]} version={version.data} />
      </FileForm>
      <aside className="file-beside">
        <Section title={title} side={side}>
          {children}
          <Textarea
            aria-label="Shelf file, YAML" autosize minRows={6} maxRows={28} mt="xs" value={text} spellCheck={false} aria-invalid={unreadable !== undefined} onChange={(event) => setText(event.currentTarget.value)}
            styles={{ input: { fontFamily: "var(--mantine-font-family-monospace)", fontSize: "0.82rem" } }}
          />
          {served !== undefined && (
            <Checkbox
              size="xs" mt="xs" label="Update models" checked={updateModels} onChange={(event) => setUpdateModels(event.currentTarget.checked)}
              description={isUnconfirmed ? "Models would change, see below: tick to confirm." : "Names without a number take the newest model fitted on all rows. If not ticked, they keep the served one."}
            />
          )}
          <Group mt="xs" gap="sm">
            <Button size="xs" disabled={blocked || isUnchanged || isUnconfirmed || wrong || settled !== text || check.isFetching} loading={publish.isPending} onClick={() => publish.mutate({ file: text, basedOn, updateModels })}>{action}</Button>
            {served !== undefined && <Button size="xs" variant="default" disabled={text === served} onClick={() => setText(served)}>As it is served</Button>}
            <Anchor size="sm" href={`data:text/yaml;charset=utf-8,${encodeURIComponent(text)}`} download={`${textAt(file, ["shelf"]) || "shelf"}.yaml`}>Download</Anchor>
          </Group>
          {unreadable !== undefined && <p className="warn">{unreadable}</p>}
          {publish.error && <Failed error={publish.error} title="This was refused" />}
          {check.error && unreadable === undefined && <Failed error={check.error} title="This file could not be checked" />}
          {check.data && unreadable === undefined && <Checked check={check.data} />}
        </Section>
      </aside>
    </div>
  );
}
