import { QueryClientProvider, useQuery } from "@tanstack/react-query";
import { Moon, Sun } from "lucide-react";
import { useEffect, useMemo, useState, type ReactNode } from "react";
import { NavLink, Outlet, useNavigate, useParams } from "react-router";
import { inJob, listJobs } from "./api";
import { Pick } from "./parts/Pick";
import { newQueries } from "./parts/queries";
import { JobContext, useJob } from "./parts/useJob";

const pages = [
  { to: "now", name: "Now" },
  { to: "points", name: "Points" },
  { to: "rules", name: "Rules" },
  { to: "bench", name: "Bench" },
];

/** The rail with the pages of a job, and the page that is open. */
export function Frame() {
  const { job = "" } = useParams();
  const jobs = useQuery({ queryKey: ["jobs"], queryFn: listJobs });
  const navigate = useNavigate();
  return (
    <InJob key={job} job={job}>
      {(jobs.data?.length ?? 0) > 1 && (
        <Pick label="Job" value={job} onChange={(other) => void navigate(`/${other}/bench`)} choices={(jobs.data ?? []).map((j) => ({ value: j.name, label: j.name, note: j.title }))} />
      )}
    </InJob>
  );
}

/** What is asked of a job is kept apart from what is asked of another. */
function InJob({ job, children }: { job: string; children: ReactNode }) {
  const asked = useMemo(() => inJob(job), [job]);
  const [queries] = useState(newQueries);
  return (
    <QueryClientProvider client={queries}>
      <JobContext value={asked}>
        <Pages>{children}</Pages>
      </JobContext>
    </QueryClientProvider>
  );
}

function Pages({ children }: { children: ReactNode }) {
  return (
    <div className="grid min-h-screen grid-cols-[132px_minmax(0,1fr)] max-sm:grid-cols-1">
      <nav aria-label="Pages" className="sticky top-0 flex h-screen flex-col gap-0.5 border-r border-line px-2.5 py-3.5 max-sm:static max-sm:h-auto max-sm:flex-row max-sm:border-r-0 max-sm:border-b">
        <div className="flex items-center gap-2 px-2 pb-4 text-[15px] font-semibold tracking-tight max-sm:pb-0">
          <Mark /> <span className="max-sm:hidden">Rectura</span>
        </div>
        {children && <div className="px-1 pb-2 max-sm:pb-0">{children}</div>}
        {pages.map((p) => (
          <NavLink key={p.to} to={p.to} className={({ isActive }) => `rounded-md px-2 py-1.5 ${isActive ? "bg-accent-weak font-semibold text-accent" : "text-ink-2 hover:text-ink"}`}>
            {p.name}
          </NavLink>
        ))}
        <Foot />
      </nav>
      <main className="min-w-0 px-4 py-3">
        <Outlet />
      </main>
    </div>
  );
}

function Mark() {
  return (
    <svg width="22" height="22" viewBox="0 0 22 22" aria-hidden="true">
      <rect x=".75" y=".75" width="20.5" height="20.5" rx="5" fill="none" stroke="var(--ink)" strokeWidth="1.5" />
      <path d="M4 13.5h14" stroke="var(--accent)" strokeWidth="1.5" strokeDasharray="2.5 2" />
      <path d="M4 7.5c3 0 3.5 9 7 9s3.5-9 7-9" fill="none" stroke="var(--ink)" strokeWidth="1.6" strokeLinecap="round" />
    </svg>
  );
}

function Foot() {
  const job = useJob();
  const revisions = useQuery({ queryKey: ["revisions"], queryFn: job.listRevisions });
  const newest = revisions.data?.[0];
  return (
    <div className="mt-auto flex flex-col items-start gap-2 p-2 text-xs text-ink-3 max-sm:mt-0 max-sm:ml-auto">
      {newest && (
        <span className="max-sm:hidden">
          {newest.title}
          <br />
          revision {newest.number}
        </span>
      )}
      <ThemeSwitch />
    </div>
  );
}

const themeKey = "rectura.theme";

/** Light or dark: what the system says, until a person says otherwise. */
function ThemeSwitch() {
  const [dark, setDark] = useState(() => {
    const chosen = localStorage.getItem(themeKey);
    return chosen ? chosen === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  });
  useEffect(() => {
    document.documentElement.classList.toggle("dark", dark);
  }, [dark]);
  const change = () => {
    localStorage.setItem(themeKey, dark ? "light" : "dark");
    setDark(!dark);
  };
  return (
    <button type="button" onClick={change} className="inline-flex items-center gap-1.5 rounded p-0.5 hover:text-ink" aria-pressed={dark}>
      {dark ? <Sun size={14} aria-hidden="true" /> : <Moon size={14} aria-hidden="true" />}
      {dark ? "Light" : "Dark"}
    </button>
  );
}
