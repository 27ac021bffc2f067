import type { Lane } from "../api";
import { gutter } from "./Signal";

export const laneHeight = 20;

/** The colours of lanes, by what they show. */
export const fills: Record<Lane["kind"], string> = { input: "var(--contact)", rule: "var(--accent)", bands: "var(--accent)", alarm: "var(--critical)", message: "var(--accent)", output: "var(--ink)", plant: "var(--contact)" };

const notes: Record<Lane["kind"], string> = { input: "contact", rule: "rule", bands: "bands", alarm: "alarm", message: "message", output: "output", plant: "as the plant did" };

/** Contacts, rules and outputs as lanes: filled for on, hatched for undecided. */
export function Lanes({ lanes, from, to, width, asked }: { lanes: Lane[]; from: number; to: number; width: number; asked?: string }) {
  const x = (t: number) => ((t - from) / (to - from)) * width;
  return (
    <svg className="relative" width={gutter.left + width + gutter.right} height={lanes.length * laneHeight} role="img" aria-label={`Lanes: ${lanes.map((l) => l.name).join(", ")}`}>
      <defs>
        <Hatch id="undecided" stroke="var(--ink-3)" />
        <Hatch id="bad" stroke="var(--bad)" />
        <Several />
        <clipPath id="lanes">
          <rect width={width} height={lanes.length * laneHeight} />
        </clipPath>
      </defs>
      {lanes.map((lane, i) => (
        <g key={lane.kind + lane.name} transform={`translate(0 ${i * laneHeight})`}>
          {lane.name === asked && lane.kind !== "plant" && <rect width={gutter.left + width + gutter.right} height={laneHeight} fill="var(--wash)" />}
          <text x={gutter.left - 8} y="14" textAnchor="end" fontSize="12" fill="var(--ink)" fontWeight={lane.name === asked ? 600 : undefined}>
            <title>{lane.title}</title>
            {shortened(lane.name)}
          </text>
          <g transform={`translate(${gutter.left} 0)`}>
            <line x2={width} y1="16.5" y2="16.5" stroke="var(--line)" />
            <g clipPath="url(#lanes)">
              {lane.spans
                .filter((s) => s.to >= from && s.from <= to && s.state !== "off" && s.state !== "unread")
                .map((s) => (
                  <g key={s.from}>
                    <rect
                      x={x(s.from)}
                      width={Math.max(x(s.to) - x(s.from), lane.kind === "message" ? 2 : 1)}
                      y="5"
                      height="11.5"
                      fill={s.state === "on" ? fills[lane.kind] : `url(#${s.state})`}
                      opacity={s.depth === undefined ? undefined : 0.3 + 0.7 * s.depth}
                    >
                      <title>{s.state === "several" ? `${lane.name} changes too often to be told apart here` : `${lane.name} ${s.label ?? s.state}`}</title>
                    </rect>
                    {s.label && x(s.to) - x(s.from) > 7 * s.label.length && (
                      <text x={Math.max(x(s.from), 0) + 4} y="14" fontSize="10" fill="var(--sheet)">
                        {s.label}
                      </text>
                    )}
                  </g>
                ))}
            </g>
          </g>
          <text x={gutter.left + width + 10} y="14" fontSize="11" fill="var(--ink-3)">
            {notes[lane.kind]}
            {lane.starts ? `, ${lane.kind === "message" ? "sent " : ""}${lane.starts} ${lane.kind === "message" ? (lane.starts === 1 ? "time" : "times") : lane.starts === 1 ? "start" : "starts"}` : ""}
          </text>
        </g>
      ))}
    </svg>
  );
}

/** Fine upright lines, for states that are too short to be told apart. */
export function Several() {
  return (
    <pattern id="several" width="3" height="3" patternUnits="userSpaceOnUse">
      <rect width="1.5" height="3" fill="var(--ink-2)" />
    </pattern>
  );
}

/** A name that fits the gutter; the whole one is its tooltip. */
function shortened(name: string): string {
  return name.length > 19 ? `${name.slice(0, 18)}…` : name;
}

/** A pattern of slanting lines, for what is undecided or bad. */
export function Hatch({ id, stroke }: { id: string; stroke: string }) {
  return (
    <pattern id={id} width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
      <rect width="5" height="5" fill="var(--wash)" />
      <line y2="5" stroke={stroke} strokeWidth="3" />
    </pattern>
  );
}
