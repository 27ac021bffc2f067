import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import type { Preview, Reading, Recording } from "../api";
import { useJob } from "../parts/useJob";
import { clockText, dayText } from "../chart/clock";

/** How much of a text file is enough for a preview, in bytes. */
const enough = 1 << 20;

/** A button that brings a recording in; its file may also be dropped anywhere on the page. */
export function Import({ onKept }: { onKept?: (r: Recording) => void }) {
  const [file, setFile] = useState<File>();
  const pick = useRef<HTMLInputElement>(null);
  useEffect(() => {
    const over = (e: DragEvent) => {
      if (e.dataTransfer?.types.includes("Files")) e.preventDefault();
    };
    const drop = (e: DragEvent) => {
      const dropped = e.dataTransfer?.files[0];
      if (!dropped) return;
      e.preventDefault();
      setFile(dropped);
    };
    window.addEventListener("dragover", over);
    window.addEventListener("drop", drop);
    return () => {
      window.removeEventListener("dragover", over);
      window.removeEventListener("drop", drop);
    };
  }, []);
  return (
    <>
      <button type="button" className="btn" onClick={() => pick.current?.click()}>
        Bring in…
      </button>
      <input
        ref={pick}
        type="file"
        className="hidden"
        aria-label="File of a recording"
        data-testid="file"
        onChange={(e) => {
          setFile(e.target.files?.[0]);
          e.target.value = "";
        }}
      />
      <Dialog.Root open={!!file} onOpenChange={(open) => !open && setFile(undefined)}>
        <Dialog.Portal>
          <Dialog.Overlay className="fixed inset-0 z-20 bg-ink/30" />
          <Dialog.Content className="card fixed inset-x-0 top-6 z-30 mx-auto flex max-h-[92vh] w-[1000px] max-w-[96vw] flex-col shadow-lg" aria-describedby={undefined}>
            {file && (
              <Look
                file={file}
                onKept={(r) => {
                  setFile(undefined);
                  onKept?.(r);
                }}
              />
            )}
          </Dialog.Content>
        </Dialog.Portal>
      </Dialog.Root>
    </>
  );
}

