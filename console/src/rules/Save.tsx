import { useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Refused, type Change } from "../api";
import { useJob } from "../parts/useJob";
import { Box } from "../parts/Box";
import { Trouble } from "../parts/Notice";
import { Differences } from "./Differences";
import { owner, type Writing } from "./useWriting";

interface Theirs {
  newest: number;
  changes: Change[];
  conflicts?: Change[];
}

/** Saving as the next revision: what is different is shown first. */
export function Save({ writing, changes, open, onOpen, onSaved }: { writing: Writing; changes: Change[]; open: boolean; onOpen: (open: boolean) => void; onSaved: (number: number, from: number, changes: Change[]) => void }) {
  const job = useJob();
  const queries = useQueryClient();
  const [note, setNote] = useState("");
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState<Error>();
  const [theirs, setTheirs] = useState<Theirs>();
  const work = async (what: () => Promise<void>) => {
    setBusy(true);
    setTrouble(undefined);
    try {
      await what();
    } catch (e) {
      setTrouble(e instanceof Error ? e : new Error(String(e)));
    } finally {
      setBusy(false);
    }
  };
  const save = (e: FormEvent) => {
    e.preventDefault();
    void work(async () => {
      const { formatted } = await job.check({ sheets: writing.sheets, format: true });
      const sheets = formatted ?? writing.sheets;
      try {
        const kept = await job.pushRevision({ sheets, base: writing.base, note: note.trim() || undefined });
        const different = await job.getDifference(writing.base, kept.number);
        await job.deleteDraft(owner());
        await queries.invalidateQueries({ queryKey: ["revisions"] });
        writing.rebase(kept.number, sheets, sheets);
        setNote("");
        onOpen(false);
        onSaved(kept.number, writing.base, different);
      } catch (e) {
        if (!(e instanceof Refused && e.status === 409)) throw e;
        const newest = (await job.listRevisions())[0]?.number ?? writing.base;
        setTheirs({ newest, changes: await job.getDifference(writing.base, newest) });
      }
    });
  };
  const together = () =>
    work(async () => {
      const merged = await job.merge({ sheets: writing.sheets, base: writing.base });
      const newest = await job.getRevision(merged.onto);
      writing.rebase(merged.onto, newest.sheets, merged.sheets);
      await queries.invalidateQueries({ queryKey: ["revisions"] });
      setTheirs(merged.conflicts.length ? { newest: merged.onto, changes: [], conflicts: merged.conflicts } : undefined);
    });
  return (
    <Box open={open} onOpen={onOpen} title={`Save as revision ${(theirs?.newest ?? writing.base) + 1}`} note="Nothing is put in charge of the plant by this." wide>
      <form onSubmit={save} className="flex min-h-0 flex-col gap-3 overflow-auto p-3">
        {theirs && theirs.changes.length > 0 && (
          <section className="rounded-md border border-critical p-2" role="alert">
            <p className="mb-2">
              <b>Somebody kept revision {theirs.newest} since you began from revision {writing.base}.</b> Nothing of yours is lost. This is what they changed:
            </p>
            <Differences changes={theirs.changes} before={`revision ${writing.base}`} after={`revision ${theirs.newest}`} />
            <button type="button" className="btn mt-2" disabled={busy} onClick={() => void together()}>
              Put mine onto theirs
            </button>
          </section>
        )}
        {theirs?.conflicts && (
          <section className="rounded-md border border-critical p-2" role="alert">
            <p className="mb-2">
              <b>Both of you changed these.</b> They stand as in revision {theirs.newest}; write yours into them again if they are meant.
            </p>
            <Differences changes={theirs.conflicts} before="as it stands, theirs" after="yours" />
          </section>
        )}
        <Differences changes={changes} before={`revision ${writing.base}`} after="to be saved" />
        {changes.length === 0 && <p className="text-ink-3">Only the layout is different.</p>}
        <label className="flex items-center gap-2">
          <span className="text-ink-2">Note</span>
          <input className="field flex-1" value={note} maxLength={1000} onChange={(e) => setNote(e.target.value)} placeholder="why, for those who come after" autoComplete="off" />
        </label>
        {trouble && <Trouble error={trouble} />}
        <div className="flex justify-end gap-2">
          <button type="button" className="btn" onClick={() => onOpen(false)}>
            Go on writing
          </button>
          <button type="submit" className="btn main" disabled={busy || (theirs !== undefined && theirs.changes.length > 0)}>
            {busy ? "Saving…" : "Save"}
          </button>
        </div>
      </form>
    </Box>
  );
}
