import { expect, test } from "vitest";
import { declaredAt, marked, putPart, putText, sameText, stepped, textAt } from "./text";

const sheets = [{ name: "a.rct", text: 'job "X"\n\nrule r\n  on when wärme < 6.0 mg/L\n  call o\n\noutput o\n' }];
const span = { file: "a.rct", from: 3, to: 5 };

test("a span's text is taken out and put back", () => {
  expect(textAt(sheets, span)).toBe("rule r\n  on when wärme < 6.0 mg/L\n  call o");
  const put = putText(sheets, span, "rule r\n  call o");
  expect(put.span).toEqual({ file: "a.rct", from: 3, to: 4 });
  expect(put.sheets[0]?.text).toBe('job "X"\n\nrule r\n  call o\n\noutput o\n');
  expect(sameText(putText(put.sheets, put.span, textAt(sheets, span)).sheets, sheets)).toBe(true);
});

test("a part is changed where it stands, by characters, and nowhere else", () => {
  const part = { kind: "number" as const, file: "a.rct", line: 4, column: 19, text: "6.0" };
  expect(putPart(sheets, part, "5.75")?.[0]?.text).toContain("on when wärme < 5.75 mg/L\n");
  expect(putPart(sheets, { ...part, column: 18 }, "5.75")).toBeUndefined();
  expect(putPart(sheets, { ...part, line: 40 }, "5.75")).toBeUndefined();
});

test("numbers keep the decimals that they were written with", () => {
  expect(stepped("6.0", 3)).toBe("6.3");
  expect(stepped("45", -5)).toBe("40");
  expect(stepped("0.1", -1)).toBe("0.0");
  expect(stepped("-0.05", 6)).toBe("0.01");
});

test("a line finds its declaration, and a difference its lines", () => {
  const all = [
    { keyword: "job", name: "", file: "a.rct", from: 1, to: 1 },
    { keyword: "rule", name: "r", file: "a.rct", from: 3, to: 5 },
  ];
  expect(declaredAt(all, "a.rct", 4)?.name).toBe("r");
  expect(declaredAt(all, "a.rct", 2)).toBeUndefined();
  expect(marked("a\nb\n", "a\nc\n")).toEqual([
    { line: "a", only: false },
    { line: "b", only: true },
  ]);
});
