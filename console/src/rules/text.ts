import type { Declared, Part, Sheet } from "../api";

/** The lines of one declaration in a sheet; from and to are counted from 1. */
export interface Span {
  file: string;
  from: number;
  to: number;
}

function linesOf(sheets: Sheet[], file: string): string[] | undefined {
  return sheets.find((s) => s.name === file)?.text.split("\n");
}

function withLines(sheets: Sheet[], file: string, lines: string[]): Sheet[] {
  return sheets.map((s) => (s.name === file ? { ...s, text: lines.join("\n") } : s));
}

/** The text of a span. */
export function textAt(sheets: Sheet[], span: Span): string {
  return (linesOf(sheets, span.file) ?? []).slice(span.from - 1, span.to).join("\n");
}

/** Puts another text into a span, which then covers that. */
export function putText(sheets: Sheet[], span: Span, text: string): { sheets: Sheet[]; span: Span } {
  const lines = linesOf(sheets, span.file);
  if (!lines) return { sheets, span };
  const own = text.split("\n");
  lines.splice(span.from - 1, span.to - span.from + 1, ...own);
  return { sheets: withLines(sheets, span.file, lines), span: { ...span, to: span.from + own.length - 1 } };
}

/** Puts another text in the place of a part; undefined if the part does not stand there any more. */
export function putPart(sheets: Sheet[], part: Part, text: string): Sheet[] | undefined {
  const lines = linesOf(sheets, part.file);
  const line = lines?.[part.line - 1];
  if (!lines || line === undefined) return undefined;
  const letters = [...line]; // columns count characters
  const length = [...part.text].length;
  if (letters.slice(part.column - 1, part.column - 1 + length).join("") !== part.text) return undefined;
  letters.splice(part.column - 1, length, text);
  lines[part.line - 1] = letters.join("");
  return withLines(sheets, part.file, lines);
}

/** The declaration that a line belongs to. */
export function declaredAt(all: Declared[], file: string, line: number): Declared | undefined {
  return all.find((d) => d.file === file && d.from <= line && line <= d.to);
}

export function sameText(a: Sheet[], b: Sheet[]): boolean {
  return a.length === b.length && a.every((s, i) => s.name === b[i]?.name && s.text === b[i]?.text);
}

/** How far one step of a number goes: one of its last written decimal. */
export function stepOf(text: string): number {
  const decimals = text.split(".")[1]?.length ?? 0;
  return 10 ** -decimals;
}

/** A number moved by steps, with as many decimals as it was written with. */
export function stepped(text: string, steps: number): string {
  const decimals = text.split(".")[1]?.length ?? 0;
  return (Number(text) + steps * stepOf(text)).toFixed(decimals).replace(/^-(0(\.0*)?)$/, "$1");
}

/** The lines of a text with those that another one does not have marked. */
export function marked(text: string, other: string): { line: string; only: boolean }[] {
  const there = new Set(other.split("\n"));
  return text
    .replace(/\n$/, "")
    .split("\n")
    .map((line) => ({ line, only: !there.has(line) }));
}

/** A number of things in words. */
export function count(n: number, what: string): string {
  return `${n || "no"} ${what}${n === 1 ? "" : "s"}`;
}
