import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { useJob } from "../parts/useJob";
import { Pick } from "./Pick";

/** The revision that the address names, or else the newest, and a menu to choose another. */
export function useRevision() {
  const job = useJob();
  const [params, setParams] = useSearchParams();
  const revisions = useQuery({ queryKey: ["revisions"], queryFn: job.listRevisions });
  const number = Number(params.get("revision") ?? revisions.data?.[0]?.number);
  const detail = useQuery({ queryKey: ["revision", number], queryFn: () => job.getRevision(number), enabled: Number.isFinite(number), staleTime: Infinity });
  const choose = (n: number | string) =>
    setParams((p) => {
      p.set("revision", String(n));
      return p;
    });
  return {
    none: revisions.data?.length === 0,
    detail: detail.data,
    error: revisions.error ?? detail.error,
    choose,
    menu: revisions.data && (
      <Pick label="Revision" value={String(number)} onChange={choose} choices={revisions.data.map((r) => ({ value: String(r.number), label: `Revision ${r.number}`, note: r.note }))} />
    ),
  };
}
