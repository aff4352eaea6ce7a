import { TextInput } from "@mantine/core";

interface ContextFieldsProps {
  names: string[];
  values: Record<string, string>;
  onSet: (next: Record<string, string>) => void;
}

/** Columns of the interaction that a model looks at: what is left empty is missing. */
export function ContextFields({ names, values, onSet }: ContextFieldsProps) {
  return names.map((name) => (
    <TextInput
      key={name}
      label={name}
      size="xs"
      w={120}
      placeholder="missing"
      defaultValue={values[name] ?? ""}
      onBlur={(event) => onSet({ ...values, [name]: event.currentTarget.value })}
      onKeyDown={(event) => event.key === "Enter" && onSet({ ...values, [name]: event.currentTarget.value })}
    />
  ));
}
