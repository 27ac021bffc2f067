import { useQueries, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import type { Replay, ReplayRequest, Transition } from "../api";
import { useJob } from "../parts/useJob";

/** How many changes are asked for at once; as far apart as the marks of a replay. */
export const pageSize = 1000;

/** The changes of a replay, of which there may be very many: those that are looked at are fetched in pages. */
export interface Changes {
  total: number;
  /** The change of an index, if its page is there. */
  at: (index: number) => Transition | undefined;
  /** The change of a number, if its page is there. */
  find: (number: number) => Transition | undefined;
  /** Asks for the page of a number. */
  loadNumber: (number: number) => void;
  /** Asks for the pages of some indices. */
  want: (from: number, to: number) => void;
  /** The change of an index, once its page is there. */
  load: (index: number) => Promise<Transition | undefined>;
  /** The index of the last change up to a time, once its page is there; -1 if there is none. */
  until: (t: number) => Promise<number>;
}

export function useChanges(replay: Replay, request: ReplayRequest): Changes {
  const job = useJob();
  const client = useQueryClient();
  const [wanted, setWanted] = useState<ReadonlySet<number>>(new Set());
  const pages = useMemo(() => [...wanted].sort((a, b) => a - b), [wanted]);
  const query = (p: number) => ({
    queryKey: ["changes", request, p],
    queryFn: async ({ signal }: { signal: AbortSignal }) => (await job.replay({ ...request, first: p * pageSize, most: pageSize }, signal)).transitions,
    staleTime: Infinity,
  });
  const fetched = useQueries({ queries: pages.map(query), combine: (all) => all.map((q) => q.data) });
  const known = new Map<number, Transition[]>([[0, replay.transitions]]);
  pages.forEach((p, i) => {
    const some = fetched[i];
    if (some) known.set(p, some);
  });
  const want = (some: number[]) => {
    const more = some.filter((p) => p > 0 && p < replay.marks.length && !wanted.has(p));
    if (more.length) setWanted((before) => new Set([...before, ...more]));
  };
  const page = async (p: number) => {
    want([p]);
    return known.get(p) ?? (await client.fetchQuery(query(p)));
  };
  return {
    total: replay.transitions_total,
    at: (index) => known.get(Math.floor(index / pageSize))?.[index % pageSize],
    find: (number) => {
      const p = replay.marks.findLastIndex((m) => m.number <= number);
      return known.get(p)?.find((t) => t.number === number);
    },
    loadNumber: (number) => want([replay.marks.findLastIndex((m) => m.number <= number)]),
    want: (from, to) => {
      const some = [];
      for (let p = Math.floor(from / pageSize); p <= Math.floor(to / pageSize); p++) some.push(p);
      want(some);
    },
    load: async (index) => (await page(Math.floor(index / pageSize)))?.[index % pageSize],
    until: async (t) => {
      const p = replay.marks.findLastIndex((m) => m.t <= t);
      return p < 0 ? -1 : p * pageSize + ((await page(p))?.findLastIndex((c) => c.t <= t) ?? -1);
    },
  };
}
