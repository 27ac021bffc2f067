import { QueryClient } from "@tanstack/react-query";
import { Refused } from "../api";

/** What is asked of the service, and kept for a while. */
export const newQueries = () => new QueryClient({ defaultOptions: { queries: { retry: (n, error) => n < 2 && !(error instanceof Refused), refetchOnWindowFocus: false } } });
