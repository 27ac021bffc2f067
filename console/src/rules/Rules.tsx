import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Undo2 } from "lucide-react";
import { lazy, Suspense, useEffect, useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { check, getDraft, getRevision, listRecordings, listRevisions, type Change, type Checked, type Draft, type Finding, type Play, type Recording, type Revision, type RevisionDetail, type Rule, type RulePoint, type Summary } from "../api";
import { Code, Empty, Trouble } from "../parts/Notice";
import { figure, lasting } from "../parts/number";
import { Pick } from "../parts/Pick";
import { Differences } from "./Differences";
import { NewRule } from "./NewRule";
import { Picture } from "./Picture";
import { Rename } from "./Rename";
import { Save } from "./Save";
import { placeOf, Sentence, type Pending } from "./Sentence";
import { declaredAt, putPart, putText, textAt, type Span } from "./text";
import { State, Try } from "./Try";
import { owner, useWriting } from "./useWriting";

const Editor = lazy(() => import("./Editor"));

/** Rules: each as its sentence; one opens beside its text, and is tried as it is written. */
export function Rules() {
  const [params] = useSearchParams();
  const revisions = useQuery({ queryKey: ["revisions"], queryFn: listRevisions });
  const recordings = useQuery({ queryKey: ["recordings"], queryFn: listRecordings });
  const [begin, setBegin] = useState({ revision: Number(params.get("revision") ?? NaN), time: 0 });
  // Asked for once: from then on this page itself knows what has been written.
  const start = useQuery({
    queryKey: ["start", begin.time],
    queryFn: async () => {
      const [draft, all] = await Promise.all([getDraft(owner()), listRevisions()]);
      const base = Number.isFinite(begin.revision) ? begin.revision : (draft?.base ?? all[0]?.number);
      if (base === undefined) return { none: true as const };
      return { none: false as const, detail: await getRevision(base), draft: draft?.base === base ? draft : null };
    },
    staleTime: Infinity,
    gcTime: 0,
  });
  const error = revisions.error ?? recordings.error ?? start.error;
  if (start.data?.none)
    return (
      <Empty title="No job is here yet">
        Push one from its folder with <Code>rectura push FOLDER</Code>.
      </Empty>
    );
  if (error) return <Trouble error={error} />;
  if (!start.data || !revisions.data || !recordings.data) return <p className="text-ink-3">Reading…</p>;
  return <Written key={begin.time} onBegin={(revision) => setBegin({ revision, time: begin.time + 1 })} detail={start.data.detail} revisions={revisions.data} recordings={recordings.data} draft={start.data.draft} />;
}

/** What is opened: by its name, and by its place once that is known. */
interface Opened {
  name?: string;
  span?: Span;
  /** How often something was opened: another time, another editor. */
  time: number;
}

/** Which of several recordings is drawn unless another is chosen: the shortest of some length. */
function usual(recordings: Recording[]): number | undefined {
  return recordings.filter((r) => r.seconds >= 60).sort((a, b) => a.seconds - b.seconds)[0]?.id ?? recordings[0]?.id;
}

function Written({ detail, revisions, recordings, draft, onBegin }: { onBegin: (revision: number) => void; detail: RevisionDetail; revisions: Revision[]; recordings: Recording[]; draft: Draft | null }) {
  const [params, setParams] = useSearchParams();
  const writing = useWriting(detail.revision.number, detail.sheets, draft?.sheets ?? detail.sheets);
  const [restored, setRestored] = useState(draft !== null);
  const [saving, setSaving] = useState(false);
  const [making, setMaking] = useState(false);
  const [saved, setSaved] = useState<{ number: number; from: number; changes: Change[] }>();
  const [pending, setPending] = useState<Pending & { version: number }>();
  const recording = Number(params.get("recording") ?? usual(recordings) ?? NaN);
  const [opened, setOpened] = useState<Opened>({ name: params.get("rule") ?? undefined, time: 0 });
  const { name: wanted, span } = opened;
  const setSpan = (span?: Span) => setOpened((o) => ({ ...o, span }));
  const change = (name: string, value: string) =>
    setParams(
      (p) => {
        p.set(name, value);
        return p;
      },
      { replace: true },
    );

  const asked = useQuery({
    queryKey: ["checks", writing.base, writing.version, recording, wanted],
    queryFn: async ({ signal }) => ({
      version: writing.version,
      checked: await check({ sheets: writing.sheets, base: writing.base, play: Number.isFinite(recording) ? { recording, rule: wanted, pixels: 560 } : undefined }, signal),
    }),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 10_000,
  });
  const checked = asked.data?.checked;
  const current = asked.data?.version === writing.version && !asked.isPlaceholderData;
  const errors = checked?.findings.filter((f) => f.severity === "error") ?? [];
  // While the text has errors the rules are those of its last form without.
  const [last, setLast] = useState<{ checked: Checked; version: number }>();
  const good = last?.checked;
  if (checked && asked.data && checked.rules.length > 0 && checked !== good) setLast({ checked, version: asked.data.version });
  const rules = useMemo(() => good?.rules ?? [], [good]);
  const ahead = pending && (last?.version ?? -1) < pending.version ? pending : undefined;
  const placed = asked.data?.version === writing.version;
  const own = placed && checked ? (span && declaredAt(checked.declarations, span.file, span.from)) || checked.declarations.find((d) => d.name === wanted) : undefined;
  if (own) {
    // What is opened is found by its place while its text is written, and may get another name there.
    const name = errors.length === 0 && own.name ? own.name : wanted;
    if (!span || name !== wanted || span.file !== own.file || span.from !== own.from || span.to !== own.to) setOpened({ ...opened, name, span: { file: own.file, from: own.from, to: own.to } });
  }
  const first = rules[0]?.name;
  const gone = wanted !== undefined && current && !own && !span && errors.length === 0; // undone, or never there
  if ((!wanted || gone) && first && first !== wanted) setOpened({ name: first, time: opened.time + 1 });
  useEffect(() => {
    if (wanted)
      setParams(
        (p) => {
          p.set("rule", wanted);
          return p;
        },
        { replace: true },
      );
  }, [wanted, setParams]);
  const open = (name: string, span?: Span) => setOpened((o) => ({ name, span, time: o.time + 1 }));
  const rule = rules.find((r) => r.name === wanted);
  // What has been written since there are errors is listed by its name.
  const listed = [...rules, ...(errors.length > 0 ? unread(checked, rules) : [])];
  const states = good?.play?.states ?? [];
  const undo = () => {
    setSpan(undefined);
    setPending(undefined);
    writing.undo();
  };
  const renaming = (name: string) =>
    errors.length === 0 && (
      <Rename
        key={name}
        name={name}
        sheets={writing.sheets}
        onRenamed={(sheets, to) => {
          writing.edit(sheets);
          open(to);
        }}
      />
    );
  const text = span && (
    <section className="card min-w-0" data-text={wanted}>
      <header>
        <h3 className="font-semibold">{rule ? "Text" : wanted}</h3>
        <small className="text-ink-3">{span.file}; laid out when it is saved</small>
        {!rule && wanted && own?.name === wanted && renaming(wanted)}
      </header>
      <Suspense fallback={<p className="px-3 py-2 text-ink-3">Reading…</p>}>
        <Editor
          key={opened.time}
          text={textAt(writing.sheets, span)}
          first={span.from}
          findings={placed ? (checked?.findings ?? []).filter((f) => f.file === span.file) : []}
          names={(good ?? checked)?.names ?? []}
          units={(good ?? checked)?.units ?? []}
          onSave={() => writing.changed && errors.length === 0 && setSaving(true)}
          onChange={(text) => {
            const put = putText(writing.sheets, span, text);
            setSpan(put.span);
            setPending(undefined);
            writing.edit(put.sheets, `text ${span.file}:${span.from}`);
          }}
        />
      </Suspense>
    </section>
  );
  const newest = revisions[0]?.number ?? writing.base;
  return (
    <div
      className="flex flex-col gap-3"
      onKeyDown={(e) => {
        if (!(e.ctrlKey || e.metaKey)) return;
        if (e.key === "z" && !(e.target as Element).closest(".cm-editor") && writing.undos > 0) {
          e.preventDefault();
          undo();
        } else if (e.key === "s") {
          e.preventDefault();
          if (writing.changed && errors.length === 0) setSaving(true);
        }
      }}
    >
      <div className="flex flex-wrap items-center gap-2.5">
        <h1 className="mr-1 text-xl font-semibold tracking-tight">Rules</h1>
        <Pick label="Recording" value={String(recording)} onChange={(v) => change("recording", v)} choices={recordings.map((r) => ({ value: String(r.id), label: r.name, note: lasting(r.seconds) }))} />
        {writing.changed ? (
          <span className="chip">written on revision {writing.base}</span>
        ) : (
          <Pick
            label="Revision"
            value={String(writing.base)}
            onChange={(v) => {
              change("revision", v);
              onBegin(Number(v));
            }}
            choices={revisions.map((r) => ({ value: String(r.number), label: `Revision ${r.number}`, note: r.note }))}
          />
        )}
        <small className="text-ink-3" data-testid="status">
          {newest > writing.base && `${newest} is newer · `}
          {count(checked?.findings.length ?? 0, "finding")}
        </small>
        <span className="flex-1" />
        <button type="button" className="btn" disabled={errors.length > 0 || !checked} onClick={() => setMaking(true)}>
          New rule…
        </button>
        <button type="button" className="btn" disabled={writing.undos === 0} onClick={undo}>
          <Undo2 size={14} aria-hidden="true" /> Undo
        </button>
        <button
          type="button"
          className="btn"
          disabled={!writing.changed}
          onClick={() => {
            setSpan(undefined);
            setPending(undefined);
            writing.discard();
          }}
        >
          Discard
        </button>
        <button type="button" className="btn main" disabled={!writing.changed || errors.length > 0 || !current} onClick={() => setSaving(true)}>
          Save as revision {newest + 1}…
        </button>
      </div>
      {asked.error && <Trouble error={asked.error} />}
      {writing.trouble && <Trouble error={new Error(`The draft could not be kept: ${writing.trouble.message} What is on this page is still here.`)} />}
      {restored && writing.changed && (
        <p className="card flex items-center gap-2 px-3 py-1.5 text-ink-2" role="status">
          <span className="flex-1">
            <b>What you had written is back</b>, as of {draft && new Date(draft.saved).toLocaleString("en-GB")}, on revision {writing.base}.
          </span>
          <button type="button" className="btn py-0.5 text-xs" onClick={() => setRestored(false)}>
            Good
          </button>
        </p>
      )}
      {saved && !writing.changed && (
        <div className="card px-3 py-1.5 text-ink-2" role="status">
          <b>Saved as revision {saved.number}.</b>
          <details>
            <summary className="cursor-pointer text-accent">What is different from revision {saved.from}</summary>
            <div className="py-2">
              <Differences changes={saved.changes} before={`revision ${saved.from}`} after={`revision ${saved.number}`} />
            </div>
          </details>
        </div>
      )}
      {errors.length > 0 && writing.changed && (
        <p className="card border-critical px-3 py-1.5" role="status">
          <b className="text-critical">✕ {count(errors.length, "error")}:</b> kept as a draft, which nothing runs; mend it to save it as a revision.
        </p>
      )}
      <Findings
        findings={checked?.findings ?? []}
        onOpen={(f) => {
          const d = checked && declaredAt(checked.declarations, f.file, f.line);
          if (!d) return;
          open(d.name, { file: d.file, from: d.from, to: d.to });
        }}
      />
      <div className="grid grid-cols-[280px_minmax(0,1fr)] items-start gap-3 max-lg:grid-cols-1">
        <div className="card sticky top-3 max-h-[calc(100vh-6rem)] overflow-auto max-lg:static max-lg:max-h-64">
          <ul aria-label="Rules of this job">
            {listed.map((r) => (
              <Item key={r.name} rule={r} states={states} open={r.name === wanted} onOpen={() => open(r.name)} />
            ))}
          </ul>
          <Others checked={checked} wanted={wanted} onOpen={open} />
        </div>
        {rule && good ? (
          <div className="flex min-w-0 flex-col gap-3" data-rule={rule.name}>
            <section className="card">
              <header className="flex-wrap">
                <h2 className="font-semibold">{rule.title}</h2>
                <small className="text-ink-3">
                  {rule.kind === "rule" ? "" : `${rule.kind} · `}
                  {rule.name} · {rule.file}:{rule.line}
                </small>
                {renaming(rule.name)}
                <span className="flex-1" />
                <Final rule={rule} states={states} />
              </header>
              <Sentence
                phrases={rule.phrases ?? [{ text: rule.sentence }]}
                names={good.names}
                locked={errors.length > 0}
                pending={ahead}
                onChange={(part, text) => {
                  const at = placeOf(part);
                  const sheets = putPart(writing.sheets, ahead?.at === at ? { ...part, text: ahead.text } : part, text);
                  if (!sheets) return;
                  setPending({ at, text, version: writing.version + 1 });
                  writing.edit(sheets, `${part.kind} ${at}`);
                }}
              />
              {errors.length > 0 && <p className="px-3 pb-2 text-xs text-ink-3">As it was before the error; the words can be changed again once that is mended.</p>}
              {rule.points.length + rule.delays.length > 0 && <Points points={rule.points} delays={rule.delays} />}
            </section>
            <div className="grid grid-cols-[minmax(0,1fr)_264px] items-start gap-3 max-xl:grid-cols-1">
              <section className="card">
                <header>
                  <h3 className="font-semibold">{recordings.find((r) => r.id === recording)?.name ?? "No recording"}</h3>
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
                {errors.length === 0 && good.play ? (
                  <Try key={rule.name} rule={rule} inputs={inputsOf(good, rule)} ends={contactsAtTheEnd(good.play)} sheets={writing.sheets} version={writing.version} />
                ) : (
                  <p className="px-3 py-3 text-sm text-ink-3">Once the errors are mended.</p>
                )}
              </section>
            </div>
            {text}
          </div>
        ) : (
          text
        )}
      </div>
      {checked && (
        <>
          <Save
            key={writing.base}
            writing={writing}
            changes={checked.changes}
            open={saving}
            onOpen={setSaving}
            onSaved={(number, from, changes) => {
              change("revision", String(number));
              setSaved({ number, from, changes });
              setRestored(false);
            }}
          />
          <NewRule
            names={checked.names}
            sheets={writing.sheets}
            open={making}
            onOpen={setMaking}
            onMade={(sheets, made) => {
              writing.edit(sheets);
              const last = made.at(-1);
              if (last) open(last);
            }}
          />
        </>
      )}
    </div>
  );
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

const kinds: string[] = ["rule", "bands", "follow", "loop", "alarm", "message"] satisfies Rule["kind"][];

/** What decides, and is not among the rules that could be read. */
function unread(checked: Checked | undefined, rules: Rule[]): Rule[] {
  return (checked?.declarations ?? [])
    .filter((d) => kinds.includes(d.keyword) && !rules.some((r) => r.name === d.name))
    .map((d) => ({ kind: d.keyword as Rule["kind"], name: d.name, title: d.name, file: d.file, line: d.from, text: "", sentence: "", calls: [], delays: [], points: [] }));
}

function count(n: number, what: string): string {
  return `${n || "no"} ${what}${n === 1 ? "" : "s"}`;
}

/** What is found; one that is pressed opens the text in which it is. */
function Findings({ findings, onOpen }: { findings: Finding[]; onOpen: (f: Finding) => void }) {
  const most = 12;
  return (
    <ul className="flex flex-col gap-1 empty:hidden" aria-label="Findings" data-testid="findings">
      {findings.slice(0, most).map((f) => (
        <li key={`${f.file}:${f.line}:${f.column}${f.code}`} className="card">
          <button type="button" onClick={() => onOpen(f)} className="w-full px-3 py-1.5 text-left text-sm text-ink-2 hover:bg-wash">
            <b className={f.severity === "error" ? "text-critical" : ""}>
              {f.severity === "error" ? "✕" : "!"} {f.severity}, {f.file}:{f.line}:{f.column}
            </b>{" "}
            {f.text} <span className="text-ink-3">[{f.code}]</span>
          </button>
        </li>
      ))}
      {findings.length > most && <li className="px-3 text-sm text-ink-3">and {findings.length - most} more</li>}
    </ul>
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
function Final({ rule, states }: { rule: Rule; states: Summary[] }) {
  const own = states.find((s) => s.name === rule.name) ?? (rule.kind === "follow" || rule.kind === "loop" ? states.find((s) => s.name === rule.calls[0]) : undefined);
  return own ? <State state={own.final} /> : null;
}

function starts(rule: Rule, states: Summary[]): string {
  const own = states.find((s) => s.name === rule.name);
  if (own?.starts === undefined) return "";
  return `${count(own.starts, "start")}, on for ${lasting(Math.round(own.on_seconds ?? 0))}, ${own.final} at the end`;
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

function Points({ points, delays }: { points: RulePoint[]; delays: string[] }) {
  return (
    <ul className="grid grid-cols-[repeat(auto-fill,minmax(190px,1fr))] border-t border-line" aria-label="Trip and reset points, and delays">
      {points.map((p) => {
        const last = p.stages.at(-1);
        return (
          <li key={p.effect + p.input + p.op + String(last?.value)} className="border-r border-line px-3 py-1.5 last:border-r-0" data-point={p.effect}>
            <span className="text-xs text-ink-3">
              {p.effect === "keeps" ? "keeps" : `${p.effect} at`} {p.direction && (p.direction === "falling" ? "↘" : "↗")} {p.input}
            </span>
            <span className="block">
              <b>{figure(last?.value ?? NaN)}</b>
              <span className="unit">
                {last?.unit} {p.direction}
              </span>
            </span>
            <span className="block text-xs text-ink-3">
              {p.stages
                .slice(0, -1)
                .toReversed()
                .map((q) => `${figure(q.value)} ${q.unit}`)
                .join(" · ")}
            </span>
          </li>
        );
      })}
      {delays.length > 0 && (
        <li className="px-3 py-1.5 text-sm text-ink-2">
          {delays.map((d) => (
            <span key={d} className="block">
              {d}
            </span>
          ))}
        </li>
      )}
    </ul>
  );
}
