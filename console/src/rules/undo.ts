import type { Sheet } from "../api";
import { sameText } from "./text";

/** How many changes can be undone. */
export const most = 20;

/** Changes of one group within so many milliseconds are undone together. */
const together = 1500;

/** What is being written, what it was made of, and how it was before. */
export interface State {
  base: number;
  original: Sheet[]; // of the base
  sheets: Sheet[];
  past: Sheet[][];
  group?: string;
  at: number;
  version: number;
}

export type Action = { do: "edit"; sheets: Sheet[]; group?: string; at: number } | { do: "undo" } | { do: "discard" } | { do: "rebase"; base: number; original: Sheet[]; sheets: Sheet[] };

/** What becomes of it when something is done. */
export function reduce(s: State, a: Action): State {
  const version = s.version + 1;
  switch (a.do) {
    case "edit": {
      if (sameText(a.sheets, s.sheets)) return s;
      const joined = a.group !== undefined && a.group === s.group && a.at - s.at < together;
      return { ...s, version, sheets: a.sheets, past: joined ? s.past : [...s.past, s.sheets].slice(-most), group: a.group, at: a.at };
    }
    case "undo": {
      const last = s.past.at(-1);
      return last ? { ...s, version, sheets: last, past: s.past.slice(0, -1), group: undefined } : s;
    }
    case "discard":
      return { ...s, version, sheets: s.original, past: [...s.past, s.sheets].slice(-most), group: undefined };
    case "rebase":
      return { ...s, version, base: a.base, original: a.original, sheets: a.sheets, past: [], group: undefined };
  }
}

export function begun(base: number, original: Sheet[], started: Sheet[]): State {
  return { base, original, sheets: started, past: [], at: 0, version: 0 };
}
