// Reading again what a change made stale.
import type { Query, QueryClient } from "@tanstack/react-query";

/**
 * Has queries read again. One that is being read for the first time is not begun anew by that, and its answer may be
 * older than the change: it is read once more when it is there.
 */
export async function readAgain(client: QueryClient, stale: (query: Query) => boolean) {
  const first = client
    .getQueryCache()
    .findAll({ fetchStatus: "fetching", predicate: stale })
    .filter((query) => query.state.data === undefined);
  await client.invalidateQueries({ predicate: stale });
  if (first.length > 0) await client.invalidateQueries({ predicate: (query) => first.includes(query) });
}
