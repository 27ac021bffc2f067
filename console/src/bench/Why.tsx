import type { Reason, Transition } from "../api";
import { figure } from "../parts/number";

/** A change with its reasons, down to the readings. */
export function Why({ change }: { change?: Transition }) {
  return (
    <section className="card shrink-0" aria-live="polite" data-testid="why">
      <header>
        <h2 className="font-semibold">{change ? `Why, at ${change.time.replace(/\.000$/, "")}` : "Why"}</h2>
      </header>
      <div className="max-h-72 overflow-auto px-3 py-2">
        {change ? (
          <>
            <b>{change.name}</b> {change.from} → <b>{change.to}</b>
            <Reasons reasons={change.reasons} />
          </>
        ) : (
          <p className="text-ink-3">Click a change and its reasons stand here; or a lane at any moment, to ask why it is so then.</p>
        )}
      </div>
    </section>
  );
}

function Reasons({ reasons }: { reasons: Reason[] }) {
  return reasons.map((r, i) => (
    <div key={i} className="mt-1 ml-1 border-l-2 border-line-2 pl-2.5">
      {r.text}
      {r.since && <div className="text-ink-2">{r.since}</div>}
      {r.stages && r.stages.length > 1 && (
        <div className="text-xs text-ink-3">
          last reading{" "}
          {r.stages
            .toReversed()
            .map((q) => `${figure(q.value)} ${q.unit}`)
            .join(" · ")}
        </div>
      )}
      <Reasons reasons={r.reasons} />
    </div>
  ));
}
