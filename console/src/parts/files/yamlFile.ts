import { isMap, isNode, parseDocument, type Document, type Node } from "yaml";
import type { Schemas } from "../../api/http";

export type Path = (string | number)[];
export type Change = (path: Path, value: unknown) => void;
export type FieldProblem = Schemas["FieldProblem"];

/** A file in YAML as text, which is what counts, and as what it says. A text that is no YAML says nothing. */
export interface YamlFile {
  text: string;
  doc: Document;
  tree: Record<string, unknown>;
}

/** Reads a text. */
export function yamlFile(text: string): YamlFile {
  const doc = parseDocument(text);
  const tree: unknown = doc.errors.length > 0 ? null : doc.toJS();
  return { text, doc, tree: tree !== null && typeof tree === "object" && !Array.isArray(tree) ? (tree as Record<string, unknown>) : {} };
}

/** The text with another value at a place; undefined takes what is there away. Comments and order stay. */
export function withValue(text: string, path: Path, value: unknown): string {
  const doc = parseDocument(text);
  if (doc.errors.length > 0) return text;
  if (value === undefined) {
    doc.deleteIn(path);
    // nothing is left of a part: it goes as well
    const above = path.slice(0, -1);
    const left: unknown = above.length > 0 ? doc.getIn(above) : null;
    if (left !== null && typeof left === "object" && "items" in left && (left.items as unknown[]).length === 0) doc.deleteIn(above);
  } else {
    const made = node(doc, path, value);
    const before = doc.getIn(path, true);
    // what was said beside the old value is said beside the new one
    if (isNode(before)) made.comment = before.comment;
    doc.setIn(path, made);
  }
  return written(doc);
}

/** A value as it is written: on one line, but for an entry of a list, whose name stands before its fields. */
function node(doc: Document, path: Path, value: unknown): Node {
  const made = doc.createNode(value, { flow: true }) as Node;
  if (typeof path.at(-1) === "number" && isMap(made)) made.flow = false;
  return made;
}

/** A document as text. */
export function written(doc: Document): string {
  return doc.toString({ lineWidth: 120, flowCollectionPadding: false });
}

/** What stands at a place of the tree. */
export function valueAt(file: YamlFile, path: Path): unknown {
  let here: unknown = file.tree;
  for (const step of path) {
    if (here === null || typeof here !== "object") return undefined;
    here = (here as Record<string | number, unknown>)[step];
  }
  return here;
}

export function numberAt(file: YamlFile, path: Path): number | "" {
  const value = valueAt(file, path);
  return typeof value === "number" ? value : "";
}

export function textAt(file: YamlFile, path: Path): string {
  const value = valueAt(file, path);
  return typeof value === "string" || typeof value === "number" ? String(value) : "";
}

export function listAt(file: YamlFile, path: Path): unknown[] {
  const value = valueAt(file, path);
  return Array.isArray(value) ? (value as unknown[]) : [];
}

/** What is wrong at a place, or within it; undefined where nothing is. */
export function problemAt(problems: FieldProblem[], path: Path): string | undefined {
  return problems.find((each) => isWithin(each, path.join(".")))?.message;
}

/** Whether a problem is of a field, or of one within it. */
export function isWithin(problem: FieldProblem, field: string): boolean {
  return problem.field === field || problem.field.startsWith(`${field}.`);
}

/** A parameter as it is written in a file, on one line. */
export function shown(value: unknown): string {
  if (value === undefined) return "";
  return written(parseDocument(JSON.stringify(value))).trim().replaceAll('"', "");
}

/** What a person wrote for a parameter: a number, a word, a list, or a range such as {choose: [16, 32]}. */
export function readValue(text: string): unknown {
  const doc = parseDocument(text);
  return doc.errors.length > 0 ? text : (doc.toJS() as unknown);
}
