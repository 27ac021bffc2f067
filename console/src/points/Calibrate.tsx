import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { Point } from "../api";
import { useJob } from "../parts/useJob";
import { signed, withUnit } from "../parts/number";

interface Row {
  measured: string;
  reference: string;
}


/** Calibration: what was measured beside a reference; the error before and after; kept as a new revision. */
export function Calibrate({ revision, point, onRevision }: { revision: number; point: Point; onRevision: (n: number) => void }) {
  const job = useJob();
  const [rows, setRows] = useState<Row[]>([{ measured: "", reference: "" }]);
  const [note, setNote] = useState("");
  const queries = useQueryClient();
  const unit = point.unit;
  const full = rows.filter((r) => r.measured.trim() && r.reference.trim()).map((r) => ({ measured: withUnit(r.measured, unit), reference: withUnit(r.reference, unit) }));
  const request = { revision, input: point.name, readings: full };
  const tried = useQuery({ queryKey: ["calibration", request], queryFn: () => job.calibrate(request), enabled: full.length > 0, staleTime: Infinity, retry: false });
  const kept = useMutation({
    mutationFn: () => job.calibrate({ ...request, note, keep: true }),
    onSuccess: async (c) => {
      await queries.invalidateQueries({ queryKey: ["revisions"] });
      if (c.revision) onRevision(c.revision);
    },
  });
  const change = (i: number, part: Partial<Row>) => setRows(rows.map((r, k) => (k === i ? { ...r, ...part } : r)));
  const points = full.length && !tried.error ? tried.data?.points : undefined;
  let at = -1; // the number of the full row
  return (
    <form
      className="grid grid-cols-[minmax(0,1fr)_300px] gap-4 px-3 py-3 max-lg:grid-cols-1"
      onSubmit={(e) => {
        e.preventDefault();
        kept.mutate();
      }}
    >
      <div>
        <table className="w-full text-left">
          <thead>
            <tr className="text-xs text-ink-3">
              <th className="py-1 font-normal">measured, as the input shows it</th>
              <th className="font-normal">reference, as it truly is</th>
              <th className="text-right font-normal">as found</th>
              <th className="text-right font-normal">as left</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((r, i) => {
              if (r.measured.trim() && r.reference.trim()) at++;
              const p = r.measured.trim() && r.reference.trim() ? points?.[at] : undefined;
              return (
                <tr key={i} className="border-t border-line">
                  <td className="py-1.5">
                    <input className="field w-36" name={`measured-${i}`} aria-label={`Measured ${i + 1}`} placeholder={`9.40 ${unit}`} value={r.measured} onChange={(e) => change(i, { measured: e.target.value })} autoComplete="off" />
                  </td>
                  <td>
                    <input className="field w-36" name={`reference-${i}`} aria-label={`Reference ${i + 1}`} placeholder={`9.10 ${unit}`} value={r.reference} onChange={(e) => change(i, { reference: e.target.value })} autoComplete="off" />
                  </td>
                  <td className="text-right">{p && <Deviation value={p.as_found} percent={p.as_found_percent} unit={unit} />}</td>
                  <td className="text-right">{p && <Deviation value={p.as_left} percent={p.as_left_percent} unit={unit} />}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
        <button type="button" className="btn mt-2 py-1 text-xs" disabled={rows.length >= 10} onClick={() => setRows([...rows, { measured: "", reference: "" }])}>
          Another reading
        </button>
      </div>
      <div className="flex flex-col gap-2">
        <p className="text-xs text-ink-3">One reading shifts the value; two or more are joined by straight lines. A reading may be given at any stage: 12.1 mA.</p>
        {tried.data && !tried.error && full.length > 0 && <code className="rounded bg-wash px-2 py-1.5 font-mono text-[12.5px]" data-testid="clause">{tried.data.clause}</code>}
        {(tried.error ?? kept.error) && full.length > 0 && (
          <p role="alert" className="text-critical">
            ✕ {(tried.error ?? kept.error)?.message}
          </p>
        )}
        <label className="flex flex-col gap-1 text-xs text-ink-3">
          beside the date, in a comment
          <input className="field text-sm text-ink" name="note" placeholder="who, with what" value={note} onChange={(e) => setNote(e.target.value)} autoComplete="off" />
        </label>
        <button type="submit" className="btn main justify-center" disabled={!points || kept.isPending}>
          Save as a new revision
        </button>
      </div>
    </form>
  );
}

function Deviation({ value, percent, unit }: { value: number; percent?: number; unit: string }) {
  return (
    <span className="whitespace-nowrap">
      <b>{signed(value, 3)}</b>
      <span className="unit">{unit}</span>
      {percent !== undefined && <small className="ml-2 text-ink-3">{signed(Number(percent.toFixed(2)), 3)} % of span</small>}
    </span>
  );
}
