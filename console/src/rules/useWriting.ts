import { useCallback, useEffect, useReducer, useRef, useState } from "react";
import type { Sheet } from "../api";
import { useJob } from "../parts/useJob";
import { sameText } from "./text";
import { begun, reduce } from "./undo";

const ownerKey = "rectura.writer";

/** Whose drafts are whose: a browser's own. */
export function owner(): string {
  const known = localStorage.getItem(ownerKey);
  if (known) return known;
  const made = crypto.randomUUID?.() ?? Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, "0")).join("");
  localStorage.setItem(ownerKey, made);
  return made;
}

export interface Writing {
  base: number;
  sheets: Sheet[];
  version: number;
  changed: boolean;
  undos: number;
  /** Why the draft could not be kept. */
  trouble?: Error;
  edit: (sheets: Sheet[], group?: string) => void;
  undo: () => void;
  discard: () => void;
  rebase: (base: number, original: Sheet[], sheets: Sheet[]) => void;
}

/** The sheets that are being written, kept as a draft as they change. */
export function useWriting(base: number, original: Sheet[], started: Sheet[]): Writing {
  const job = useJob();
  const [s, dispatch] = useReducer(reduce, begun(base, original, started));
  const [trouble, setTrouble] = useState<Error>();
  const changed = !sameText(s.sheets, s.original);
  const unsaved = useRef<() => void>(undefined);
  useEffect(() => {
    if (s.version === 0) return; // as it was found
    const keep = () => {
      unsaved.current = undefined;
      const done = changed ? job.putDraft(owner(), { base: s.base, sheets: s.sheets }) : job.deleteDraft(owner());
      done.then(() => setTrouble(undefined), setTrouble);
    };
    unsaved.current = keep;
    const timer = setTimeout(keep, 300);
    return () => clearTimeout(timer);
  }, [job, s.version, s.base, s.sheets, changed]);
  useEffect(() => {
    const flush = () => unsaved.current?.();
    addEventListener("pagehide", flush);
    return () => {
      removeEventListener("pagehide", flush);
      flush();
    };
  }, []);
  return {
    base: s.base,
    sheets: s.sheets,
    version: s.version,
    changed,
    undos: s.past.length,
    trouble,
    edit: useCallback((sheets, group) => dispatch({ do: "edit", sheets, group, at: performance.now() }), []),
    undo: useCallback(() => dispatch({ do: "undo" }), []),
    discard: useCallback(() => dispatch({ do: "discard" }), []),
    rebase: useCallback((base, original, sheets) => dispatch({ do: "rebase", base, original, sheets }), []),
  };
}
