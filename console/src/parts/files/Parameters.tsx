import { TextInput } from "@mantine/core";
import { useState } from "react";
import type { Schemas } from "../../api/http";
import { Coded } from "../Coded";
import { readValue, shown, type FieldProblem } from "./yamlFile";

interface Props {
  family: Schemas["Family"];
  given: Record<string, unknown>;
  errors?: FieldProblem[];
  onChange: (name: string, value: unknown) => void;
}

/** Every parameter of a family, with its meaning and its default; emptied, it goes back to that. */
export function Parameters({ family, given, errors = [], onChange }: Props) {
  return (
    <div className="parameters">
      {Object.entries(family.params).map(([name, usual]) => (
        <Parameter
          key={name} name={name} usual={usual} meaning={family.meanings[name] ?? ""} given={given[name]}
          error={errors.find((each) => each.field.split(".").includes(name))?.message} onChange={(value) => onChange(name, value)}
        />
      ))}
    </div>
  );
}

interface ParameterProps {
  name: string;
  usual: unknown;
  meaning: string;
  given: unknown;
  error: string | undefined;
  onChange: (value: unknown) => void;
}

function Parameter({ name, usual, meaning, given, error, onChange }: ParameterProps) {
  const [typed, setTyped] = useState<string | null>(null);
  const take = () => {
    if (typed === null) return;
    onChange(typed.trim() === "" ? undefined : readValue(typed));
    setTyped(null);
  };
  return (
    <TextInput
      size="xs" label={name} description={<Coded text={meaning} />} placeholder={usual == null ? "none" : shown(usual)} value={typed ?? shown(given)} error={error}
      onChange={(event) => setTyped(event.currentTarget.value)} onBlur={take} onKeyDown={(event) => event.key === "Enter" && take()}
    />
  );
}
