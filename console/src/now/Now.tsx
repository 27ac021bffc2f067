import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { listStatus, type AlarmNow, type JobStatus, type Now as All, type PointNow } from "../api";
import { Code, Empty, Trouble } from "../parts/Notice";
import { figure } from "../parts/number";
import { useJob } from "../parts/useJob";

/** How often the page asks, in milliseconds. */
const every = 1000;

/** A job that is run, as it is now: what is abnormal first. */
export function Now() {
  const job = useJob();
  const status = useQuery({ queryKey: ["status"], queryFn: listStatus, refetchInterval: every });
  const own = status.data?.find((s) => s.job === job.job);
  const running = own !== undefined && own.mode !== "idle";
  const now = useQuery({ queryKey: ["now"], queryFn: job.getNow, refetchInterval: every, enabled: running });
  if (status.error) return <Trouble error={status.error} />;
  if (!own) return null;
  if (!running) {
    return (
      <Empty title="This job is idle">
        {own.fault && <b className="block text-critical">✕ It is not run: {own.fault}.</b>}
        Its devices are not read, and its rules do not run. Let it listen first: <Code>rectura listen</Code>. Once its wiring is proven, <Code>rectura arm</Code> lets it drive its outputs.
      </Empty>
    );
  }
  if (now.error) return <Trouble error={now.error} />;
  if (!now.data) return null;
  const all = now.data;
  return (
    <div className="flex flex-col gap-3">
      <Mode status={all.status} />
      <Alarms all={all.alarms} />
      <Bypasses all={all} />
      <div className="grid grid-cols-2 items-start gap-3 max-lg:grid-cols-1">
        <Outputs all={all.points.filter((p) => p.kind === "output")} />
        <div className="flex min-w-0 flex-col gap-3">
          <Inputs all={all.points.filter((p) => p.kind !== "output")} />
          <Rules all={all} />
        </div>
      </div>
    </div>
  );
}

const clock = (t: string) => t.slice(11, 19);

