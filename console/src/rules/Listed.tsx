import type { Checked, Rule, Summary } from "../api";
import { figure, lasting } from "../parts/number";
import { kinds } from "./opened";
import { count } from "./text";
import { State } from "./Try";

/** The rules of a job, and below them what else is declared. */
export function Listed({ rules, states, checked, wanted, onOpen }: { rules: Rule[]; states: Summary[]; checked?: Checked; wanted?: string; onOpen: (name: string) => void }) {
  return (
    <div className="card sticky top-3 max-h-[calc(100vh-6rem)] overflow-auto max-lg:static max-lg:max-h-64">
      <ul aria-label="Rules of this job">
        {rules.map((r) => (
          <Item key={r.name} rule={r} states={states} open={r.name === wanted} onOpen={() => onOpen(r.name)} />
        ))}
      </ul>
      <Others checked={checked} wanted={wanted} onOpen={onOpen} />
    </div>
  );
}

function Item({ rule, states, open, onOpen }: { rule: Rule; states: Summary[]; open: boolean; onOpen: () => void }) {
  const first = rule.points[0];
  return (
    <li className="border-b border-line last:border-b-0">
      <button type="button" onClick={onOpen} aria-current={open ? "true" : undefined} className="flex w-full items-center gap-2 px-2.5 py-1.5 text-left hover:bg-wash aria-[current]:bg-accent-weak" data-item={rule.name}>
        <span className="min-w-0 flex-1">
          <span className={`block truncate ${open ? "font-semibold" : ""}`}>{rule.title}</span>
          <span className="block truncate text-xs text-ink-3">
            {rule.kind !== "rule" && `${rule.kind}${first ? " · " : ""}`}
            {rule.points
              .filter((p) => p.input === first?.input)
              .slice(0, 2)
              .map((p) => `${figure(p.stages.at(-1)?.value ?? NaN)} ${p.direction === "falling" ? "↘" : p.direction ? "↗" : ""}`.trim())
              .join(" · ")}{" "}
            {first?.stages.at(-1)?.unit}
          </span>
        </span>
        <Final rule={rule} states={states} />
      </button>
    </li>
  );
}

/** How it stands at the end of the recording. */
export function Final({ rule, states }: { rule: Rule; states: Summary[] }) {
  const own = states.find((s) => s.name === rule.name) ?? (rule.kind === "follow" || rule.kind === "loop" ? states.find((s) => s.name === rule.calls[0]) : undefined);
  return own ? <State state={own.final} /> : null;
}

/** How often a rule started in the recording, and for how long it was on. */
export function starts(rule: Rule, states: Summary[]): string {
  const own = states.find((s) => s.name === rule.name);
  if (own?.starts === undefined) return "";
  return `${count(own.starts, "start")}, on for ${lasting(Math.round(own.on_seconds ?? 0))}, ${own.final} at the end`;
}

/** Points, setpoints and the rest, whose text can be opened here too. */
function Others({ checked, wanted, onOpen }: { checked?: Checked; wanted?: string; onOpen: (name: string) => void }) {
  const all = (checked?.declarations ?? []).filter((d) => d.name && !kinds.includes(d.keyword));
  return (
    <details className="border-t border-line">
      <summary className="cursor-pointer px-2.5 py-1.5 text-sm text-ink-2 hover:bg-wash">{all.length} points, setpoints and other declarations</summary>
      <ul aria-label="Other declarations">
        {all.map((d) => (
          <li key={`${d.file}:${d.from}`}>
            <button type="button" onClick={() => onOpen(d.name)} aria-current={d.name === wanted ? "true" : undefined} className="flex w-full gap-2 px-2.5 py-0.5 text-left text-sm hover:bg-wash aria-[current]:bg-accent-weak" data-other={d.name}>
              <span className="min-w-0 flex-1 truncate font-mono text-[12.5px]">{d.name}</span>
              <span className="text-xs text-ink-3">{d.keyword}</span>
            </button>
          </li>
        ))}
      </ul>
    </details>
  );
}
