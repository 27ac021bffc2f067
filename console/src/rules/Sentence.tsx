import { useRef, useState, type KeyboardEvent, type PointerEvent } from "react";
import type { Named, Part, Phrase } from "../api";
import { Pick, type Choice } from "../parts/Pick";
import { stepped } from "./text";

const ops = [
  { value: "<", label: "below" },
  { value: "<=", label: "at or below" },
  { value: ">", label: "above" },
  { value: ">=", label: "at or above" },
];

const underlined = "rounded-sm text-accent underline decoration-dotted decoration-1 underline-offset-4 hover:bg-accent-weak";

/** What has been put in the place of a part, before the service has read it. */
export interface Pending {
  at: string;
  text: string;
}

/** Where a part stands, as a key. */
export function placeOf(part: Part): string {
  return `${part.file}:${part.line}:${part.column}`;
}

/** A sentence whose words can be changed where they stand. */
export function Sentence({ phrases, names, locked, pending, onChange }: { phrases: Phrase[]; names: Named[]; locked: boolean; pending?: Pending; onChange: (part: Part, text: string) => void }) {
  return (
    <p className="max-w-[80ch] px-3 py-2.5 text-[15px] leading-relaxed" data-testid="sentence">
      {phrases.map((p, i) => {
        const { part } = p;
        // A number that has just been changed can be changed back.
        if (!part || (locked && pending?.at !== placeOf(part))) return <span key={i}>{p.text}</span>;
        if (part.kind === "number") return <Number key={i} part={part} written={pending?.at === placeOf(part) ? pending.text : part.text} names={names} onChange={(text) => onChange(part, text)} />;
        const choices = part.kind === "op" ? ops : alike(names, part.text);
        if (choices.length < 2) return <span key={i}>{p.text}</span>;
        return <Pick key={i} label={part.kind === "op" ? "Comparison" : `In place of ${part.text}`} word={{ text: p.text, className: `${underlined} cursor-pointer` }} value={part.text} choices={choices} onChange={(text) => onChange(part, text)} />;
      })}
    </p>
  );
}

/** What could stand in the place of a name. */
function alike(names: Named[], name: string): Choice[] {
  const like = names.find((n) => n.name === name)?.like;
  return like ? names.filter((n) => n.like === like).map((n) => ({ value: n.name, label: n.title, note: n.title === n.name ? undefined : n.name })) : [];
}

/** A number that is typed, stepped with the arrow keys, or dragged sideways. */
function Number({ part, written, names, onChange }: { part: Part; written: string; names: Named[]; onChange: (text: string) => void }) {
  const [text, setText] = useState(written);
  const drag = useRef<{ x: number; from: string }>(undefined);
  const [seen, setSeen] = useState(written);
  if (seen !== written) {
    setSeen(written);
    setText(written);
  }
  const plain = /^-?\d+(\.\d+)?$/.test(part.text);
  const of = part.setpoint ? (names.find((n) => n.name === part.setpoint)?.title ?? part.setpoint) : "Number";
  const put = (value: string) => {
    setText(value);
    const legal = plain ? /^-?\d+(\.\d+)?$/ : /^(\d+(\.\d+)? *[a-z]+ *)+$/;
    if (legal.test(value.trim()) && value.trim() !== written) onChange(value.trim());
  };
  const keys = (e: KeyboardEvent<HTMLInputElement>) => {
    const steps = { ArrowUp: 1, ArrowDown: -1, PageUp: 10, PageDown: -10 }[e.key];
    if (steps === undefined || !plain) return;
    e.preventDefault();
    put(stepped(written, steps));
  };
  const move = (e: PointerEvent<HTMLInputElement>) => {
    if (!drag.current || !plain) return;
    const far = e.clientX - drag.current.x;
    if (Math.abs(far) < 4 && text === drag.current.from) return;
    put(stepped(drag.current.from, Math.round(far / 4)));
  };
  return (
    <input
      className={`${underlined} field-sizing-content cursor-ew-resize bg-transparent text-center font-[inherit]`}
      style={CSS.supports("field-sizing", "content") ? undefined : { width: `${Math.max(2, text.length) + 0.6}ch` }}
      aria-label={part.unit ? `${of}, in ${part.unit}` : of}
      aria-invalid={text.trim() !== written}
      title={part.setpoint ? `${of}: changed everywhere. Type, drag, or step with the arrow keys.` : "Type, drag, or step with the arrow keys."}
      value={text}
      inputMode="decimal"
      autoComplete="off"
      onChange={(e) => put(e.target.value)}
      onBlur={() => setText(written)}
      onKeyDown={keys}
      onPointerDown={(e) => {
        e.currentTarget.setPointerCapture(e.pointerId);
        drag.current = { x: e.clientX, from: written };
      }}
      onPointerMove={move}
      onPointerUp={() => (drag.current = undefined)}
      onPointerCancel={() => (drag.current = undefined)}
    />
  );
}
