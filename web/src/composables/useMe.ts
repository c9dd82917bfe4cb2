import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, type Me } from '../api/client'

const rank: Record<string, number> = { look: 1, work: 2, collect: 3 }

/** Who is signed in, and what they may do. */
export function useMe() {
  const queries = useQueryClient()
  const query = useQuery({ queryKey: ['me'], queryFn: api.me, staleTime: 60_000 })
  return {
    query,
    me: computed(() => query.data.value),
    may: (role: 'look' | 'work' | 'collect') => (rank[query.data.value?.role ?? ''] ?? 0) >= rank[role],
    /** Another person's answers must not be shown. */
    changed(me: Me | undefined) {
      queries.clear()
      if (me) queries.setQueryData(['me'], me)
    },
  }
}
