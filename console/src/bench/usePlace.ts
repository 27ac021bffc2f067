import { useQuery } from "@tanstack/react-query";
import { getBench } from "../api";

/** How many requests the bench has before one of ours, while that waits; undefined if it does not. */
export function usePlace(name: string, waiting: boolean): number | undefined {
  const bench = useQuery({
    queryKey: ["bench", name],
    queryFn: ({ signal }) => getBench(signal),
    enabled: waiting,
    refetchInterval: 1000,
    staleTime: 0,
  });
  const place = waiting ? bench.data?.waiting.find((w) => w.request === name)?.place : undefined;
  return place === undefined || !bench.data ? undefined : place - 1 + bench.data.running;
}
