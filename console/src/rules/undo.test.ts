import { expect, test } from "vitest";
import { begun, most, reduce, type State } from "./undo";

const sheet = (text: string) => [{ name: "a.rct", text }];
const text = (s: State) => s.sheets[0]?.text;

function edited(n: number): State {
  let s = begun(1, sheet("0"), sheet("0"));
  for (let i = 1; i <= n; i++) s = reduce(s, { do: "edit", sheets: sheet(String(i)), at: i * 10_000 });
  return s;
}

test("the last twenty changes are undone, one by one, and no more", () => {
  let s = edited(25);
  for (let i = 24; i >= 5; i--) {
    s = reduce(s, { do: "undo" });
    expect(text(s)).toBe(String(i));
  }
  expect(most).toBe(20);
  expect(reduce(s, { do: "undo" })).toBe(s);
});

test("what is typed in one go at one place is one change", () => {
  let s = begun(1, sheet("6"), sheet("6"));
  for (const [at, t] of [[0, "6."], [300, "6.1"], [600, "6.12"]] as const) s = reduce(s, { do: "edit", sheets: sheet(t), group: "number 4", at });
  s = reduce(s, { do: "edit", sheets: sheet("7"), group: "number 5", at: 700 });
  s = reduce(s, { do: "edit", sheets: sheet("8"), group: "number 5", at: 9_000 });
  expect(s.past.map((p) => p[0]?.text)).toEqual(["6", "6.12", "7"]);
});

test("discarding can be undone, and a revision that is saved is the new beginning", () => {
  const s = edited(2);
  const gone = reduce(s, { do: "discard" });
  expect(text(gone)).toBe("0");
  expect(text(reduce(gone, { do: "undo" }))).toBe("2");
  const saved = reduce(s, { do: "rebase", base: 2, original: sheet("2"), sheets: sheet("2") });
  expect([saved.base, saved.past.length, text(reduce(saved, { do: "discard" }))]).toEqual([2, 0, "2"]);
  expect(reduce(s, { do: "edit", sheets: sheet("2"), at: 0 })).toBe(s);
});
