import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Curve, Point, Scaled } from "../api";
import { useJob } from "../parts/useJob";
import { figure, withUnit } from "../parts/number";

const names = (n: number) => ["reading", ...(n > 2 ? Array.from({ length: n - 2 }, (_, i) => (n > 3 ? `stage ${i + 1}` : "electrical")) : []), "value"];

/** The chain, drawn as its stages, with a box at each to type a reading into; its curve with that reading on it. */
export function Chain({ revision, point }: { revision: number; point: Point }) {
  const job = useJob();
  const curve = useQuery({ queryKey: ["curve", revision, point.name], queryFn: ({ signal }) => job.getCurve({ revision, input: point.name }, signal), staleTime: Infinity });
  const [typed, setTyped] = useState<{ at: number; text: string }>();
  const middle = curve.data && curve.data.x.length ? curve.data.x[Math.floor(curve.data.x.length / 2)] : undefined;
  const value = typed ? withUnit(typed.text, point.chain[typed.at]?.unit ?? "") : middle === undefined ? undefined : withUnit(figure(middle), point.chain[0]?.unit ?? "");
  const scaled = useQuery({
    queryKey: ["scale", revision, point.name, value],
    queryFn: ({ signal }) => job.getScale({ revision, input: point.name, value: value ?? "" }, signal),
    enabled: value !== undefined && value.trim() !== "",
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    retry: false,
  });
  const answer = scaled.error ? undefined : scaled.data;
  const words = point.chain.length === 1 ? ["value"] : names(point.chain.length);
  return (
    <>
      <div className="flex flex-wrap items-stretch gap-y-3 max-sm:flex-col max-sm:gap-y-1 border-b border-line px-3 py-3">
        {point.chain.map((place, i) => (
          <div key={i} className={`flex min-w-0 items-center max-sm:flex-col max-sm:items-stretch max-sm:gap-y-1 ${i ? "flex-1" : ""}`}>
            {i > 0 && (
              <div className="flex min-w-0 flex-1 flex-col items-center px-2 max-sm:items-start" title={place.stage}>
                <span className="max-w-full truncate text-xs text-ink-2">{short(place.stage)}</span>
                <svg width="100%" height="10" aria-hidden="true" className="min-w-8 overflow-visible max-sm:hidden" preserveAspectRatio="none">
                  <line x2="100%" y1="5" y2="5" stroke="var(--line-2)" />
                </svg>
              </div>
            )}
            <label className={`flex w-[172px] shrink-0 flex-col max-sm:w-full gap-0.5 rounded-[10px] border px-3 py-2 ${answer?.quality === "bad" && place.healthy ? "border-bad" : "border-line"}`}>
              <small className="text-ink-3">
                {words[i]}, in {place.unit || "bare numbers"}
              </small>
              <input
                className="w-full min-w-0 border-b border-line bg-transparent text-base font-semibold outline-none focus:border-accent"
                aria-label={`${words[i]} in ${place.unit}`}
                name={`place-${i}`}
                value={typed?.at === i ? typed.text : figureOf(answer, i)}
                onFocus={(e) => {
                  setTyped({ at: i, text: typed?.at === i ? typed.text : figureOf(answer, i) });
                  e.target.select();
                }}
                onChange={(e) => setTyped({ at: i, text: e.target.value })}
                autoComplete="off"
              />
              <small className="text-ink-3">{place.healthy ? `healthy ${place.healthy}` : i === point.chain.length - 1 ? "before filters" : "\u00a0"}</small>
            </label>
          </div>
        ))}
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)_360px] max-lg:grid-cols-1">
        <div className="flex flex-col gap-2 px-3 py-3">
          <p className="text-ink-2">
            Type a reading into any stage.{" "}
            {scaled.error ? (
              <span role="alert" className="text-critical">
                ✕ {scaled.error.message}
              </span>
            ) : (
              answer && (
                <span data-testid="quality">
                  This one is <b className={answer.quality === "bad" ? "text-bad" : ""}>{answer.quality}</b>
                  {answer.reason && `: ${answer.reason}`}.
                </span>
              )
            )}
          </p>
          <h3 className="mt-1 text-xs text-ink-3">What happens to it then</h3>
          <ul className="flex flex-col gap-0.5">
            {point.clauses.map((c) => (
              <li key={c} className="font-mono text-[12.5px]">
                {c}
              </li>
            ))}
            {!point.clauses.length && <li className="text-ink-3">Nothing: it is never bad by itself, and not filtered.</li>}
          </ul>
        </div>
        {curve.data && <CurvePlot curve={curve.data} scaled={answer} />}
        {curve.error && (
          <p role="alert" className="p-3 text-critical">
            ✕ {curve.error.message}
          </p>
        )}
      </div>
    </>
  );
}

