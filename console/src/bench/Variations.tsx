import { useQueries } from "@tanstack/react-query";
import type { Replay } from "../api";
import { lasting } from "../parts/number";
import { useJob } from "../parts/useJob";

/** How many replays a page asks for at once. */
export const mostCombinations = 20;

/** The values of a list, such as 5, 5.5, 6 mg/L; a number alone is in the unit of the last. */
function valuesOf(text: string): string[] {
  const values = text.split(",").map((v) => v.trim());
  const unit = /^-?[\d.]+\s*([^\s\d]\S*)$/.exec(values.at(-1) ?? "")?.[1];
  return values.map((v) => (unit && /^-?[\d.]+$/.test(v) ? `${v} ${unit}` : v));
}

/** All ways to take one value of each name. */
export function combinations(set: Record<string, string>): Record<string, string>[] {
  return Object.entries(set).reduce<Record<string, string>[]>((all, [name, text]) => all.flatMap((some) => valuesOf(text).map((v) => ({ ...some, [name]: v }))), [{}]);
}

interface Figure {
  name: string;
  starts: number;
  on: number;
}

/** What became of outputs and alarms, which are on or off. */
const figuresOf = (replay: Replay): Figure[] => replay.summary.filter((s) => s.kind === "alarm" || (s.kind === "output" && s.starts !== undefined)).map((s) => ({ name: s.name, starts: s.starts ?? 0, on: s.on_seconds ?? 0 }));

const text = (f?: Figure) => (!f || (f.starts === 0 && f.on === 0) ? "–" : `${f.starts} × ${lasting(f.on)}`);

/** A row for each of several values: how often and how long the outputs and alarms were on that are not alike in all. */
export function Variations({ revision, recording, all, scan }: { revision: number; recording: number; all: Record<string, string>[]; scan: string }) {
  const job = useJob();
  const rows = useQueries({
    queries: all.map((set) => ({
      queryKey: ["variation", revision, recording, set, scan],
      queryFn: async ({ signal }: { signal: AbortSignal }) => figuresOf(await job.replay({ revision, recording, set, scan: scan || undefined, first: 0, most: 1 }, signal)),
      staleTime: Infinity,
      retry: false,
    })),
  });
  const names = Object.keys(all[0] ?? {}).filter((name) => all.some((set) => set[name] !== all[0]?.[name]));
  const done = rows.flatMap((r) => (r.data ? [r.data] : []));
  const figures = (name: string) => done.map((row) => text(row.find((f) => f.name === name)));
  const differ = (done[0] ?? []).map((f) => f.name).filter((name) => new Set(figures(name)).size > 1);
  return (
    <section className="card overflow-x-auto" data-testid="variations">
      <table className="w-full text-right">
        <thead className="text-xs text-ink-3">
          <tr>
            {[...names, ...differ].map((h) => (
              <th key={h} className="px-3 py-1.5 font-normal">
                {h}
              </th>
            ))}
            {!differ.length && <th className="px-3 py-1.5 text-left font-normal">{done.length === all.length ? "no output and no alarm differs" : ""}</th>}
          </tr>
        </thead>
        <tbody>
          {all.map((set, i) => (
            <tr key={JSON.stringify(set)} className="border-t border-line">
              {names.map((name) => (
                <td key={name} className="px-3 py-1.5 font-semibold whitespace-nowrap">
                  {set[name]}
                </td>
              ))}
              {rows[i]?.error ? (
                <td role="alert" colSpan={differ.length || 1} className="px-3 text-left text-critical">
                  ✕ {rows[i].error.message}
                </td>
              ) : (
                differ.map((name) => (
                  <td key={name} className="px-3 whitespace-nowrap">
                    {rows[i]?.data ? text(rows[i].data.find((f) => f.name === name)) : "…"}
                  </td>
                ))
              )}
              {!differ.length && !rows[i]?.error && <td />}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="px-3 pb-2 text-xs text-ink-3">Starts × time on in all. The chart below is of the first row.</p>
    </section>
  );
}
