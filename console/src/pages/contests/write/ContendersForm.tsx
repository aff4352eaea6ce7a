import { Button, Group, Select } from "@mantine/core";
import { useState } from "react";
import type { Schemas } from "../../../api/http";
import { duration } from "../../../parts/format";
import { OwnFields } from "./OwnFields";
import { Parameters } from "../../../parts/files/Parameters";
import { problemAt, shown } from "../../../parts/files/yamlFile";
import { contendersOf, fitting, paramChange, type Contender, type Family } from "./contenders";
import type { FormPart } from "../../../parts/files/fileFields";

type Estimate = Schemas["ContenderEstimate"];

interface ContendersProps extends FormPart {
  families: Family[];
  estimates: Estimate[];
  rated: boolean;
  /** Columns of the item and user tables. */
  columns: string[];
}

/** The models that are compared: what each is for, what it costs, and its parameters. */
export function ContendersForm({ families, estimates, rated, columns, ...part }: ContendersProps) {
  const contenders = contendersOf(part.file);
  const kinds = Object.keys((part.file.tree["prepare"] as { kinds?: object } | undefined)?.kinds ?? {});
  const parts = [...(columns.length > 0 ? ["features", ...columns.map((each) => `features.${each}`)] : []), ...kinds.map((each) => `kinds.${each}`), "half_life_days", "second_stage", "layers"];
  return (
    <>
      {contenders.map((each) => (
        <OneContender
          key={`${each.place}${each.family}`} contender={each} family={families.find((known) => known.family === each.family)}
          estimate={estimates.find((known) => known.contender === each.label)} parts={parts} {...part}
        />
      ))}
      <Select
        size="xs" w={260} mt="sm" label="One more" placeholder="family of models" searchable data={fitting(families, rated)} value={null} maxDropdownHeight={340}
        onChange={(value) => value && part.change(["contenders", nextPlace(part.file.tree["contenders"])], free(value, contenders.map((each) => each.label)))}
      />
    </>
  );
}

/** When another is better: some are written with their own first word. */
function notFor(unfit: string): string {
  return /^(when|to|as|for) /.test(unfit) ? `not ${unfit}` : `not for: ${unfit}`;
}

function nextPlace(contenders: unknown): number {
  return Array.isArray(contenders) ? contenders.length : 0;
}

/** A contender of a family, under a name that no other has. */
function free(family: string, labels: string[]): unknown {
  if (!labels.includes(family)) return family;
  let number = 2;
  while (labels.includes(`${family}-${number}`)) number += 1;
  return { [family]: {}, as: `${family}-${number}` };
}

interface OneProps extends FormPart {
  contender: Contender;
  family: Family | undefined;
  estimate: Estimate | undefined;
  /** What a contender can be compared without. */
  parts: string[];
}

function OneContender({ contender, family, estimate, parts, file, problems, change }: OneProps) {
  const [open, setOpen] = useState(false);
  const wrong = problemAt(problems, ["contenders", contender.place]);
  const given = Object.entries(contender.params);
  return (
    <section className="contender" aria-label={contender.label}>
      <div className="section-head">
        <span>
          <strong>{contender.label}</strong>
          {contender.label !== contender.family && <span className="quiet"> {contender.family}</span>}
          {given.length > 0 && <span className="quiet"> {given.map(([name, value]) => `${name} ${shown(value)}`).join(", ")}</span>}
        </span>
        <Group gap="xs" wrap="nowrap" style={{ flexShrink: 0 }}>
          {estimate && <span className="quiet">about {duration(estimate.seconds)} ({duration(estimate.seconds_low)} to {duration(estimate.seconds_high)}), {estimate.memory_mb.toFixed(0)} MB{estimate.fits > 2 && `, ${estimate.fits} fits`}</span>}
          <Button size="compact-xs" variant="subtle" aria-expanded={open} onClick={() => setOpen(!open)}>Parameters</Button>
          <Button size="compact-xs" variant="subtle" onClick={() => change(["contenders", contender.place], undefined)}>Remove</Button>
        </Group>
      </div>
      {family && <p className="quiet">{family.summary}{family.unfit && `; ${notFor(family.unfit)}`}.</p>}
      {wrong && <p className="warn" role="alert">{wrong}</p>}
      {open && family && (
        <>
          <p className="quiet">A number or a word; or a range to tune over, such as {"{choose: [16, 32]}"} or {"{between: [0.001, 1], log: true}"}.</p>
          <Parameters
            family={family} given={contender.params}
            onChange={(name, value) => {
              const next = paramChange(contender, name, value);
              change(next.path, next.value);
            }}
          />
          <OwnFields contender={contender} file={file} problems={problems} change={change} parts={parts} />
        </>
      )}
    </section>
  );
}
