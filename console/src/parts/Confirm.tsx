import { Button, Group, Modal } from "@mantine/core";
import type { ReactNode } from "react";

interface Props {
  title: string;
  action: string;
  busy: boolean;
  onConfirm: () => void;
  onClose: () => void;
  children: ReactNode;
}

/** Asks before something that cannot be taken back; the words say what it does. */
export function Confirm({ title, action, busy, onConfirm, onClose, children }: Props) {
  return (
    <Modal opened onClose={onClose} title={title} centered closeButtonProps={{ "aria-label": "Close" }}>
      <p style={{ margin: 0 }}>{children}</p>
      <Group gap="sm" mt="md" justify="end">
        <Button size="xs" variant="default" onClick={onClose}>No</Button>
        <Button size="xs" loading={busy} onClick={onConfirm} data-autofocus>{action}</Button>
      </Group>
    </Modal>
  );
}
