import { useMemo, useRef } from "react";
import type { Lane, Play, Rule } from "../api";
import { clockText } from "../chart/clock";
import { narrow } from "../chart/layout";
import { Lanes } from "../chart/Lanes";
import { useWidth } from "../chart/size";
import { Strip } from "../chart/Strip";
import { Times } from "../chart/Times";

/** What a rule has to do with in a recording: its signals, where it is on and off, when it trips. */
export function Picture({ play, rule }: { play: Play; rule: Rule }) {
  const host = useRef<HTMLDivElement>(null);
  const wide = useWidth(host);
  const layout = useMemo(() => narrow(wide), [wide]);
  const own = play.lanes.find((l) => l.name === rule.name);
  const trips = useMemo(() => (own?.spans ?? []).filter((s, i) => s.state === "on" && i > 0).map((s) => s.from), [own]);
  const panels = useMemo(() => play.panels.map(({ panel, series }) => ({ series, panel: { ...panel, points: rule.points.filter((p) => p.input === panel.input) } })), [play, rule]);
  return (
    <div ref={host} className="pt-2 pb-1" data-testid="picture">
      {layout.width > 40 && (
        <>
          {panels.map(({ panel, series }) => (
            <Strip key={panel.input} panel={panel} series={series} window={play} layout={layout} height={132} zones trips={trips} />
          ))}
          {panels.length === 0 && <p className="px-2 py-3 text-sm text-ink-3">It looks at no analog signal.</p>}
          <Lanes lanes={play.lanes} window={play} layout={layout} label={summary(play, own, trips)} />
          <Times clock={play.clock} window={play} layout={layout} height={2} />
        </>
      )}
    </div>
  );
}

function summary(play: Play, own: Lane | undefined, trips: number[]): string {
  if (!own) return "When its outputs are on";
  return trips.length ? `${own.name} comes on at ${trips.map((t) => clockText(play.clock, t)).join(", ")}` : `${own.name} does not come on in this recording`;
}
