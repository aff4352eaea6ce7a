import { type Run } from "../../api/contests";

type Spec = Run["spec"];

/** A setting in which two runs differ, as both have it. */
export interface Difference {
  path: string;
  one: string;
  other: string;
}

const ABSENT = "not set";
/** What decides whom figures are of: where two runs differ in it, their figures are not of the same users and items. */
const GROUND = ["data", "prepare", "split", "seed", "rank.relevant"];

/** Settings by their path; contenders and shelves by their names, so that their order does not count. */
function settings(value: unknown, path: string, into: Map<string, string>): void {
  if (value === null || value === undefined) return;
  if (typeof value !== "object") {
    into.set(path, String(value));
    return;
  }
  const entries = Array.isArray(value)
    ? value.map((each: unknown, place) => [nameOf(each) ?? String(place + 1), each] as const)
    : Object.entries(value as Record<string, unknown>);
  if (Array.isArray(value) && value.every((each) => typeof each !== "object")) {
    into.set(path, value.join(", "));
    return;
  }
  for (const [name, each] of entries) settings(each, path ? `${path}.${name}` : name, into);
}

function nameOf(each: unknown): string | undefined {
  if (typeof each !== "object" || each === null) return undefined;
  const named = each as { label?: string; shelf?: string };
  return named.label ?? named.shelf;
}

/** The settings of a run. A contender that the other run lacks is one of them, told in a line. */
function settingsOf(spec: Spec, other: Spec): Map<string, string> {
  const found = new Map<string, string>();
  const there = new Set(other.contenders.map((each) => each.label));
  settings({ ...spec, contest: undefined, contenders: spec.contenders.filter((each) => there.has(each.label)) }, "", found);
  for (const each of spec.contenders) {
    if (there.has(each.label)) continue;
    const params = Object.entries(each.params ?? {}).map(([name, value]) => ` ${name} ${typeof value === "object" ? JSON.stringify(value) : String(value)}`);
    found.set(`contenders.${each.label}`, each.family + params.join(","));
  }
  return found;
}

/** Every setting in which the definitions of two runs differ. */
export function differences(one: Spec, other: Spec): Difference[] {
  const [mine, theirs] = [settingsOf(one, other), settingsOf(other, one)];
  const paths = [...new Set([...mine.keys(), ...theirs.keys()])].sort();
  return paths
    .filter((path) => mine.get(path) !== theirs.get(path))
    .map((path) => ({ path, one: mine.get(path) ?? ABSENT, other: theirs.get(path) ?? ABSENT }));
}

/** Of these, those that keep the figures of two runs from being compared. */
export function ofGround(found: Difference[]): Difference[] {
  return found.filter(({ path }) => GROUND.some((part) => path === part || path.startsWith(`${part}.`)));
}
