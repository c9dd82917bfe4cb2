import { useQueryClient } from '@tanstack/vue-query'
import type { Ref } from 'vue'
import { api } from '../api/client'
import { tell } from './useNotices'

/** Changes of what a program was made to do: each is told, and can be undone. */
export function useWorkloads(program: Ref<string>) {
  const queries = useQueryClient()
  const fresh = () => Promise.all(['workloads', 'ledger', 'over', 'programs', 'takes', 'take'].map((k) => queries.invalidateQueries({ queryKey: [k] })))

  async function change(what: () => Promise<unknown>, said: string): Promise<boolean> {
    try {
      await what()
      tell(said, { seconds: 8, undo: () => void undo() })
      return true
    } catch (e) {
      tell((e as Error).message, { bad: true })
      return false
    } finally {
      await fresh()
    }
  }

  async function undo() {
    try {
      await api.undoWorkloads(program.value)
      tell('Undone.', { seconds: 3 })
    } catch (e) {
      tell((e as Error).message, { bad: true })
    }
    await fresh()
  }

  return { change, undo }
}
