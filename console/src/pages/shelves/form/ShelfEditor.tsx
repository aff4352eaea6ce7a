import { Anchor, Button, Group, Textarea } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import type { ReactNode } from "react";
import { useVersion } from "../../../api/datasets";
import { useModels } from "../../../api/models";
import { usePublishShelf, useShelfCheck, type ShelfVersion } from "../../../api/shelves";
import { Section } from "../../../parts/page";
import { Failed } from "../../../parts/states";
import { textAt, withValue, yamlFile } from "../../../parts/files/yamlFile";
import { Checked } from "./Checked";
import { ShelfForm } from "./ShelfForm";

interface Props {
  title: string;
  text: string;
  setText: (text: string) => void;
  /** The text that is served; nothing is to be published while it stands. */
  served?: string;
  publish: string;
  data: string;
  onPublished: (shelf: ShelfVersion) => void;
  /** What stands beside the title. */
  side?: ReactNode;
  children?: ReactNode;
}

/** A shelf as a form and as a file at once, each following the other; looked at as it changes, and published. */
export function ShelfEditor({ title, text, setText, served, publish: action, data, onPublished, side, children }: Props) {
  const [settled] = useDebouncedValue(text, 400);
  const check = useShelfCheck(settled);
  const publish = usePublishShelf(onPublished);
  const models = useModels();
  const version = useVersion(data);
  const file = yamlFile(text);
  const problems = check.data?.problems ?? [];
  const wrong = problems.length > 0 || check.isError;
  const names = (models.data?.items ?? []).filter((each) => each.data.split("@")[0] === data.split("@")[0]).map((each) => each.name.split("@")[0] ?? "");
  return (
    <div className="form-and-file">
      <div>
        <ShelfForm file={file} problems={problems} change={(path, value) => setText(withValue(text, path, value))} models={[...new Set(names)]} version={version.data} />
      </div>
      <aside className="file-beside">
        <Section title={title} side={side}>
          {children}
          <Textarea
            aria-label="Shelf file, YAML" autosize minRows={6} maxRows={28} mt="xs" value={text} spellCheck={false} onChange={(event) => setText(event.currentTarget.value)}
            styles={{ input: { fontFamily: "var(--mantine-font-family-monospace)", fontSize: "0.82rem" } }}
          />
          <Group mt="xs" gap="sm">
            <Button size="xs" disabled={text === served || wrong || settled !== text || check.isFetching} loading={publish.isPending} onClick={() => publish.mutate(text)}>{action}</Button>
            {served !== undefined && <Button size="xs" variant="default" disabled={text === served} onClick={() => setText(served)}>As it is served</Button>}
            <Anchor size="sm" href={`data:text/yaml;charset=utf-8,${encodeURIComponent(text)}`} download={`${textAt(file, ["shelf"]) || "shelf"}.yaml`}>Download</Anchor>
          </Group>
          {publish.error && <Failed error={publish.error} title="This was refused" />}
          {check.error && <Failed error={check.error} title="This is no shelf yet" />}
          {check.data && <Checked check={check.data} />}
        </Section>
      </aside>
    </div>
  );
}
