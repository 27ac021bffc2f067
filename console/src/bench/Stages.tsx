import type { Quantity } from "../api";
import { figure } from "../parts/number";

/** A reading at every stage of its chain, the value first. */
export function Stages({ stages }: { stages?: Quantity[] }) {
  if (!stages || stages.length < 2) return null;
  return (
    <div className="text-xs text-ink-3">
      last reading{" "}
      {stages
        .toReversed()
        .map((q) => `${figure(q.value)} ${q.unit}`)
        .join(" · ")}
    </div>
  );
}
