import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { listPatterns, type Named, type Pattern, type Sheet } from "../api";
import { useJob } from "../parts/useJob";
import { Box } from "../parts/Box";
import { Trouble } from "../parts/Notice";
import { Pick } from "../parts/Pick";

const made = ":made"; // no name has a colon

/** A rule from one of the trade's building blocks, by menus alone. */
export function NewRule({ names, sheets, open, onOpen, onMade }: { names: Named[]; sheets: Sheet[]; open: boolean; onOpen: (open: boolean) => void; onMade: (sheets: Sheet[], made: string[]) => void }) {
  const job = useJob();
  const patterns = useQuery({ queryKey: ["patterns"], queryFn: listPatterns, staleTime: Infinity, enabled: open });
  const [chosen, setChosen] = useState<string>();
  const [bound, setBound] = useState<Record<string, string>>({});
  const [trouble, setTrouble] = useState<Error>();
  const pattern = patterns.data?.find((p) => p.name === chosen) ?? patterns.data?.[0];
  const choose = (p: Pattern) => {
    setChosen(p.name);
    setBound({});
    setTrouble(undefined);
  };
  const put = async () => {
    if (!pattern) return;
    try {
      const answer = await job.adopt({ sheets, pattern: pattern.name, bound });
      onMade(answer.sheets, answer.names);
      onOpen(false);
    } catch (e) {
      setTrouble(e instanceof Error ? e : new Error(String(e)));
    }
  };
  return (
    <Box open={open} onOpen={onOpen} title="New rule" note="Begin from a building block; everything in it can be changed." wide>
      <div className="grid min-h-0 flex-1 grid-cols-[300px_minmax(0,1fr)] overflow-hidden max-sm:grid-cols-1">
        <ul className="overflow-auto border-r border-line p-1.5" aria-label="Building blocks">
          {patterns.data?.map((p) => (
            <li key={p.name}>
              <button type="button" aria-pressed={p.name === pattern?.name} onClick={() => choose(p)} className="w-full rounded-md px-2 py-1 text-left hover:bg-wash aria-pressed:bg-accent-weak aria-pressed:text-accent">
                <span className="font-mono text-[12.5px] font-semibold">{p.name}</span>
                <span className="block text-xs text-ink-3">{p.title}</span>
              </button>
            </li>
          ))}
        </ul>
        {pattern && (
          <div className="flex min-h-0 flex-col gap-3 overflow-auto p-3" data-pattern={pattern.name}>
            <p>{pattern.title}.</p>
            <table className="text-sm">
              <caption className="pb-1 text-left text-xs text-ink-3">Its points, and those of this job that stand for them</caption>
              <tbody>
                {pattern.points.map((p) => {
                  const like = names.filter((n) => n.like === p.like);
                  return (
                    <tr key={p.name}>
                      <td className="py-0.5 pr-3">
                        {p.title} <span className="text-xs text-ink-3">{[p.kind, p.unit].filter(Boolean).join(", ")}</span>
                      </td>
                      <td className="py-0.5">
                        <Pick
                          label={`Stands for ${p.title}`}
                          value={bound[p.name] ?? made}
                          onChange={(v) => setBound((all) => Object.fromEntries([...Object.entries(all).filter(([name]) => name !== p.name), ...(v === made ? [] : [[p.name, v]])]))}
                          choices={[{ value: made, label: "a new point" }, ...like.map((n) => ({ value: n.name, label: n.title, note: n.name }))]}
                        />
                      </td>
                    </tr>
                  );
                })}
              </tbody>
            </table>
            <pre tabIndex={0} aria-label="Its sheet" role="region" className="overflow-auto rounded-md border border-line p-2 font-mono text-[12px] leading-relaxed text-ink-2">{pattern.text}</pre>
            <p className="text-xs text-ink-3">Its `job` line and its trial, which plays a recording of its own, stay behind. Names that this job has already get a number.</p>
            {trouble && <Trouble error={trouble} />}
          </div>
        )}
      </div>
      <div className="flex justify-end gap-2 border-t border-line p-3">
        {patterns.error && <Trouble error={patterns.error} />}
        <button type="button" className="btn" onClick={() => onOpen(false)}>
          Not now
        </button>
        <button type="button" className="btn main" disabled={!pattern} onClick={() => void put()}>
          Put it into the job
        </button>
      </div>
    </Box>
  );
}
