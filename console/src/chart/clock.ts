import type { components } from "../schema";
import { figure } from "../parts/number";

export type Clock = components["schemas"]["Clock"];

const two = (n: number) => String(n).padStart(2, "0");

const zones = new Map<string, Intl.DateTimeFormat>();

/** How many seconds east of UTC the clock is at t seconds after a recording's start. */
function offsetAt(clock: Clock, t: number): number {
  if (!clock.zone || clock.zone === "UTC") return clock.offset;
  let zone = zones.get(clock.zone);
  if (!zone) {
    zone = new Intl.DateTimeFormat("en", { timeZone: clock.zone, timeZoneName: "longOffset" });
    zones.set(clock.zone, zone);
  }
  const name = zone.formatToParts(new Date((clock.start + t) * 1000)).find((p) => p.type === "timeZoneName")?.value ?? "";
  const [, sign, h, m] = /GMT([+-])(\d\d):(\d\d)/.exec(name) ?? [];
  return sign ? (sign === "-" ? -1 : 1) * (Number(h) * 3600 + Number(m) * 60) : 0;
}

/** An offset from UTC, in seconds, as +01:00. */
function offsetText(seconds: number): string {
  const minutes = Math.round(Math.abs(seconds) / 60);
  return `${seconds < 0 ? "-" : "+"}${two(Math.floor(minutes / 60))}:${two(minutes % 60)}`;
}

/** The zone that a clock shows. */
export function zoneText(clock: Clock): string {
  if (clock.elapsed) return "";
  return clock.zone || (clock.offset ? `UTC${offsetText(clock.offset)}` : "UTC");
}

/** A time without the fraction of its second. */
export const wholeSeconds = (clock: Clock, t: number): string => clockText(clock, t).replace(/\.\d+/, "");

/** The time of day at t seconds after a recording's start, with its offset from UTC where an hour comes twice, or its elapsed seconds. */
export function clockText(clock: Clock, t: number): string {
  if (clock.elapsed) return `+${figure(clock.start + t, 9)} s`;
  const offset = offsetAt(clock, t);
  const ms = Math.round((clock.start + offset + t) * 1000);
  const day = ((ms % 86_400_000) + 86_400_000) % 86_400_000;
  const text = `${two(Math.floor(day / 3_600_000))}:${two(Math.floor(day / 60_000) % 60)}:${two(Math.floor(day / 1000) % 60)}`;
  const fraction = day % 1000 ? `.${String(day % 1000).padStart(3, "0")}` : "";
  return text + fraction + (clock.twice ? offsetText(offset) : "");
}

/** The day on which t seconds after a recording's start falls. */
export function dayText(clock: Clock, t: number): string {
  if (clock.elapsed) return "";
  return new Date((clock.start + offsetAt(clock, t) + t) * 1000).toLocaleDateString("en-GB", { day: "numeric", month: "long", year: "numeric", timeZone: "UTC" });
}

const steps = [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400];

/** Round times in a window, at most n of them, as seconds from the recording's start. */
export function timeTicks(clock: Clock, from: number, to: number, n: number): number[] {
  let step = steps.find((s) => (to - from) / s <= n) ?? 86400;
  while ((to - from) / step > n) step *= 2;
  const zero = clock.start + (clock.elapsed ? 0 : offsetAt(clock, from));
  const ticks: number[] = [];
  for (let t = Math.ceil((zero + from) / step) * step - zero; t <= to; t += step) ticks.push(t);
  return ticks;
}

/** A tick's label: no seconds where no tick needs them. */
export function tickTexts(clock: Clock, ticks: number[]): string[] {
  const texts = ticks.map((t) => clockText(clock, t));
  const whole = /^(\d\d:\d\d):00(?=$|[+-])/;
  return !clock.elapsed && texts.every((s) => whole.test(s)) ? texts.map((s) => s.replace(whole, "$1")) : texts;
}
