import type { Checked, Play, Recording, Rule, Summary } from "../api";
import { starts } from "./Listed";
import { Picture } from "./Picture";
import { Try } from "./Try";
import type { Writing } from "./useWriting";

/** A rule over the recording, and with values that somebody gives it. */
export function Tried({ rule, good, states, recording, writing, sound, current }: { rule: Rule; good: Checked; states: Summary[]; recording?: Recording; writing: Writing; sound: boolean; current: boolean }) {
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_264px] items-start gap-3 max-xl:grid-cols-1">
      <section className="card">
        <header>
          <h3 className="font-semibold">{recording?.name ?? "No recording"}</h3>
          <small className="text-ink-3">{starts(rule, states)}</small>
          {!current && <small className="ml-auto text-ink-3">playing…</small>}
        </header>
        {good.play ? <Picture play={good.play} rule={rule} /> : <p className="px-3 py-3 text-ink-3">Bring a recording in on the Bench, and it is drawn here.</p>}
      </section>
      <section className="card">
        <header>
          <h3 className="font-semibold">Try</h3>
          <small className="text-ink-3">away from the plant</small>
        </header>
        {sound && good.play ? (
          <Try key={rule.name} rule={rule} inputs={inputsOf(good, rule)} ends={contactsAtTheEnd(good.play)} sheets={writing.sheets} version={writing.version} />
        ) : (
          <p className="px-3 py-3 text-sm text-ink-3">Once the errors are mended.</p>
        )}
      </section>
    </div>
  );
}

/** The inputs that a rule looks at: those that are drawn for it. */
function inputsOf(checked: Checked, rule: Rule) {
  const drawn = new Set([...(checked.play?.panels ?? []).map((p) => p.panel.input), ...(checked.play?.lanes ?? []).filter((l) => l.kind === "input").map((l) => l.name), ...rule.points.map((p) => p.input)]);
  return checked.names.filter((n) => (n.kind === "input" || n.kind === "contact") && drawn.has(n.name));
}

/** How contacts stand at the end of the recording. */
function contactsAtTheEnd(play: Play): Record<string, boolean> {
  return Object.fromEntries(play.lanes.filter((l) => l.kind === "input").map((l) => [l.name, l.spans.at(-1)?.state === "on"]));
}
