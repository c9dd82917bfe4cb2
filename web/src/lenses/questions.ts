import { api, type Range } from '../api/client'

// What the lenses ask, in one place, since the page asks some of it ahead.

export type PathQuestion = { start?: string; node?: number; path?: string; heaviest?: boolean }

/** The steps that follow one of a path; from the beginning with the heaviest path. */
export const pathSteps = (takeKey: string, range: Range, q: PathQuestion) => ({ queryKey: ['paths', takeKey, range, q], queryFn: () => api.paths(takeKey, { ...range, ...q }), staleTime: Infinity })

/** Where the cost of a function comes in and where it goes on, some levels far. */
export const neighbours = (takeKey: string, range: Range, focus: string, levels: number) => ({ queryKey: ['neighbours', takeKey, range, focus, levels], queryFn: () => api.neighbours(takeKey, { ...range, name: focus, levels, most: 9 }) })

/** A block of lanes over a stretch of time. Fold and grouping are of no account to them. */
export const lanes = (takeKey: string, range: Range, q: { begin: number; end: number; parts: number; first: number; count: number; open: string; bare: boolean }) => ({
  queryKey: ['lanes', takeKey, range.scope, q],
  queryFn: ({ signal }: { signal: AbortSignal }) => api.lanes(takeKey, { scope: range.scope, ...q, open: q.open || undefined }, signal),
  staleTime: Infinity,
})

/** Events that the take recorded one by one, with how they are distributed. Fold and grouping are of no account to them. */
export const events = (takeKey: string, range: Range, kind: string, sort: string, column: string) => ({ queryKey: ['events', takeKey, range.scope, kind, sort, column], queryFn: () => api.events(takeKey, { scope: range.scope, kind: kind || undefined, sort, column: column || undefined, bins: 120 }), staleTime: Infinity })