/** The mode, as loud as a fault where nothing is driven. */
function Mode({ status }: { status: JobStatus }) {
  const driving = status.mode === "armed" && !status.fault;
  const how = status.fault ? "in fault" : status.waiting ? "waits for its devices" : status.settling ? "settles, nothing is written yet" : "";
  return (
    <section aria-label="Mode" className={`card flex flex-wrap items-baseline gap-x-4 gap-y-1 px-4 py-3 ${driving ? "" : "border-critical"}`}>
      <h1 className={`text-lg font-semibold ${driving ? "" : "text-critical"}`}>
        {driving ? "● Armed" : status.fault ? "✕ Armed, in fault" : "○ Listening: no output is written"}
      </h1>
      <span className="text-ink-2">
        revision {status.revision}
        {status.since && `, since ${clock(status.since)}`}
        {how && `, ${how}`}
      </span>
      {status.devices.map((d) => (
        <span key={d.name} className={d.state === "connected" ? "text-ink-2" : "font-semibold text-critical"}>
          {d.state === "connected" ? "✓" : "✕"} {d.name} {d.state}
        </span>
      ))}
      {status.fault && <p className="w-full text-critical">The outputs are at what they fail to: {status.fault}.</p>}
      {status.damage && (
        <p className="w-full text-critical">
          Its records are damaged: {status.damage}. Look at its setpoints and locks, and acknowledge <Code>service.damaged</Code>.
        </p>
      )}
      {status.not_kept_since && (
        <p className="w-full text-critical">
          Nothing that happens is kept since {clock(status.not_kept_since)}: {status.not_kept_because}.
        </p>
      )}
      {status.clock_synchronised === false && <p className="w-full text-ink-2">Nothing keeps the machine's clock right: times may be off.</p>}
    </section>
  );
}

function Section({ title, note, children }: { title: string; note?: string; children: ReactNode }) {
  return (
    <section aria-label={title} className="card">
      <header>
        <h2 className="font-semibold">{title}</h2>
        {note && <span className="text-xs text-ink-3">{note}</span>}
      </header>
      <div className="overflow-x-auto">{children}</div>
    </section>
  );
}

const shape: Record<string, string> = { critical: "▲▲", high: "▲", medium: "◆", low: "▽" };

function Alarms({ all }: { all: AlarmNow[] }) {
  if (!all.length) return <p className="px-1 text-ink-2">✓ No alarm.</p>;
  return (
    <Section title="Alarms">
      <ul>
        {all.map((a) => (
          <li key={a.name} className="flex flex-wrap items-baseline gap-x-3 border-b border-line px-3 py-1.5 last:border-0">
            <b className={a.priority === "critical" || a.priority === "high" ? "text-critical" : ""}>
              {shape[a.priority]} {a.priority}
            </b>
            <b>{a.title}</b>
            <span className="chip">{a.shelved_until ? `shelved until ${clock(a.shelved_until)}` : a.out_of_service ? "out of service" : a.state}</span>
            {a.since && <span className="text-ink-3">since {clock(a.since)}</span>}
            <span className="text-ink-2">{a.because}</span>
            {a.advice && <span className="w-full text-ink-2">{a.advice}</span>}
          </li>
        ))}
      </ul>
    </Section>
  );
}

/** What people have put in place of what the job would decide. */
function Bypasses({ all }: { all: All }) {
  const own = all.bypasses.filter((b) => b.kind !== "inhibit");
  if (!own.length) return null;
  return (
    <Section title="Bypassed" note="until somebody gives it back">
      <ul>
        {own.map((b) => (
          <li key={b.name} className="flex flex-wrap gap-x-3 border-b border-line px-3 py-1.5 last:border-0">
            <b>{b.name}</b>
            <span>{b.value}</span>
            <span className="text-ink-2">
              {b.who && `${b.who}, `}
              {b.since && `since ${clock(b.since)}`}
              {b.until && `, until ${clock(b.until)}`}
            </span>
            <span className="text-ink-2">{b.why}</span>
          </li>
        ))}
      </ul>
    </Section>
  );
}

function value(p: PointNow) {
  if (p.value !== undefined)
    return (
      <>
        {figure(p.value)}
        <span className="unit">{p.unit}</span>
      </>
    );
  return p.state ?? "—";
}

/** A table of what has a name, a state, and something to be said of it. */
function Table({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Section title={title}>
      <table className="w-full">
        <tbody>{children}</tbody>
      </table>
    </Section>
  );
}

function Row({ title, children }: { title: string; children: ReactNode }) {
  return (
    <tr className="border-b border-line align-baseline last:border-0">
      <th scope="row" className="px-3 py-1.5 text-left font-normal">
        {title}
      </th>
      {children}
    </tr>
  );
}

const hours = (seconds: number) => `${(seconds / 3600).toFixed(1)} h`;

/** For how long it has been on in all, how often it went on, and when somebody is to see to it. */
function ran(p: PointNow) {
  if (!p.on_seconds && !p.starts && p.due_seconds === undefined) return "";
  const due = p.due_seconds === undefined ? "" : p.due_seconds === 0 ? ", service is due" : `, service in ${hours(p.due_seconds)}`;
  return `${hours(p.on_seconds ?? 0)}, ${p.starts} ${p.starts === 1 ? "start" : "starts"}${due}`;
}

function Outputs({ all }: { all: PointNow[] }) {
  return (
    <Table title="Outputs">
      {all.map((p) => (
        <Row key={p.name} title={p.title}>
          <td className="px-2 text-right font-semibold whitespace-nowrap">{value(p)}</td>
          <td className="px-3 py-1.5 text-ink-2">
            {p.mode !== "auto" && <b className="text-ink">{p.mode === "off" ? "kept off. " : "in hand. "}</b>}
            {p.because}
            {p.would && p.would !== (p.found ?? "") && <b className="text-ink">, would be {p.would}</b>}
            {p.not_written && p.not_written !== "the job listens" && <span className="text-critical"> ✕ not written: {p.not_written}</span>}
          </td>
          <td className="px-3 text-right whitespace-nowrap text-ink-3 max-sm:hidden">{ran(p)}</td>
        </Row>
      ))}
    </Table>
  );
}

function Inputs({ all }: { all: PointNow[] }) {
  return (
    <Table title="Inputs">
      {all.map((p) => (
        <Row key={p.name} title={p.title}>
          <td className="px-2 text-right font-semibold whitespace-nowrap">{value(p)}</td>
          <td className="px-3 py-1.5 text-ink-2">
            {p.quality !== "good" && (
              <span className="text-bad">
                ✕ {p.quality}
                {p.reason && `: ${p.reason}`}
              </span>
            )}
            {p.pinned && <b className="text-ink">pinned</b>}
          </td>
          <td className="px-3 py-1.5 text-right whitespace-nowrap text-ink-3">{p.age_seconds !== undefined && `${p.age_seconds.toFixed(1)} s ago`}</td>
        </Row>
      ))}
    </Table>
  );
}

function Rules({ all }: { all: All }) {
  return (
    <Table title="Rules">
      {all.rules.map((r) => (
        <Row key={r.name} title={r.title}>
          <td className={`px-2 whitespace-nowrap ${r.state === "undecided" ? "hatched" : r.state === "off" ? "text-ink-3" : "font-semibold"}`}>{r.state}</td>
          <td className="px-3 py-1.5 text-ink-2">{r.because}</td>
        </Row>
      ))}
    </Table>
  );
}
