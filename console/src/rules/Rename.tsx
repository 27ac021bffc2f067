import { Popover } from "radix-ui";
import { useState, type FormEvent } from "react";
import type { Sheet } from "../api";
import { useJob } from "../parts/useJob";

/** Another name for a declaration, in every place that has it. */
export function Rename({ name, sheets, onRenamed }: { name: string; sheets: Sheet[]; onRenamed: (sheets: Sheet[], to: string) => void }) {
  const job = useJob();
  const [open, setOpen] = useState(false);
  const [trouble, setTrouble] = useState("");
  const submit = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const to = String(new FormData(e.currentTarget).get("to") ?? "").trim();
    try {
      const answer = await job.rename({ sheets, from: name, to });
      onRenamed(answer.sheets, to);
      setOpen(false);
    } catch (e) {
      setTrouble(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <Popover.Root
      open={open}
      onOpenChange={(o) => {
        setOpen(o);
        setTrouble("");
      }}
    >
      <Popover.Trigger className="rounded text-xs text-accent hover:underline">Rename…</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="start" sideOffset={4} className="card z-20 w-80 p-3 shadow-lg" aria-label={`Rename ${name}`}>
          <form onSubmit={(e) => void submit(e)} className="flex flex-col gap-2">
            <label className="flex flex-col gap-1">
              <span className="text-xs text-ink-3">Another name for {name}, everywhere in the job</span>
              <input name="to" defaultValue={name} className="field font-mono" autoComplete="off" spellCheck={false} />
            </label>
            {trouble && (
              <p role="alert" className="text-sm text-critical">
                {trouble}
              </p>
            )}
            <div className="flex justify-end">
              <button type="submit" className="btn main">
                Rename
              </button>
            </div>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
