import { useRouter } from 'vue-router'
import { api, ApiError } from '../api/client'
import { useMe } from './useMe'
import { tell } from './useNotices'
import { orderFor } from './useOrder'

/** Takes a take again with the same settings. The focus goes along: the same function is what one looks for next. */
export function useAgain() {
  const router = useRouter()
  const { may } = useMe()
  return async function again(key: string, focus = '') {
    if (!key) return tell('Choose a take to make again.', { seconds: 5 })
    if (!may('collect')) return tell('You may not collect; ask somebody who manages people.', { bad: true, seconds: 6 })
    try {
      const order = await orderFor(key, 'Take it again')
      if (!order) return
      const job = await api.addJob({ again: key, ...order })
      await router.push({ name: 'running', params: { id: job.id }, query: { focus: focus || undefined } })
    } catch (e) {
      tell(e instanceof ApiError ? `${e.message}; ${e.remedy}` : (e as Error).message, { bad: true })
    }
  }
}
