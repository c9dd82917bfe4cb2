import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, type Ref } from 'vue'
import { api, ApiError } from '../api/client'
import { useMe } from './useMe'
import { tell } from './useNotices'

type Pins = Awaited<ReturnType<typeof api.pins>>

/** What was asked for before has been answered then. */
let queue: Promise<unknown> = Promise.resolve()

/** The functions that stay on top of a program's lists, for everybody who looks at it. */
export function usePins(program: Ref<string>) {
  const queries = useQueryClient()
  const { may } = useMe()
  const key = computed(() => ['pins', program.value])
  const query = useQuery({ queryKey: key, queryFn: () => api.pins(program.value), enabled: computed(() => program.value !== ''), staleTime: 30_000 })
  const pins = computed(() => query.data.value?.functions ?? [])
  async function toggle(name: string) {
    if (!name || !program.value) return
    if (!may('work')) return tell('You may look, but not pin; ask somebody who manages people.', { bad: true, seconds: 6 })
    const mine = key.value
    let before: string[] | undefined
    try {
      // What is not known yet is waited for, and an answer that is under way would undo what is shown now.
      await queries.ensureQueryData({ queryKey: mine, queryFn: () => api.pins(mine[1]) })
      await queries.cancelQueries({ queryKey: mine })
      before = queries.getQueryData<Pins>(mine)?.functions ?? []
      const on = !before.includes(name)
      // What was asked for is shown at once, and taken back where the server does not agree.
      queries.setQueryData(mine, { functions: on ? [...before, name] : before.filter((n) => n !== name) })
      // One after the other: what is asked for last is what holds.
      const asked = queue.then(() => api.setPin(mine[1], name, on))
      const settled = asked.catch(() => undefined)
      queue = settled
      const now = await asked
      if (queue !== settled) return
      queries.setQueryData(mine, now)
      // A ledger has the pinned functions' rows, and may have been asked for before the pin was there.
      const ledger = { queryKey: ['ledger', mine[1]] }
      await queries.cancelQueries(ledger)
      await queries.invalidateQueries(ledger)
    } catch (e) {
      if (before) queries.setQueryData(mine, { functions: before })
      tell(e instanceof ApiError ? `${e.message}; ${e.remedy}` : (e as Error).message, { bad: true })
    }
  }
  return { pins, toggle }
}
