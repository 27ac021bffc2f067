import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Explanation as Told } from "../api";
import { useJob } from "../parts/useJob";
import { Stages } from "./Stages";
import type { Other } from "./Otherwise";

/** What is asked about: something with a state, and when. */
export interface Asked {
  name: string;
  t: number;
}

/** Why something stands as it does at a moment, or why it does not otherwise. */
export function Explanation({ asked, revision, recording, other }: { asked: Asked; revision: number; recording: number; other: Other }) {
  const job = useJob();
  const told = useQuery({
    queryKey: ["explanation", revision, recording, other, asked],
    queryFn: ({ signal }) => job.explain({ revision, recording, set: other.set, scan: other.scan || undefined, name: asked.name, t: asked.t }, signal),
    staleTime: Infinity,
    placeholderData: (before) => before,
  });
  return (
    <section className="card shrink-0" aria-live="polite" data-testid="why">
      <header>
        <h2 className="font-semibold">{told.data ? `Why, at ${told.data.time.replace(/\.000$/, "")}` : "Why"}</h2>
      </header>
      <div className="max-h-96 overflow-auto px-3 py-2">
        {told.error ? <p className="text-critical">✕ {told.error.message}</p> : told.data ? <Standing told={told.data} /> : <p className="text-ink-3">Asking…</p>}
      </div>
    </section>
  );
}

function Standing({ told }: { told: Told }) {
  return (
    <>
      <b>{told.name}</b> is <b>{told.state}</b>, since {told.since.replace(/\.000$/, "")}
      <div>{told.because}</div>
      <Grounds told={told} numbers={told.reasons} above={[]} />
      {told.misses.length > 0 && (
        <>
          <h3 className="mt-3 font-semibold">Delays that did not run out</h3>
          {told.misses.map((m) => (
            <div key={m.rule + m.from} className="mt-1 ml-1 border-l-2 border-line-2 pl-2.5">
              {m.from.replace(/\.000$/, "")}: {m.lasted} of {m.delay}
              <div className="text-ink-2">until {m.until}</div>
            </div>
          ))}
        </>
      )}
      <p className="mt-3 text-ink-2">{told.next ? `Next: ${told.next.to} at ${told.next.time.replace(/\.000$/, "")}, ${told.next.because}` : "It does not change again in this recording."}</p>
    </>
  );
}

/** Grounds by their numbers, and what they stand on below them; of a circle, no more than once round. */
function Grounds({ told, numbers, above }: { told: Told; numbers: number[]; above: number[] }) {
  return numbers.map((n) => {
    const g = told.grounds[n];
    if (!g) return null;
    if (above.includes(n) || above.length > deepest)
      return (
        <div key={n} className="mt-1 ml-1 border-l-2 border-line-2 pl-2.5 text-ink-2">
          {g.text}, as above
        </div>
      );
    return (
      <div key={n} className="mt-1 ml-1 border-l-2 border-line-2 pl-2.5">
        {g.text}
        {g.by && <span className="text-ink-2">, by {g.by}</span>}
        {g.delay && <div className="text-ink-2">{g.delay}</div>}
        <Stages stages={g.stages} filtered={g.filtered} />
        {g.under.length > 0 && <Under key={n} told={told} numbers={g.under} above={[...above, n]} />}
      </div>
    );
  });
}

/** How many grounds are shown below each other at once; deeper ones come when they are asked for. */
const shownAtOnce = 6;
const deepest = 60;

function Under(props: { told: Told; numbers: number[]; above: number[] }) {
  const [open, setOpen] = useState(props.above.length % shownAtOnce !== 0);
  if (open) return <Grounds {...props} />;
  return (
    <button type="button" className="mt-1 text-accent" onClick={() => setOpen(true)}>
      and why that is so
    </button>
  );
}
