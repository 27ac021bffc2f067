import { useState } from "react";
import type { Reason, Transition } from "../api";
import { Stages } from "./Stages";

/** Finds a transition by its number, if it is at hand, or asks for it. */
export interface Find {
  find: (number: number) => Transition | undefined;
  load: (number: number) => void;
}

/** A change with its reasons, down to the readings. */
export function Why({ change, find, load }: { change?: Transition } & Find) {
  return (
    <section className="card shrink-0" aria-live="polite" data-testid="why">
      <header>
        <h2 className="font-semibold">{change ? `Why, at ${change.time.replace(/\.000$/, "")}` : "Why"}</h2>
      </header>
      <div className="max-h-72 overflow-auto px-3 py-2">
        {change ? (
          <>
            <b>{change.name}</b> {change.from} → <b>{change.to}</b>
            <Reasons key={change.number} reasons={change.reasons} find={find} load={load} above={[change.number]} />
          </>
        ) : (
          <p className="text-ink-3">Click a change and its reasons stand here; or a lane at any moment, to ask why it is so then.</p>
        )}
      </div>
    </section>
  );
}

/** How many changes are followed at once; those before them come when they are asked for. */
const followed = 4;

function Reasons({ reasons, find, load, above }: { reasons: Reason[]; above: number[] } & Find) {
  return reasons.map((r, i) => (
    <div key={i} className="mt-1 ml-1 border-l-2 border-line-2 pl-2.5">
      {r.text}
      {r.since && <div className="text-ink-2">{r.since}</div>}
      <Stages stages={r.stages} />
      {r.transition !== undefined && !above.includes(r.transition) && <Under number={r.transition} find={find} load={load} above={above} />}
    </div>
  ));
}

function Under({ number, find, load, above }: { number: number; above: number[] } & Find) {
  const [open, setOpen] = useState(above.length < followed);
  const change = find(number);
  if (open && change) return <Reasons reasons={change.reasons} find={find} load={load} above={[...above, number]} />;
  return (
    <button
      type="button"
      className="block text-accent"
      onClick={() => {
        load(number);
        setOpen(true);
      }}
    >
      and why{change && `, at ${change.time.replace(/\.000$/, "")}`}
    </button>
  );
}
