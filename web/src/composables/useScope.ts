import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, type Ref } from 'vue'
import { api, type ScopePart } from '../api/client'
import { timeText } from '../lib/scopeText'
import { useAddress } from './useAddress'

/**
 * Which samples count: one expression in the address, and its conditions as the
 * server reads them. Conditions are changed one by one; the rest stays.
 */
export function useScope(take: Ref<string>) {
  const { text: word } = useAddress()
  const queries = useQueryClient()
  const text = word('scope')
  const options = (t: string) => ({ queryKey: ['scope', take.value, t], queryFn: () => api.scope(take.value, t), staleTime: Infinity })
  const query = useQuery(computed(() => ({ ...options(text.value), enabled: text.value !== '', placeholderData: keepPreviousData })))
  const read = computed(() => (text.value ? query.data.value : undefined))
  const parts = computed<ScopePart[]>(() => read.value?.parts ?? [])
  const time = computed(() => parts.value.find((p) => p.field === 'time' && !p.not))

  async function now(): Promise<ScopePart[]> {
    if (!text.value) return []
    const out = await queries.fetchQuery(options(text.value))
    return out.parts
  }
  const joined = (ps: { text: string }[]) => ps.map((p) => p.text).join(' and ')
  const put = (ps: { text: string }[]) => (text.value = joined(ps))

  /** Takes a condition off, or puts another one in its place. */
  async function replace(part: ScopePart, by?: string) {
    put((await now()).flatMap((p) => (p.text !== part.text ? [p] : by ? [{ text: by }] : [])))
  }
  async function add(...conditions: string[]) {
    const ps = await now()
    const more = conditions.filter((c) => !ps.some((p) => p.text === c))
    if (more.length) put([...ps, ...more.map((text) => ({ text }))])
  }
  /** The expression with another restriction of the time; without bounds with none. */
  async function within(from?: number, to?: number) {
    const others = (await now()).filter((p) => p.field !== 'time' || p.not)
    const bounds = [from ? `from ${timeText(from)}` : '', to ? `to ${timeText(to)}` : ''].filter(Boolean)
    return joined(bounds.length ? [...others, { text: `time ${bounds.join(' ')}` }] : others)
  }
  /** Restricts the time; without bounds it is released. */
  async function restrict(from?: number, to?: number) {
    text.value = await within(from, to)
  }
  async function toggle(condition: string) {
    const ps = await now()
    const others = ps.filter((p) => p.text !== condition)
    put(others.length < ps.length ? others : [...ps, { text: condition }])
  }
  return { text, parts, time, read, replace, add, within, restrict, toggle }
}
