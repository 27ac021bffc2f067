import type { RulePoint } from "../api";
import { figure } from "../parts/number";

/** Trip and reset points at every stage, and the delays. */
export function RulePoints({ points, delays }: { points: RulePoint[]; delays: string[] }) {
  return (
    <ul className="grid grid-cols-[repeat(auto-fill,minmax(190px,1fr))] border-t border-line" aria-label="Trip and reset points, and delays">
      {points.map((p) => {
        const last = p.stages.at(-1);
        return (
          <li key={p.effect + p.input + p.op + String(last?.value)} className="border-r border-line px-3 py-1.5 last:border-r-0" data-point={p.effect}>
            <span className="text-xs text-ink-3">
              {p.effect === "keeps" ? "keeps" : `${p.effect} at`} {p.direction && (p.direction === "falling" ? "↘" : "↗")} {p.input}
            </span>
            <span className="block">
              <b>{figure(last?.value ?? NaN)}</b>
              <span className="unit">
                {last?.unit} {p.direction}
              </span>
            </span>
            <span className="block text-xs text-ink-3">
              {p.stages
                .slice(0, -1)
                .toReversed()
                .map((q) => `${figure(q.value)} ${q.unit}`)
                .join(" · ")}
            </span>
          </li>
        );
      })}
      {delays.length > 0 && (
        <li className="px-3 py-1.5 text-sm text-ink-2">
          {delays.map((d) => (
            <span key={d} className="block">
              {d}
            </span>
          ))}
        </li>
      )}
    </ul>
  );
}
