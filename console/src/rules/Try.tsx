import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Slider, Switch } from "radix-ui";
import { useState } from "react";
import type { Named, Rule, Sheet } from "../api";
import { useJob } from "../parts/useJob";
import { figure } from "../parts/number";

/** Sliders and switches for what a rule looks at, and its answer. */
export function Try({ rule, inputs, ends, sheets, version }: { rule: Rule; inputs: Named[]; ends: Record<string, boolean>; sheets: Sheet[]; version: number }) {
  const job = useJob();
  const [values, setValues] = useState<Record<string, number | boolean>>({});
  const of = (n: Named) => values[n.name] ?? (n.kind === "contact" ? (ends[n.name] ?? false) : middle(n, rule));
  const set = (name: string, v: number | boolean) => setValues((all) => ({ ...all, [name]: v }));
  const given = Object.fromEntries(inputs.map((n) => [n.name, n.kind === "contact" ? (of(n) ? "on" : "off") : `${rounded(Number(of(n)), n)} ${n.unit}`.trim()]));
  const tried = useQuery({
    queryKey: ["tries", version, rule.name, given],
    queryFn: ({ signal }) => job.tryRule({ sheets, rule: rule.name, values: given }, signal),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 10_000,
  });
  return (
    <div className="flex flex-col gap-2.5 px-3 py-2.5" data-testid="try">
      {inputs.map((n) =>
        n.kind === "contact" ? (
          <label key={n.name} className="flex items-center gap-2">
            <span className="min-w-0 flex-1 truncate" title={n.title}>
              {n.name}
            </span>
            <Switch.Root checked={Boolean(of(n))} onCheckedChange={(v) => set(n.name, v)} aria-label={n.title} className="chip w-12 text-center data-[state=checked]:border-ink data-[state=checked]:bg-ink data-[state=checked]:text-sheet">
              {of(n) ? "on" : "off"}
            </Switch.Root>
          </label>
        ) : (
          <div key={n.name}>
            <div className="flex items-baseline gap-2">
              <span className="min-w-0 flex-1 truncate" title={n.title}>
                {n.name}
              </span>
              <span>
                <b>{rounded(Number(of(n)), n)}</b>
                <span className="unit">{n.unit}</span>
              </span>
            </div>
            <Slider.Root value={[Number(of(n))]} min={reach(n, rule).low} max={reach(n, rule).high} step={stepOf(n, rule)} onValueChange={([v]) => v !== undefined && set(n.name, v)} className="relative flex h-5 touch-none items-center">
              <Slider.Track className="relative h-1 grow rounded bg-wash">
                <Slider.Range className="absolute h-full rounded bg-accent" />
              </Slider.Track>
              <Slider.Thumb className="block size-3.5 rounded-full border border-accent bg-sheet" aria-label={n.title} aria-valuetext={`${rounded(Number(of(n)), n)} ${n.unit}`} />
            </Slider.Root>
          </div>
        ),
      )}
      {inputs.length === 0 && <p className="text-ink-3">It looks at nothing that could be given a value.</p>}
      <div className="flex flex-col gap-1.5 border-t border-line pt-2" aria-live="polite">
        {tried.error && <p className="text-critical">{tried.error.message}</p>}
        {tried.data?.states
          .filter((s) => s.name === rule.name || s.kind === "output")
          .map((s) => (
            <div key={s.name} data-tried={s.name}>
              <State state={s.state} /> <span className="text-ink-2">{s.name}</span>
              <p className="text-xs text-ink-3">{s.because}</p>
            </div>
          ))}
        <p className="text-xs text-ink-3">Delays and filters are waited out.</p>
      </div>
    </div>
  );
}

/** A state as a chip: filled for on, hatched for undecided. */
export function State({ state }: { state: string }) {
  const looks = ["on", "active"].includes(state) ? "border-ink bg-ink text-sheet" : state === "undecided" ? "hatched" : "text-ink-2";
  return <span className={`chip inline-block ${looks}`}>{state}</span>;
}

function reach(n: Named, rule: Rule): { low: number; high: number } {
  const points = rule.points.filter((p) => p.input === n.name).map((p) => p.stages.at(-1)?.value ?? 0);
  const low = n.low ?? Math.min(0, ...points);
  const high = n.high ?? Math.max(1, ...points.map((v) => v * 2));
  return { low, high: high > low ? high : low + 1 };
}

/** Where a slider begins: on the trip point, or half-way. */
function middle(n: Named, rule: Rule): number {
  const { low, high } = reach(n, rule);
  const point = rule.points.find((p) => p.input === n.name)?.stages.at(-1)?.value;
  return Math.min(Math.max(point ?? (low + high) / 2, low), high);
}

function stepOf(n: Named, rule: Rule): number {
  const { low, high } = reach(n, rule);
  return 10 ** Math.floor(Math.log10((high - low) / 200));
}

function rounded(v: number, n: Named): string {
  return n.unit === "" ? figure(v) : figure(Math.round(v * 1000) / 1000, 5);
}
