import { Popover } from "radix-ui";
import { useState, type FormEvent } from "react";
import type { RevisionDetail } from "../api";

/** What a replay may do otherwise: other setpoints and numbers in clauses, a controller's loop time. */
export interface Other {
  set: Record<string, string>;
  scan: string;
}

export const asWritten: Other = { set: {}, scan: "" };

export function isOther(o: Other): boolean {
  return o.scan !== "" || Object.keys(o.set).length > 0;
}

/** A box to play with other values than the written ones. Nothing is kept. */
export function Otherwise({ revision, other, onPlay }: { revision: RevisionDetail; other: Other; onPlay: (o: Other) => void }) {
  const [open, setOpen] = useState(false);
  const play = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    const set: Record<string, string> = {};
    for (const s of [...revision.setpoints, ...revision.clauses]) {
      const text = String(form.get(s.name) ?? "").trim();
      if (text && text !== s.value) set[s.name] = text;
    }
    onPlay({ set, scan: String(form.get(":scan") ?? "").trim() });
    setOpen(false);
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="btn">Other values…</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" sideOffset={4} className="card z-20 w-80 p-3 shadow-lg" aria-label="Play with other values">
          <form onSubmit={play} className="flex flex-col gap-2">
            <p className="text-xs text-ink-3">Plays with these in place of the written values. Several, such as 5,5.5,6 mg/L, give a row each. Nothing is kept.</p>
            <div className="flex max-h-80 flex-col gap-1.5 overflow-auto pr-1">
              {revision.setpoints.map((s) => (
                <label key={s.name} className="flex items-center gap-2">
                  <span className="min-w-0 flex-1 truncate" title={s.allow && `allowed ${s.allow}`}>
                    {s.title}
                  </span>
                  <input name={s.name} defaultValue={other.set[s.name] ?? s.value} className="field w-28 text-right" autoComplete="off" />
                </label>
              ))}
              {revision.clauses.length > 0 && <p className="pt-1 text-xs text-ink-3">Numbers in the rules themselves</p>}
              {revision.clauses.map((c) => (
                <label key={c.name} className="flex items-center gap-2">
                  <span className="min-w-0 flex-1 truncate" title={c.name}>
                    {c.title}
                  </span>
                  <input name={c.name} defaultValue={other.set[c.name] ?? c.value} className="field w-28 text-right" autoComplete="off" />
                </label>
              ))}
            </div>
            <label className="flex items-center gap-2 border-t border-line pt-2">
              <span className="flex-1">Loop time of a controller</span>
              <input name=":scan" defaultValue={other.scan} placeholder="none" className="field w-28 text-right" autoComplete="off" />
            </label>
            <div className="flex justify-end gap-2">
              <button type="button" className="btn" onClick={() => { onPlay(asWritten); setOpen(false); }}>
                As written
              </button>
              <button type="submit" className="btn main">
                Play with these
              </button>
            </div>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
