import { useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import type { Replay, ReplayRequest } from "../api";
import { useJob } from "../parts/useJob";
import { Code, Empty, Trouble } from "../parts/Notice";
import { lasting } from "../parts/number";
import { Pick } from "../parts/Pick";
import { Import } from "../recordings/Import";
import { Changes } from "./Changes";
import { dayText, wholeSeconds, zoneText } from "../chart/clock";
import type { Window } from "../chart/layout";
import { Chart, wholeOf } from "./Chart";
import { Explanation } from "./Explanation";
import { asWritten, isOther, Otherwise, type Other } from "./Otherwise";
import { pageSize, useChanges } from "./useChanges";
import { usePlace } from "./usePlace";
import { combinations, mostCombinations, Variations } from "./Variations";
import { Why } from "./Why";

/** Bench: a recording played through a revision. */
export function Bench() {
  const job = useJob();
  const [params, setParams] = useSearchParams();
  const revisions = useQuery({ queryKey: ["revisions"], queryFn: job.listRevisions });
  const recordings = useQuery({ queryKey: ["recordings"], queryFn: job.listRecordings });
  const error = revisions.error ?? recordings.error;
  if (error) return <Trouble error={error} />;
  if (!revisions.data || !recordings.data) return <p className="text-ink-3">Reading…</p>;
  if (!revisions.data.length)
    return (
      <Empty title="No job is here yet">
        Push one from its folder with <Code>rectura push FOLDER</Code>.
      </Empty>
    );
  if (!recordings.data.length)
    return (
      <Empty title="No recording is here yet">
        <p className="mb-3">
          Bring one in, or drop its file anywhere on this page; <Code>rectura recordings FILE</Code> does the same.
        </p>
        <Import />
      </Empty>
    );
  const revision = Number(params.get("revision") ?? revisions.data[0]?.number);
  const recording = Number(params.get("recording") ?? recordings.data[0]?.id);
  const choose = (name: string) => (value: string) =>
    setParams((p) => {
      p.set(name, value);
      return p;
    });
  return (
    <Played
      key={`${revision}/${recording}`}
      revision={revision}
      recording={recording}
      picks={
        <>
          <Pick label="Recording" value={String(recording)} onChange={choose("recording")} choices={recordings.data.map((r) => ({ value: String(r.id), label: r.name, note: lasting(r.seconds) }))} />
          <Pick
            label="Revision"
            value={String(revision)}
            onChange={choose("revision")}
            choices={revisions.data.map((r) => ({ value: String(r.number), label: `Revision ${r.number}`, note: r.note }))}
          />
          <Import onKept={(r) => choose("recording")(String(r.id))} />
        </>
      }
    />
  );
}

function Played({ revision, recording, picks }: { revision: number; recording: number; picks: React.ReactNode }) {
  const job = useJob();
  const [other, setOther] = useState<Other>(asWritten);
  const [round, setRound] = useState(0);
  const detail = useQuery({ queryKey: ["revision", revision], queryFn: () => job.getRevision(revision), staleTime: Infinity });
  const all = useMemo(() => combinations(other.set), [other]);
  const shown: Other = useMemo(() => ({ ...other, set: all[0] ?? {} }), [other, all]);
  const request: ReplayRequest = useMemo(() => ({ revision, recording, set: shown.set, scan: shown.scan || undefined, first: 0, most: pageSize }), [revision, recording, shown]);
  const [name] = useState(() => crypto.randomUUID());
  const played = useQuery({
    queryKey: ["replay", request, round],
    queryFn: async ({ signal }) => ({ request, replay: await job.replay(request, signal, name) }),
    staleTime: Infinity,
    placeholderData: (before) => before,
  });
  const before = usePlace(name, played.isFetching);
  return (
    <div className="flex flex-col gap-3">
      <div className="flex flex-wrap items-center gap-2.5">
        <h1 className="mr-1 text-xl font-semibold tracking-tight">Bench</h1>
        {picks}
        <span className="flex-1" />
        {isOther(other) && <span className="chip border-accent text-accent">other values than written</span>}
        {detail.data && <Otherwise key={JSON.stringify(other)} revision={detail.data} other={other} onPlay={setOther} />}
        <button type="button" className="btn main" disabled={played.isFetching} onClick={() => setRound(round + 1)}>
          {before ? `Waiting, ${before} before it…` : played.isFetching ? "Playing…" : "Play"}
        </button>
      </div>
      {played.error && <Trouble error={played.error} />}
      {detail.error && <Trouble error={detail.error} />}
      {all.length > mostCombinations ? (
        <Trouble error={new Error(`These are ${all.length} combinations of values; at most ${mostCombinations} are played at once.`)} />
      ) : (
        all.length > 1 && <Variations key={JSON.stringify(other)} revision={revision} recording={recording} all={all} scan={other.scan} />
      )}
      {played.data && !played.error && <Result replay={played.data.replay} request={played.data.request} recording={recording} other={shown} />}
    </div>
  );
}

function Result({ replay, request, recording, other }: { replay: Replay; request: ReplayRequest; recording: number; other: Other }) {
  const whole = useMemo(() => wholeOf(replay), [replay]);
  const [view, setView] = useState<Window>(whole);
  const [at, setAt] = useState<number>();
  const [chosen, setChosen] = useState<number>();
  const [asked, setAsked] = useState<string>(); // why
  const changes = useChanges(replay, request);
  const asking = useRef(0); // of what is waited for, only the last counts
  const choose = async (i: number) => {
    const turn = ++asking.current;
    const t = (changes.at(i) ?? (await changes.load(i)))?.t;
    if (t === undefined || turn !== asking.current) return;
    setChosen(i);
    setAsked(undefined);
    setAt(t);
    const span = view.to - view.from;
    if (t < view.from || t > view.to) {
      const from = Math.min(Math.max(t - span / 2, whole.from), whole.to - span);
      setView({ from, to: from + span });
    }
  };
  // A moment's reasons are those of the last change up to it.
  const moveTo = async (t: number) => {
    const turn = ++asking.current;
    setAt(t);
    if (asked !== undefined) return; // which is asked anew
    const last = await changes.until(t);
    if (turn === asking.current) setChosen(last < 0 ? undefined : last);
  };
  const ask = (name: string, t: number) => {
    asking.current++;
    setAt(t);
    setAsked(name);
    setChosen(undefined);
  };
  const { clock } = replay;
  return (
    <>
      {replay.warnings.map((w) => (
        <p key={w} className="card px-3 py-1.5 text-ink-2">
          <b>Note:</b> {w}
        </p>
      ))}
      <div className="grid grid-cols-[minmax(0,1fr)_316px] items-start gap-3 max-lg:grid-cols-1">
        <section className="card">
          <header className="flex-wrap">
            <h2 className="font-semibold">
              {dayText(clock, view.from)} {wholeSeconds(clock, view.from)} to {wholeSeconds(clock, view.to)}
            </h2>
            <small className="text-ink-3">
              {zoneText(clock) && `${zoneText(clock)} · `}
              {lasting(view.to - view.from)} · played in {Math.max(1, Math.round(replay.took * 1000))} ms · {replay.transitions_total} changes
            </small>
            <span className="flex-1" />
            {view.from !== whole.from || view.to !== whole.to ? (
              <button type="button" className="btn py-0.5 text-xs" onClick={() => setView(whole)}>
                Show all
              </button>
            ) : (
              <small className="text-ink-3">drag or pinch to zoom</small>
            )}
          </header>
          <div className="px-2">
            <Chart replay={replay} recording={recording} other={other} view={view} onView={setView} at={at} onAt={(t) => void moveTo(t)} asked={asked} onAsk={ask} />
          </div>
        </section>
        <aside className="sticky top-3 flex h-[calc(100vh-5rem)] flex-col gap-3 max-lg:static max-lg:h-auto">
          {asked && at !== undefined ? (
            <Explanation asked={{ name: asked, t: at }} revision={replay.revision} recording={recording} other={other} />
          ) : (
            <Why change={chosen === undefined ? undefined : changes.at(chosen)} find={changes.find} load={changes.loadNumber} />
          )}
          <Changes changes={changes} chosen={chosen} onChoose={(i) => void choose(i)} />
        </aside>
      </div>
    </>
  );
}
