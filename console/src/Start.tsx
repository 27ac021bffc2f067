import { useQuery } from "@tanstack/react-query";
import { Link, Navigate, useLocation } from "react-router";
import { listJobs } from "./api";
import { Code, Empty, Trouble } from "./parts/Notice";

const pages = ["points", "rules", "bench"];

/** Where no job is named yet: the only one is opened, of several one is chosen. */
export function Start() {
  const { pathname, search } = useLocation();
  const jobs = useQuery({ queryKey: ["jobs"], queryFn: listJobs });
  if (jobs.error) return <Trouble error={jobs.error} />;
  if (!jobs.data) return <p className="p-4 text-ink-3">Reading…</p>;
  const page = pages.find((p) => pathname === `/${p}`) ?? "bench";
  const [only] = jobs.data;
  if (only && jobs.data.length === 1) return <Navigate to={`/${only.name}/${page}${search}`} replace />;
  if (!only)
    return (
      <Empty title="No job is here yet">
        Push one from its folder with <Code>rectura push FOLDER</Code>.
      </Empty>
    );
  return (
    <main className="card mx-auto mt-16 max-w-xl">
      <header>
        <h1 className="font-semibold">Jobs</h1>
      </header>
      <ul aria-label="Jobs">
        {jobs.data.map((j) => (
          <li key={j.name} className="border-b border-line last:border-b-0">
            <Link to={`/${j.name}/${page}`} className="flex items-baseline gap-2 px-3 py-2 hover:bg-wash" data-job={j.name}>
              <b>{j.title || j.name}</b>
              <span className="font-mono text-[12.5px] text-ink-3">{j.name}</span>
              <span className="ml-auto text-xs text-ink-3">{j.newest ? `revision ${j.newest}` : "nothing kept yet"}</span>
            </Link>
          </li>
        ))}
      </ul>
    </main>
  );
}
