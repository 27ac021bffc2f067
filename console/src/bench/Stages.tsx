import type { Quantity } from "../api";
import { figure } from "../parts/number";

/** A reading at every stage of its chain, the value first, and what filters make of it. */
export function Stages({ stages, filtered }: { stages?: Quantity[]; filtered?: string }) {
  if (!stages || stages.length < 2) return null;
  return (
    <div className="text-xs text-ink-3">
      last reading{" "}
      {stages
        .toReversed()
        .map((q) => `${figure(q.value)} ${q.unit}`)
        .join(" · ")}
      {filtered && `, filtered ${filtered}`}
    </div>
  );
}
