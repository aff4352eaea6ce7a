import { Button, Code, CopyButton, Group } from "@mantine/core";
import type { NewKey } from "../../api/keys";

/** The secret of a key that was just made: shown this once. */
export function Secret({ made, onClose }: { made: NewKey; onClose: () => void }) {
  return (
    <div className="empty" role="status">
      <p style={{ margin: 0 }}>The secret of {made.name}. It is shown now and never again: keep it where the caller finds it.</p>
      <Code block mt="xs">{made.secret}</Code>
      <Group gap="sm" mt="xs">
        <CopyButton value={made.secret}>{({ copied, copy }) => <Button size="compact-xs" variant="default" onClick={copy}>{copied ? "Copied" : "Copy"}</Button>}</CopyButton>
        <Button size="compact-xs" variant="subtle" onClick={onClose}>I have kept it</Button>
      </Group>
    </div>
  );
}
