/** The cache of what was asked of the server. */
import { QueryClient } from "@tanstack/react-query";

export const queries = new QueryClient({ defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false } } });
