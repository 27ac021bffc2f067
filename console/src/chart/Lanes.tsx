import { memo, useCallback, useState, type PointerEvent } from "react";
import type { Lane } from "../api";
import { Canvas } from "./Canvas";
import { laneOf, type Layout, type Window } from "./layout";
import { paintLane, type Colours, type Paper } from "./paint";

const notes: Record<Lane["kind"], string> = { input: "contact", rule: "rule", bands: "bands", alarm: "alarm", message: "message", output: "output", plant: "as the plant did" };

/** Contacts, rules and outputs as lanes, each with its name and what it is. */
export const Lanes = memo(function Lanes({ lanes, window, layout, asked, label }: { lanes: Lane[]; window: Window; layout: Layout; asked?: string; label: string }) {
  const { height, bar, thick } = laneOf(layout);
  const [told, setTold] = useState<string>();
  const paint = useCallback(
    (g: Paper, c: Colours) => {
      g.clearRect(0, 0, layout.width, lanes.length * height);
      for (const [i, lane] of lanes.entries()) paintLane(g, { left: 0, top: i * height + bar, width: layout.width, height: thick }, c, lane, window);
    },
    [lanes, window, layout, height, bar, thick],
  );
  const tell = (e: PointerEvent<HTMLDivElement>) => {
    const box = e.currentTarget.getBoundingClientRect();
    const lane = lanes[Math.floor((e.clientY - box.top) / height)];
    const t = window.from + ((e.clientX - box.left - layout.left) / layout.width) * (window.to - window.from);
    const span = lane?.spans.find((s) => t >= s.from && t < s.to);
    setTold(lane && span ? (span.state === "several" ? `${lane.name} changes too often to be told apart here` : `${lane.name} ${span.label ?? span.state}`) : lane?.title);
  };
  return (
    <div className="relative" style={{ height: lanes.length * height }} title={told} onPointerMove={tell}>
      {lanes.map((lane, i) => (
        <div key={lane.kind + lane.name} className={`absolute inset-x-0 ${lane.name === asked && lane.kind !== "plant" ? "bg-wash" : ""}`} style={{ top: i * height, height }} data-lane={lane.name} data-kind={lane.kind}>
          <div className={layout.above ? "flex items-baseline gap-2 overflow-hidden whitespace-nowrap" : "contents"} style={layout.above ? { paddingLeft: layout.left, height: bar } : undefined}>
            <span
              className={`truncate ${layout.above ? "text-[11px] leading-[13px]" : "absolute left-0 top-0 text-right text-xs leading-5"} ${lane.name === asked ? "font-semibold" : ""}`}
              style={layout.above ? undefined : { width: layout.left - 8 }}
              title={lane.title}
              data-name
            >
              {lane.name}
            </span>
            <span className={`whitespace-nowrap text-[11px] text-ink-3 ${layout.above ? "leading-[13px]" : "absolute top-0 leading-5"}`} style={layout.above ? undefined : { left: layout.left + layout.width + 10 }}>
              {notes[lane.kind]}
              {countOf(lane)}
            </span>
          </div>
        </div>
      ))}
      <div className="absolute top-0" style={{ left: layout.left }}>
        <Canvas width={layout.width} height={lanes.length * height} paint={paint} label={label} />
      </div>
    </div>
  );
});

function countOf(lane: Lane): string {
  if (!lane.starts) return "";
  if (lane.kind === "message") return `, sent ${lane.starts} ${lane.starts === 1 ? "time" : "times"}`;
  return `, ${lane.starts} ${lane.starts === 1 ? "start" : "starts"}`;
}
