import { NumberInput, Select } from "@mantine/core";
import { numberAt, problemAt, textAt, type Change, type YamlFile, type FieldProblem, type Path } from "./yamlFile";

/** What every part of the form takes. */
export interface FormPart {
  file: YamlFile;
  problems: FieldProblem[];
  change: Change;
}

interface NumberFieldProps extends FormPart {
  path: Path;
  label: string;
  description?: string;
  placeholder?: string;
  whole?: boolean;
}

/** A number of the file; emptied, it goes back to its default. */
export function NumberField({ file, problems, change, path, label, description, placeholder, whole }: NumberFieldProps) {
  return (
    <NumberInput
      size="xs" w={200} label={label} description={description} placeholder={placeholder} hideControls allowDecimal={!whole} decimalScale={6}
      value={numberAt(file, path)} error={problemAt(problems, path)}
      onChange={(value) => change(path, value === "" ? undefined : Number(value))}
    />
  );
}

interface ChoiceFieldProps extends FormPart {
  path: Path;
  label: string;
  description?: string;
  options: { value: string; label: string }[];
  /** What stands where the file says nothing. */
  usual?: string;
}

/** One of several words; the usual one is taken out of the file. */
export function ChoiceField({ file, problems, change, path, label, description, options, usual }: ChoiceFieldProps) {
  const given = textAt(file, path) || usual || null;
  return (
    <Select
      size="xs" w={240} label={label} description={description} data={options} value={given} allowDeselect={false} error={problemAt(problems, path)}
      onChange={(value) => change(path, value === usual ? undefined : value)}
    />
  );
}
