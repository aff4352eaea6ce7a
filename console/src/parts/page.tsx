import { Group } from "@mantine/core";
import type { ReactNode } from "react";

/** A page's title in serif, with what chooses its content at the right. */
export function PageTitle({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <Group justify="space-between" align="center" gap="md">
      <h1 className="page-title">{title}</h1>
      <Group gap="sm">{children}</Group>
    </Group>
  );
}

/** A part of a page, set off by a rule. */
export function Section({ title, side, children }: { title: string; side?: ReactNode; children: ReactNode }) {
  return (
    <section className="section">
      <div className="section-head">
        <h2>{title}</h2>
        <Group gap="xs">{side}</Group>
      </div>
      {children}
    </section>
  );
}

/** A row of named figures. */
export function Figures({ rows }: { rows: [string, string][] }) {
  return (
    <dl className="figures">
      {rows.map(([label, value]) => (
        <div key={label}>
          <dt>{label}</dt>
          <dd>{value}</dd>
        </div>
      ))}
    </dl>
  );
}
