import { ChevronRight } from "lucide-react";
import { Collapsible } from "radix-ui";
import type { Rule, RulePoint } from "../api";
import { Code, Empty, Trouble } from "../parts/Notice";
import { figure } from "../parts/number";
import { useRevision } from "../parts/useRevision";

/** Rules: each as its sentence, with its trip and reset points. */
export function Rules() {
  const revision = useRevision();
  const { detail } = revision;
  if (revision.none)
    return (
      <Empty title="No job is here yet">
        Push one from its folder with <Code>rectura push FOLDER</Code>.
      </Empty>
    );
  return (
    <div className="flex flex-col gap-3">
      <div className="flex flex-wrap items-center gap-2.5">
        <h1 className="mr-1 text-xl font-semibold tracking-tight">Rules</h1>
        {revision.menu}
        {detail && (
          <small className="text-ink-3">
            {detail.rules.filter((r) => r.kind === "rule").length} rules · {detail.findings.length || "no"} findings
          </small>
        )}
      </div>
      {revision.error && <Trouble error={revision.error} />}
      {detail?.findings.map((f) => (
        <p key={`${f.file}:${f.line}:${f.column}${f.code}`} className="card px-3 py-1.5 text-ink-2">
          <b>
            {f.severity}, {f.file}:{f.line}
          </b>{" "}
          {f.text}
        </p>
      ))}
      {detail?.rules.map((r) => (
        <RuleCard key={r.name} rule={r} />
      ))}
    </div>
  );
}

function RuleCard({ rule }: { rule: Rule }) {
  return (
    <Collapsible.Root asChild>
      <section className="card" data-rule={rule.name}>
        <header>
          <h2 className="font-semibold">{rule.title}</h2>
          <small className="text-ink-3">
            {rule.kind === "rule" ? "" : `${rule.kind} · `}
            {rule.name} · {rule.file}:{rule.line}
          </small>
          <span className="flex-1" />
          <Collapsible.Trigger className="group inline-flex items-center gap-1 rounded text-xs text-accent">
            <ChevronRight size={13} className="group-data-[state=open]:rotate-90" aria-hidden="true" /> Text
          </Collapsible.Trigger>
        </header>
        <div className="grid grid-cols-[minmax(0,1fr)_516px] max-lg:grid-cols-1">
          <p className="max-w-[75ch] px-3 py-2 text-[15px] leading-relaxed">{rule.sentence}</p>
          {rule.points.length > 0 && <Points points={rule.points} />}
        </div>
        <Collapsible.Content>
          <pre className="overflow-auto border-t border-line px-3 py-2 font-mono text-[12.5px] leading-relaxed">{rule.text}</pre>
        </Collapsible.Content>
      </section>
    </Collapsible.Root>
  );
}

function Points({ points }: { points: RulePoint[] }) {
  return (
    <table className="m-2 w-[500px] table-fixed self-start text-sm">
      <caption className="sr-only">Trip and reset points</caption>
      <colgroup>
        <col className="w-[62px]" />
        <col className="w-[84px]" />
        <col className="w-[176px]" />
        <col className="w-[178px]" />
      </colgroup>
      <tbody>
        {points.map((p) => {
          const last = p.stages.at(-1);
          return (
            <tr key={p.effect + p.input + p.op + String(last?.value)}>
              <td className="px-2 text-xs whitespace-nowrap text-ink-3">{p.effect === "keeps" ? "keeps" : `${p.effect} at`}</td>
              <td className="px-1 text-right whitespace-nowrap">
                <b>{figure(last?.value ?? NaN)}</b>
                <span className="unit">{last?.unit}</span>
              </td>
              <td className="truncate px-2 text-ink-2">
                {p.direction && (p.direction === "falling" ? "↘ " : "↗ ")}
                {p.input} {p.direction}
              </td>
              <td className="truncate pl-2 text-xs text-ink-3">
                {p.stages
                  .slice(0, -1)
                  .toReversed()
                  .map((q) => `${figure(q.value)} ${q.unit}`)
                  .join(" · ")}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
