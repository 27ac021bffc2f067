/** A value with at most so many significant digits; digits before the point are never dropped. A dash is no value. */
export function figure(value: number | null, digits = 4): string {
  if (value === null || !Number.isFinite(value)) return "—";
  if (value === 0) return "0";
  const after = Math.max(0, digits - 1 - Math.floor(Math.log10(Math.abs(value))));
  const text = value.toFixed(Math.min(after, 12));
  return text.includes(".") ? text.replace(/\.?0+$/, "") : text;
}

/** A length of time in words: 1 h 30 min, 45 s. */
export function lasting(seconds: number): string {
  const whole = seconds >= 60 ? Math.round(seconds) : seconds;
  const parts: string[] = [];
  const h = Math.floor(whole / 3600);
  const min = Math.floor((whole % 3600) / 60);
  const s = whole % 60;
  if (h) parts.push(`${h} h`);
  if (min) parts.push(`${min} min`);
  if (s || !parts.length) parts.push(`${figure(s)} s`);
  return parts.join(" ");
}

/** A typed value with its unit, which need not be typed where the box says it. */
export function withUnit(text: string, unit: string): string {
  return /[a-z%°"]/i.test(text) ? text.trim() : `${text.trim()} ${unit}`;
}

/** A deviation with its sign; 0 has none. */
export function signed(value: number, digits: number): string {
  return Math.abs(value) < 1e-9 ? "0" : (value > 0 ? "+" : "−") + figure(Math.abs(value), digits);
}
