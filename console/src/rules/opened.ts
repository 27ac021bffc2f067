import type { Checked, Declared, Rule } from "../api";
import type { Pending } from "./Sentence";
import { declaredAt, type Span } from "./text";

/** What is opened of a job that is being written: by its name, and by its place once that is known. */
export interface Opened {
  name?: string;
  span?: Span;
  /** How often something was opened: another time, another editor. */
  time: number;
  /** What has been put in the place of a part, and in which version of the text. */
  pending?: Pending & { version: number };
  /** The last answer without errors; while the text has some, the rules are those of then. */
  good?: { checked: Checked; version: number };
}

export type Event =
  | { do: "open"; name: string; span?: Span }
  | { do: "answer"; checked: Checked; version: number; written: number; settled: boolean } // what the service says of a version
  | { do: "put"; at: string; text: string; version: number } // a part of the sentence
  | { do: "write"; span: Span } // in the editor
  | { do: "leave" }; // undone, or discarded: places are not what they were

export const opened = (name?: string): Opened => ({ name, time: 0 });

/** Follows what is opened through what is written, and through what the service says of it. */
export function follow(o: Opened, e: Event): Opened {
  switch (e.do) {
    case "open":
      return { ...o, name: e.name, span: e.span, time: o.time + 1 };
    case "put":
      return { ...o, pending: { at: e.at, text: e.text, version: e.version } };
    case "write":
      return { ...o, span: e.span, pending: undefined };
    case "leave":
      return { ...o, span: undefined, pending: undefined };
    case "answer":
      return answered(o, e);
  }
}

function answered(o: Opened, { checked, version, written, settled }: Event & { do: "answer" }): Opened {
  const good = checked.rules.length > 0 && checked !== o.good?.checked ? { checked, version } : o.good;
  const next = good === o.good ? o : { ...o, good };
  const sound = !checked.findings.some((f) => f.severity === "error");
  const own = version === written ? ownOf(next, checked) : undefined;
  if (own) {
    // What is opened is found by its place while its text is written, and may get another name there.
    const name = sound && own.name ? own.name : next.name;
    const { span } = next;
    return span && name === next.name && span.file === own.file && span.from === own.from && span.to === own.to ? next : { ...next, name, span: { file: own.file, from: own.from, to: own.to } };
  }
  const gone = next.name !== undefined && settled && !next.span && sound; // undone, or never there
  const first = next.good?.checked.rules[0]?.name;
  return (!next.name || gone) && first && first !== next.name ? { ...next, name: first, time: next.time + 1 } : next;
}

/** The declaration that is opened, as an answer has it. */
export function ownOf(o: Opened, checked: Checked): Declared | undefined {
  return (o.span && declaredAt(checked.declarations, o.span.file, o.span.from)) || checked.declarations.find((d) => d.name === o.name);
}

/** What was put into a part and has not been read yet. */
export function aheadOf(o: Opened): (Pending & { version: number }) | undefined {
  return o.pending && (o.good?.version ?? -1) < o.pending.version ? o.pending : undefined;
}

/** The declarations that are listed as rules. */
export const kinds: string[] = ["rule", "bands", "follow", "loop", "alarm", "message"] satisfies Rule["kind"][];

/** What decides, and is not among the rules that could be read. */
export function unread(checked: Checked | undefined, rules: Rule[]): Rule[] {
  return (checked?.declarations ?? [])
    .filter((d) => kinds.includes(d.keyword) && !rules.some((r) => r.name === d.name))
    .map((d) => ({ kind: d.keyword as Rule["kind"], name: d.name, title: d.name, file: d.file, line: d.from, text: "", sentence: "", calls: [], delays: [], points: [] }));
}
