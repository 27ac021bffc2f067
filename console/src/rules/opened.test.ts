import { expect, test } from "vitest";
import type { Checked, Declared } from "../api";
import { aheadOf, follow, opened, unread, type Opened } from "./opened";

const rule = (name: string) => ({ kind: "rule", name }) as Checked["rules"][number];
const declared = (name: string, from: number, to: number): Declared => ({ keyword: "rule", name, file: "a.rct", from, to });

function checked(declarations: Declared[], error = false): Checked {
  return {
    declarations,
    rules: error ? [] : declarations.map((d) => rule(d.name)),
    findings: error ? [{ file: "a.rct", line: 1, column: 1, severity: "error", code: "syntax", text: "x" }] : [],
  } as unknown as Checked;
}

const answer = (o: Opened, c: Checked, version: number, written = version) => follow(o, { do: "answer", checked: c, version, written, settled: version === written });

test("the first rule is opened where none was asked for, and what was asked for is found", () => {
  const job = checked([declared("low", 1, 3), declared("high", 5, 7)]);
  const first = answer(answer(opened(), job, 0), job, 0);
  expect(first.name).toBe("low");
  expect(first.span).toEqual({ file: "a.rct", from: 1, to: 3 });
  expect(answer(opened("high"), job, 0).span).toEqual({ file: "a.rct", from: 5, to: 7 });
  const gone = answer(opened("gone"), job, 0);
  expect(gone.name).toBe("low");
  expect(gone.time).toBe(1);
});

test("an answer that changes nothing leaves the state as it is", () => {
  const job = checked([declared("low", 1, 3)]);
  const once = answer(answer(opened(), job, 0), job, 0);
  expect(answer(once, job, 0)).toBe(once);
});

test("what is written keeps its place while it has errors, and gets its new name after", () => {
  let o = answer(opened("low"), checked([declared("low", 1, 3)]), 0);
  o = follow(o, { do: "write", span: { file: "a.rct", from: 1, to: 4 } });
  o = answer(o, checked([declared("lower", 1, 4)], true), 1);
  expect(o.name).toBe("low");
  expect(o.good?.version).toBe(0);
  o = answer(o, checked([declared("lower", 1, 4)]), 2);
  expect(o.name).toBe("lower");
});

test("an answer to an older text places nothing", () => {
  let o = answer(opened("low"), checked([declared("low", 1, 3)]), 0);
  o = follow(o, { do: "write", span: { file: "a.rct", from: 1, to: 9 } });
  expect(answer(o, checked([declared("low", 1, 3)]), 0, 1).span?.to).toBe(9);
});

test("what was put into a part stands until it has been read, or is undone", () => {
  let o = answer(opened("low"), checked([declared("low", 1, 3)]), 0);
  o = follow(o, { do: "put", at: "a.rct:2:5", text: "7", version: 1 });
  expect(aheadOf(o)?.text).toBe("7");
  expect(aheadOf(follow(o, { do: "leave" }))).toBeUndefined();
  expect(aheadOf(answer(o, checked([declared("low", 1, 3)]), 1))).toBeUndefined();
});

test("opening anew is another editor", () => {
  const o = follow(opened("low"), { do: "open", name: "high" });
  expect(o).toEqual({ name: "high", span: undefined, time: 1 });
});

test("what cannot be read is listed by its name", () => {
  const job = checked([declared("low", 1, 3), { ...declared("oxygen", 5, 6), keyword: "input" }], true);
  expect(unread(job, []).map((r) => r.name)).toEqual(["low"]);
});