function Look({ file, onKept }: { file: File; onKept: (r: Recording) => void }) {
  const job = useJob();
  const [reading, setReading] = useState<Reading>({});
  const [name, setName] = useState(file.name);
  const [sent, setSent] = useState(0);
  const stop = useRef<AbortController>(null);
  const queries = useQueryClient();
  const seen = useQuery({
    queryKey: ["preview", file.name, file.size, file.lastModified, reading],
    queryFn: async ({ signal }) => job.preview(file.name, await beginning(file), reading, signal),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const kept = useMutation({
    mutationFn: () => {
      stop.current = new AbortController();
      return job.keepRecording(name, file, reading, setSent, stop.current.signal);
    },
    onSuccess: async (r) => {
      await queries.invalidateQueries({ queryKey: ["recordings"] });
      onKept(r);
    },
  });
  const change = (part: Reading) => setReading({ ...reading, ...part });
  const map = (column: string, point: string) => {
    const others = (reading.map ?? []).filter((m) => !m.startsWith(`${column}=`));
    change({ map: point.trim() ? [...others, `${column}=${point.trim()}`] : others });
  };
  return (
    <>
      <header>
        <Dialog.Title className="font-semibold">Bring in {file.name}</Dialog.Title>
        <small className="text-ink-3">{size(file.size)} · nothing is kept yet</small>
      </header>
      <div className="flex min-h-0 flex-col gap-3 overflow-auto px-3 py-3">
        <div className="flex flex-wrap items-end gap-2.5">
          <Field label="name" value={name} onChange={setName} width="w-56" />
          <Field label="zone of local times" placeholder="Europe/Dublin" value={reading.zone ?? ""} onChange={(zone) => change({ zone })} width="w-40" />
          <Field label="time format" placeholder="found by itself" value={reading.time_format ?? ""} onChange={(time_format) => change({ time_format })} width="w-52" />
          <Field label="pattern of a text capture" placeholder="raw: {lamp}" value={reading.pattern ?? ""} onChange={(pattern) => change({ pattern })} width="w-56" />
          <label className="flex items-center gap-1.5 pb-1">
            <input type="checkbox" checked={reading.sort ?? false} onChange={(e) => change({ sort: e.target.checked })} /> sort by time
          </label>
          <label className="flex items-center gap-1.5 pb-1">
            <input type="checkbox" checked={reading.skip_bad_rows ?? false} onChange={(e) => change({ skip_bad_rows: e.target.checked })} /> leave broken rows out
          </label>
        </div>
        {seen.error && (
          <p role="alert" className="text-critical">
            ✕ {seen.error.message}
          </p>
        )}
        {seen.data && !seen.error && <Understood preview={seen.data} onMap={map} />}
        {kept.error && (
          <p role="alert" className="text-critical">
            ✕ {kept.error.message}
          </p>
        )}
      </div>
      <footer className="flex items-center gap-2.5 border-t border-line px-3 py-2">
        {kept.isPending && (
          <>
            <progress className="w-56" value={sent} max={1} aria-label="Sent" />
            <small className="text-ink-3">{sent < 1 ? `${Math.round(sent * 100)} % sent` : "being kept"}</small>
          </>
        )}
        <span className="flex-1" />
        {kept.isPending ? (
          <button type="button" className="btn" onClick={() => stop.current?.abort()}>
            Stop
          </button>
        ) : (
          <Dialog.Close className="btn">Cancel</Dialog.Close>
        )}
        <button type="button" className="btn main" disabled={!seen.data || !!seen.error || kept.isPending || !name.trim()} onClick={() => kept.mutate()}>
          Keep it
        </button>
      </footer>
    </>
  );
}

/** The beginning of a file, up to the end of a line; all of one that is no text. */
async function beginning(file: File): Promise<Blob> {
  const magic = await file.slice(0, 4).text();
  if (file.size <= enough || magic === "PAR1") return file;
  const head = new Uint8Array(await file.slice(0, enough).arrayBuffer());
  const end = head.lastIndexOf(10);
  return end < 0 ? new Blob([head]) : new Blob([head.slice(0, end + 1)]);
}

function size(bytes: number): string {
  return bytes >= 1e6 ? `${(bytes / 1e6).toFixed(1)} MB` : `${Math.max(1, Math.round(bytes / 1000))} kB`;
}

function Field({ label, value, onChange, width, placeholder }: { label: string; value: string; onChange: (v: string) => void; width: string; placeholder?: string }) {
  const [text, setText] = useState(value);
  return (
    <label className="flex flex-col gap-0.5 text-xs text-ink-3">
      {label}
      <input className={`field text-sm text-ink ${width}`} name={label} value={text} placeholder={placeholder} onChange={(e) => setText(e.target.value)} onBlur={() => onChange(text.trim())} onKeyDown={(e) => e.key === "Enter" && onChange(text.trim())} autoComplete="off" />
    </label>
  );
}

/** What was understood of the file: its form, its times, its columns, its first rows. */
function Understood({ preview, onMap }: { preview: Preview; onMap: (column: string, point: string) => void }) {
  const u = preview.understood;
  const [original] = useState(() => preview.columns.map((c) => c.name));
  const first = preview.rows[0]?.[0];
  return (
    <>
      <dl className="grid grid-cols-[110px_minmax(0,1fr)] gap-x-3 gap-y-0.5" data-testid="understood">
        <dt className="text-ink-3">form</dt>
        <dd>
          {u.format}
          {u.separator && `, separated by ${u.separator}, decimal ${u.decimal}`}
        </dd>
        <dt className="text-ink-3">times</dt>
        <dd>
          {u.time_column && <>column {u.time_column}, </>}
          {u.time_format}
          {u.zone && ` in ${u.zone}`}
          {first !== undefined && (
            <>
              ; the first is {dayText(preview.clock, 0)} {clockText(preview.clock, 0)}
            </>
          )}
        </dd>
      </dl>
      {preview.notes.map((n) => (
        <p key={n} className="text-ink-2">
          <b>Note:</b> {n}
        </p>
      ))}
      <div className="overflow-auto rounded-lg border border-line">
        <table className="w-full text-left text-sm">
          <thead>
            <tr className="align-top">
              <th className="w-px border-b border-line px-2 py-1.5 font-normal text-ink-3">time</th>
              {preview.columns.map((c, i) => (
                <th key={i} className="border-b border-line px-2 py-1.5 font-normal">
                  <b>{c.name}</b>
                  {c.unit && <span className="unit">{c.unit}</span>}
                  <div className={`text-xs ${c.problem ? "text-critical" : "text-ink-3"}`}>{c.problem ? `✕ ${c.problem}` : c.point || "no point of this job"}</div>
                  {(!c.point || original[i] !== c.name) && (
                    <input className="field mt-1 w-28 py-0.5 text-xs" aria-label={`Point of ${original[i] ?? c.name}`} placeholder="its point" defaultValue="" onBlur={(e) => onMap(original[i] ?? c.name, e.target.value)} onKeyDown={(e) => e.key === "Enter" && onMap(original[i] ?? c.name, e.currentTarget.value)} />
                  )}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {preview.rows.map((row, i) => (
              <tr key={i} className="border-t border-line">
                {row.map((cell, k) => (
                  <td key={k} className={`px-2 py-0.5 whitespace-nowrap ${k ? "" : "text-ink-3"} ${cell === "bad" ? "font-semibold text-bad" : ""}`}>
                    {cell}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <small className="text-ink-3">
        The first rows{preview.whole ? "" : ", of the beginning of the file"}. Times are shown as they will be kept.
      </small>
    </>
  );
}
