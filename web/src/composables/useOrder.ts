import { ref, shallowRef } from 'vue'
import { api, type Settings, type TakeDetail } from '../api/client'

/** What is sent along with a take's key to have it made again: nothing where a job of this server made it, else what somebody has seen. */
export interface Order {
  settings?: Settings
  collector?: string
}

const asked = shallowRef<TakeDetail>()
const purpose = ref('')
let answer: ((order: Order | undefined) => void) | undefined

/** What the dialog asks about, and how it is answered. */
export function useOrderDialog() {
  return {
    asked,
    purpose,
    settle(order: Order | undefined) {
      asked.value = undefined
      answer?.(order)
      answer = undefined
    },
  }
}

/**
 * Finds out how a take's program may run again. A take that no job of this server made could say anything of
 * itself, so its command, user and folder are shown and have to be confirmed; undefined is a no.
 */
export async function orderFor(key: string, what: string): Promise<Order | undefined> {
  const detail = await api.take(key)
  if (detail.on_record) return {}
  answer?.(undefined)
  purpose.value = what
  asked.value = detail
  return new Promise((resolve) => (answer = resolve))
}
