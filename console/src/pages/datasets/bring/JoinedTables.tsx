import { Button, Group, TextInput } from "@mantine/core";
import { useState } from "react";
import type { Source } from "../../../api/imports";
import { isWithin, type FieldProblem } from "../../../parts/files/yamlFile";
import { SourceField } from "./SourceField";

interface Props {
  tables: Record<string, Source>;
  /** What is wrong with files and steps of the import. */
  problems: FieldProblem[];
  onChange: (tables: Record<string, Source>) => void;
}

/** Further tables, whose columns can be added to those of another; each goes by a name of its own. */
export function JoinedTables({ tables, problems, onChange }: Props) {
  const [adding, setAdding] = useState(false);
  const [name, setName] = useState("");
  const without = (left: string) => Object.fromEntries(Object.entries(tables).filter(([each]) => each !== left));
  const add = (source: Source | undefined) => {
    if (!source) return;
    const called = name.trim() || (source.file ?? "").split(".")[0] || "table";
    onChange({ ...tables, [called]: source });
    setName("");
    setAdding(false);
  };
  return (
    <>
      {Object.entries(tables).map(([each, source]) => (
        <Group key={each} gap="xs" mt={4}>
          <span>Table to join: <strong>{each}</strong> <span className="quiet">{source.file}</span></span>
          <Button size="compact-xs" variant="subtle" onClick={() => onChange(without(each))}>Remove</Button>
          {problems.filter((problem) => isWithin(problem, `tables.${each}`)).map((problem) => <span key={problem.message} className="warn" role="alert">{problem.message}</span>)}
        </Group>
      ))}
      {adding ? (
        <div className="sources">
          <div>
            <SourceField table="joined" source={undefined} problems={[]} onChange={add} />
            <TextInput size="xs" mt="xs" w={220} label="What to call it" placeholder="the file's name" value={name} onChange={(event) => setName(event.currentTarget.value)} />
          </div>
        </div>
      ) : (
        <Button size="compact-xs" variant="subtle" mt={4} onClick={() => setAdding(true)}>Add a table to join</Button>
      )}
    </>
  );
}
