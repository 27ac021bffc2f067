import { useEffect, useRef, type KeyboardEvent } from "react";
import type { Replay, Transition } from "../api";

/** The list of changes with reasons; up and down go through it. */
export function Changes({ replay, chosen, onChoose }: { replay: Replay; chosen?: number; onChoose: (index: number) => void }) {
  const list = useRef<HTMLDivElement>(null);
  const changes = replay.transitions;
  useEffect(() => {
    if (chosen !== undefined) list.current?.querySelector(`[data-change="${chosen}"]`)?.scrollIntoView({ block: "nearest" });
  }, [chosen]);
  const keys = (e: KeyboardEvent) => {
    const now = chosen ?? -1;
    const to = { ArrowDown: now + 1, ArrowUp: now - 1, Home: 0, End: changes.length - 1 }[e.key];
    if (to === undefined || !changes.length) return;
    e.preventDefault();
    onChoose(Math.min(Math.max(to, 0), changes.length - 1));
  };
  const left = replay.transitions_total - changes.length;
  return (
    <section className="card flex min-h-40 flex-1 flex-col">
      <header>
        <h2 className="font-semibold">Changes</h2>
        <small className="text-ink-3">
          {replay.transitions_total ? `${replay.transitions_total}, click one to go there` : "none"}
          {left > 0 && `; the first ${changes.length} are listed`}
        </small>
      </header>
      <div ref={list} className="min-h-0 flex-1 overflow-auto" role="listbox" aria-label="Changes" tabIndex={0} onKeyDown={keys} aria-activedescendant={chosen === undefined ? undefined : `change-${chosen}`}>
        {changes.map((c, i) => (
          <Change key={i} index={i} change={c} chosen={i === chosen} onChoose={() => onChoose(i)} />
        ))}
        {!changes.length && <p className="px-3 py-2 text-ink-3">Nothing changed in this recording: no rule tripped, and no signal turned bad.</p>}
      </div>
    </section>
  );
}

function Change({ index, change, chosen, onChoose }: { index: number; change: Transition; chosen: boolean; onChoose: () => void }) {
  return (
    <div id={`change-${index}`} data-change={index} role="option" aria-selected={chosen} onClick={onChoose} className={`cursor-pointer border-b border-line px-3 py-1.5 last:border-b-0 ${chosen ? "bg-accent-weak" : "hover:bg-wash"}`}>
      <div className="flex flex-wrap items-baseline gap-x-2">
        <span className="text-ink-2">{change.time.replace(/\.000$/, "")}</span>
        <span className="max-w-full truncate" title={change.name}>
          {change.name}
        </span>
        <span className="ml-auto whitespace-nowrap">
          {change.from} → <b>{change.to}</b>
        </span>
      </div>
      <div className="line-clamp-2 text-xs text-ink-2" title={change.because}>
        <span className="text-ink-3">{change.kind} · </span>
        {change.because}
      </div>
    </div>
  );
}