function short(stage: string): string {
  return stage.replace(/^scale |^curve /, "").replace(" to ", " → ");
}

function figureOf(scaled: Scaled | undefined, i: number): string {
  const v = scaled?.stages[i]?.value;
  return v === undefined ? "" : figure(v, 6);
}

/** The curve from the reading to the value; health limits as lines, what is bad shaded. */
function CurvePlot({ curve, scaled }: { curve: Curve; scaled?: Scaled }) {
  const [w, h] = [360, 190];
  const [left, right, top, bottom] = [52, 12, 12, 32];
  const [x0, x1] = [Math.min(...curve.x), Math.max(...curve.x)];
  const [y0, y1] = [Math.min(...curve.y), Math.max(...curve.y)];
  if (!curve.x.length || !(x1 > x0)) return null;
  const x = (v: number) => left + ((v - x0) / (x1 - x0)) * (w - left - right);
  const y = (v: number) => h - bottom - ((v - y0) / Math.max(y1 - y0, 1e-12)) * (h - top - bottom);
  const reading = scaled?.stages[0]?.value;
  const value = scaled?.stages.at(-1)?.value;
  const inside = reading !== undefined && value !== undefined && reading >= x0 && reading <= x1 && value >= y0 - 1e-9 && value <= y1 + 1e-9;
  const bands = [curve.healthy_low !== undefined && [x0, curve.healthy_low], curve.healthy_high !== undefined && [curve.healthy_high, x1]].filter((b): b is number[] => Array.isArray(b) && (b[1] ?? 0) > (b[0] ?? 0));
  return (
    <svg width={w} height={h} role="img" aria-label={`Curve from ${curve.x_unit} to ${curve.y_unit}`} className="m-1" data-testid="curve">
      {bands.map(([a = 0, b = 0]) => (
        <rect key={a} x={x(a)} width={Math.max(x(b) - x(a), 1)} y={top} height={h - top - bottom} fill="var(--bad)" opacity=".12" />
      ))}
      <path d={`M${left} ${top}V${h - bottom}H${w - right}`} fill="none" stroke="var(--line-2)" />
      {[x0, (x0 + x1) / 2, x1].map((v, i) => (
        <text key={v} x={x(v)} y={h - bottom + 14} textAnchor={(["start", "middle", "end"] as const)[i]} fontSize="11" fill="var(--ink-3)">
          {figure(v)}
          {i === 2 ? ` ${curve.x_unit}` : ""}
        </text>
      ))}
      {[y0, (y0 + y1) / 2, y1].map((v) => (
        <text key={v} x={left - 5} y={y(v) + 4} textAnchor="end" fontSize="11" fill="var(--ink-3)">
          {figure(v, 3)}
        </text>
      ))}
      <text x={left + 5} y={top + 9} fontSize="11" fill="var(--ink-3)">
        {curve.y_unit}
      </text>
      <polyline points={curve.x.map((v, i) => `${x(v)},${y(curve.y[i] ?? 0)}`).join(" ")} fill="none" stroke="var(--ink)" strokeWidth="1.4" />
      {inside && (
        <g data-testid="on-curve">
          <path d={`M${x(reading)} ${h - bottom}V${y(value)}H${left}`} fill="none" stroke="var(--accent)" strokeDasharray="3 3" />
          <circle cx={x(reading)} cy={y(value)} r="4" fill="var(--accent)" />
        </g>
      )}
      {bands.length > 0 && (
        <text x={w - right} y={h - 4} textAnchor="end" fontSize="10.5" fill="var(--bad)">
          shaded: not healthy
        </text>
      )}
    </svg>
  );
}
