import { useMemo, useState } from "react";
import { yamlFile, type YamlFile } from "./yamlFile";

/** A file that a form shows while its text is typed. */
export interface TypedFile {
  /** What the form shows: the text, or the last text that could be read. */
  file: YamlFile;
  /** Why the text cannot be read; undefined where it can. */
  unreadable?: string;
}

/** Reads a text each time it changes. While it is not YAML, the form keeps what the last readable text said. */
export function useYamlFile(text: string): TypedFile {
  const read = useMemo(() => yamlFile(text), [text]);
  const reason = reasonUnreadable(read);
  const [readable, setReadable] = useState(read);
  if (reason === undefined && readable !== read) setReadable(read);
  return reason === undefined ? { file: read } : { file: readable, unreadable: reason };
}

/** Returns the first mistake of a text with its line, or undefined where the text is a mapping or empty. */
function reasonUnreadable({ doc }: YamlFile): string | undefined {
  const mistake = doc.errors[0];
  if (mistake) {
    const line = mistake.linePos?.[0].line;
    return `${line === undefined ? "" : `line ${line}: `}${mistake.message.split("\n")[0]?.replace(/ at line \d+, column \d+:?$/, "")}`;
  }
  const tree: unknown = doc.toJS();
  const isMapping = typeof tree === "object" && !Array.isArray(tree);
  return isMapping ? undefined : "the text names no field";
}
