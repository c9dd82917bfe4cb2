import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref, watch, type Ref } from 'vue'
import { api } from '../api/client'

/** How many spans a part has on average, at least: with fewer, steps would show chance. */
const inEach = 3

/** How many spans of a name ended in each part of a stretch of time; of the one that took longest together, where none is named. */
export function useRate(of: { take: Ref<string>; name: Ref<string>; bins: Ref<number>; begin?: Ref<number>; end?: Ref<number> }) {
  const each = ref(0) // spans a nanosecond, as far as is known
  const bins = computed(() => {
    const span = of.end && of.begin ? of.end.value - of.begin.value : whole.value
    return each.value && span ? Math.max(1, Math.min(of.bins.value, Math.round((each.value * span) / inEach))) : of.bins.value
  })
  const whole = ref(0)
  const asked = computed(() => ({ name: of.name.value || undefined, dots: 0, bins: bins.value, begin: of.begin?.value, end: of.end?.value }))
  const query = useQuery({
    queryKey: ['rate', of.take, asked],
    queryFn: ({ signal }) => api.spans(of.take.value, asked.value, signal),
    enabled: computed(() => of.bins.value > 0 && (asked.value.end === undefined || asked.value.end > (asked.value.begin ?? 0))),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  })
  watch(query.data, (d) => {
    if (!d?.name || !d.duration_ns) return
    whole.value = d.duration_ns
    each.value = d.all / d.duration_ns
  })
  return computed(() => {
    const d = query.data.value
    if (!d?.name || !d.rate.length) return undefined
    const part = (d.rate_to_ns - d.rate_from_ns) / 1e9 / d.rate.length // seconds
    const each = d.rate.map((n) => n / part)
    const short = d.names.find((n) => n.name === d.name)?.short ?? d.name
    return { name: d.name, short, names: d.names, from: d.rate_from_ns, to: d.rate_to_ns, each, highest: Math.max(...each), spans: d.all, ended: d.rate.reduce((a, b) => a + b, 0) }
  })
}

/** So many a second, as it is written. */
export const perSecond = (n: number) => (n >= 100 ? n.toFixed(0) : n >= 10 ? n.toFixed(1) : n.toFixed(2)).replace(/\.0+$/, '')
