import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Undo2 } from "lucide-react";
import { lazy, Suspense, useEffect, useMemo, useReducer, useState } from "react";
import { useSearchParams } from "react-router";
import { getLanguage, type Change, type Draft, type Language, type Recording, type Revision, type RevisionDetail } from "../api";
import { Code, Empty, Trouble } from "../parts/Notice";
import { lasting } from "../parts/number";
import { Pick } from "../parts/Pick";
import { useJob } from "../parts/useJob";
import { Differences } from "./Differences";
import { Findings } from "./Findings";
import { Final, Listed } from "./Listed";
import { NewRule } from "./NewRule";
import { aheadOf, follow, opened, ownOf, unread } from "./opened";
import { Rename } from "./Rename";
import { RulePoints } from "./RulePoints";
import { Save } from "./Save";
import { placeOf, Sentence } from "./Sentence";
import { count, declaredAt, putPart, putText, textAt, type Span } from "./text";
import { Tried } from "./Tried";
import { owner, useWriting } from "./useWriting";

const Editor = lazy(() => import("./Editor"));

/** Rules: each as its sentence; one opens beside its text, and is tried as it is written. */
export function Rules() {
  const job = useJob();
  const [params] = useSearchParams();
  const revisions = useQuery({ queryKey: ["revisions"], queryFn: job.listRevisions });
  const recordings = useQuery({ queryKey: ["recordings"], queryFn: job.listRecordings });
  const [begin, setBegin] = useState({ revision: Number(params.get("revision") ?? NaN), time: 0 });
  // Asked for once: from then on this page itself knows what has been written.
  const start = useQuery({
    queryKey: ["start", begin.time],
    queryFn: async () => {
      const [draft, all] = await Promise.all([job.getDraft(owner()), job.listRevisions()]);
      const base = Number.isFinite(begin.revision) ? begin.revision : (draft?.base ?? all[0]?.number);
      if (base === undefined) return { none: true as const };
      return { none: false as const, detail: await job.getRevision(base), draft: draft?.base === base ? draft : null };
    },
    staleTime: Infinity,
    gcTime: 0,
  });
  const language = useQuery({ queryKey: ["language"], queryFn: getLanguage, staleTime: Infinity });
  const error = revisions.error ?? recordings.error ?? language.error ?? start.error;
  if (start.data?.none)
    return (
      <Empty title="No job is here yet">
        Push one from its folder with <Code>rectura push FOLDER</Code>.
      </Empty>
    );
  if (error) return <Trouble error={error} />;
  if (!start.data || !revisions.data || !recordings.data || !language.data) return <p className="text-ink-3">Reading…</p>;
  return <Written key={begin.time} onBegin={(revision) => setBegin({ revision, time: begin.time + 1 })} detail={start.data.detail} language={language.data} revisions={revisions.data} recordings={recordings.data} draft={start.data.draft} />;
}

/** Which of several recordings is drawn unless another is chosen: the shortest of some length. */
function usual(recordings: Recording[]): number | undefined {
  return recordings.filter((r) => r.seconds >= 60).sort((a, b) => a.seconds - b.seconds)[0]?.id ?? recordings[0]?.id;
}

function Written({ detail, language, revisions, recordings, draft, onBegin }: { onBegin: (revision: number) => void; detail: RevisionDetail; language: Language; revisions: Revision[]; recordings: Recording[]; draft: Draft | null }) {
  const job = useJob();
  const [params, setParams] = useSearchParams();
  const writing = useWriting(detail.revision.number, detail.sheets, draft?.sheets ?? detail.sheets);
  const [restored, setRestored] = useState(draft !== null);
  const [saving, setSaving] = useState(false);
  const [making, setMaking] = useState(false);
  const [saved, setSaved] = useState<{ number: number; from: number; changes: Change[] }>();
  const recording = Number(params.get("recording") ?? usual(recordings) ?? NaN);
  const [o, tell] = useReducer(follow, opened(params.get("rule") ?? undefined));
  const { name: wanted, span } = o;
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
      checked: await job.check({ sheets: writing.sheets, base: writing.base, play: Number.isFinite(recording) ? { recording, rule: wanted, pixels: 560 } : undefined }, signal),
    }),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 10_000,
  });
  const checked = asked.data?.checked;
  const version = asked.data?.version ?? -1;
  const current = version === writing.version && !asked.isPlaceholderData;
  const errors = checked?.findings.filter((f) => f.severity === "error") ?? [];
  if (checked) {
    const event = { do: "answer", checked, version, written: writing.version, settled: current } as const;
    if (follow(o, event) !== o) tell(event);
  }
  const good = o.good?.checked;
  const placed = version === writing.version;
  const own = placed && checked ? ownOf(o, checked) : undefined;
  const ahead = aheadOf(o);
  const rules = useMemo(() => good?.rules ?? [], [good]);
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
  const open = (name: string, span?: Span) => tell({ do: "open", name, span });
  const rule = rules.find((r) => r.name === wanted);
  // What has been written since there are errors is listed by its name.
  const listed = [...rules, ...(errors.length > 0 ? unread(checked, rules) : [])];
  const states = good?.play?.states ?? [];
  const undo = () => {
    tell({ do: "leave" });
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
          key={o.time}
          text={textAt(writing.sheets, span)}
          first={span.from}
          findings={placed ? (checked?.findings ?? []).filter((f) => f.file === span.file) : []}
          names={(good ?? checked)?.names ?? []}
          language={language}
          onSave={() => writing.changed && errors.length === 0 && setSaving(true)}
          onChange={(text) => {
            const put = putText(writing.sheets, span, text);
            tell({ do: "write", span: put.span });
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
            tell({ do: "leave" });
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
        <Listed rules={listed} states={states} checked={checked} wanted={wanted} onOpen={open} />
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
                  tell({ do: "put", at, text, version: writing.version + 1 });
                  writing.edit(sheets, `${part.kind} ${at}`);
                }}
              />
              {errors.length > 0 && <p className="px-3 pb-2 text-xs text-ink-3">As it was before the error; the words can be changed again once that is mended.</p>}
              {rule.points.length + rule.delays.length > 0 && <RulePoints points={rule.points} delays={rule.delays} />}
            </section>
            <Tried rule={rule} good={good} states={states} recording={recordings.find((r) => r.id === recording)} writing={writing} sound={errors.length === 0} current={current} />
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
