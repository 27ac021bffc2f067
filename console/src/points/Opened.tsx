import { Tabs } from "radix-ui";
import type { Point, RevisionDetail } from "../api";
import { Calibrate } from "./Calibrate";
import { Chain } from "./Chain";
import { Recorded } from "./Recorded";

/** One point: its chain, calibration, recorded signal, text. */
export function Opened({ revision, point, onRevision }: { revision: RevisionDetail; point: Point; onRevision: (n: number) => void }) {
  const number = revision.revision.number;
  const analog = point.kind === "analog";
  const tabs = [
    ...(analog ? [{ value: "chain", text: "Chain", body: <Chain revision={number} point={point} /> }] : []),
    ...(point.kind !== "output" ? [{ value: "recorded", text: analog ? "Recorded signal and teach" : "Recorded signal", body: <Recorded revision={revision} point={point} onRevision={onRevision} /> }] : []),
    ...(analog ? [{ value: "calibrate", text: "Calibrate", body: <Calibrate revision={number} point={point} onRevision={onRevision} /> }] : []),
    { value: "text", text: "Text", body: <pre className="overflow-auto px-3 py-2 font-mono text-[12.5px] leading-relaxed">{point.text}</pre> },
  ];
  return (
    <Tabs.Root asChild defaultValue={tabs[0]?.value}>
      <section className="card" data-opened={point.name}>
        <header className="flex-wrap">
          <h2 className="font-semibold">{point.title}</h2>
          <span className="font-mono text-[12.5px] text-ink-3">{point.name}</span>
          <small className="text-ink-3">
            {[point.tag, point.terminal, `${point.file}:${point.line}`].filter(Boolean).join(" · ")}
            {point.used_by.length > 0 && ` · ${point.kind === "output" ? "called" : "used"} by ${point.used_by.join(", ")}`}
          </small>
          <span className="flex-1" />
          <Tabs.List aria-label="About this point" className="flex gap-1">
            {tabs.map((t) => (
              <Tabs.Trigger key={t.value} value={t.value} className="rounded-md px-2 py-1 text-ink-2 hover:text-ink data-[state=active]:bg-accent-weak data-[state=active]:font-semibold data-[state=active]:text-accent">
                {t.text}
              </Tabs.Trigger>
            ))}
          </Tabs.List>
        </header>
        {point.notes.map((n) => (
          <p key={n} className="border-b border-line px-3 py-1.5 text-xs text-ink-2">
            {n}
          </p>
        ))}
        {tabs.map((t) => (
          <Tabs.Content key={t.value} value={t.value} tabIndex={-1}>
            {t.body}
          </Tabs.Content>
        ))}
      </section>
    </Tabs.Root>
  );
}
