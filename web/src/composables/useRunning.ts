import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, type Job } from '../api/client'

/** The takes that are being made now, wherever one looks. */
export function useRunning() {
  const query = useQuery({
    queryKey: ['jobs', 'running'],
    queryFn: api.runningJobs,
    staleTime: 0,
    refetchInterval: (q) => (q.state.data?.jobs.length ? 1000 : 3000),
  })
  return { jobs: computed<Job[]>(() => query.data.value?.jobs ?? []), query }
}

/** Whom a take samples, in a few words. */
export function whom(j: Job): string {
  const s = j.settings
  if (s.whole_machine) return 'the whole machine'
  if (s.control_group) return s.control_group
  if (s.program) return s.program
  if (s.pids && s.pids.length > 1) return `${s.pids.length} processes`
  const name = s.command?.[0]?.split('/').at(-1) ?? 'a program'
  return s.pids?.length ? `${name}, process ${s.pids[0]}` : name
}
