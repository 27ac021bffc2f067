import type { ReactNode } from "react";

/** What an empty page says to do first. */
export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="card mx-auto mt-16 max-w-xl p-6">
      <h2 className="mb-1 text-base font-semibold">{title}</h2>
      <div className="text-ink-2">{children}</div>
    </div>
  );
}

/** What went wrong, in the service's words. */
export function Trouble({ error }: { error: Error }) {
  return (
    <p role="alert" className="card border-critical p-3 text-critical">
      <b>✕ That did not work.</b> {error.message}
    </p>
  );
}

export function Code({ children }: { children: ReactNode }) {
  return <code className="rounded bg-wash px-1 font-mono text-[12.5px]">{children}</code>;
}
