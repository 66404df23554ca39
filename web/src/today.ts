import { infiniteQueryOptions, queryOptions } from '@tanstack/vue-query'
import { api, got, type Day } from './api/client'
import { queries } from './live'

const kept = 3_600_000 // milliseconds after the page was left

/** What came and what was due in the last hours: of all feeds, or of those whose owner one is; pages of feeds. */
export const dayQuery = (hours: number, mine: boolean) =>
  infiniteQueryOptions({
    queryKey: ['day', hours, mine],
    initialPageParam: '',
    queryFn: ({ pageParam }) => got(api.GET('/api/v1/day', { params: { query: { hours, mine: mine || undefined, after: pageParam || undefined } } })),
    getNextPageParam: (last: Day) => last.next || undefined,
    refetchInterval: 30_000,
    refetchOnMount: 'always', // what was known is shown, and asked for again: its clock goes on
    gcTime: kept,
  })

export const statusQuery = () => queryOptions({ queryKey: ['status'], queryFn: () => got(api.GET('/api/v1/status')), gcTime: kept })

/** How many problems are asked for. */
export const problemsShown = 100

/** What needs a person, or is worth a look. */
export const problemsQuery = (mine: boolean) => queryOptions({ queryKey: ['problems', 'lasting', mine], queryFn: () => got(api.GET('/api/v1/problems', { params: { query: { mine, limit: problemsShown } } })), gcTime: kept })

/** Asks for what the page Today shows first: while the page itself is still being read, or before somebody goes there. */
export function beginToday() {
  void queries.prefetchInfiniteQuery(dayQuery(24, false))
  void queries.prefetchQuery(statusQuery())
  void queries.prefetchQuery(problemsQuery(false))
}
