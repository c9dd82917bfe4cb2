<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, ApiError, type TakeDetail } from '../api/client'
import { amount, count, percent } from '../lib/format'

/**
 * What a take of the other kind says of the function in the same build: samples beside an exact run, and an exact run beside samples.
 * `share` is what the function costs itself here; `whole`: of CPU time or instructions, with nothing left out, so that both can be held against each other.
 */
const props = defineProps<{ detail: TakeDetail; name: string; share: number; whole: boolean }>()
const take = computed(() => props.detail.take)
const other = computed(() => props.detail.siblings.find((t) => t.key !== take.value.key && t.exact !== take.value.exact && t.build === take.value.build && t.build_id === take.value.build_id && !t.broken))
const range = computed(() => ({ measure: other.value?.exact ? 'instructions' : 'cpu' }))
const card = useQuery({
  queryKey: ['card', () => other.value?.key, () => range.value, () => props.name],
  queryFn: ({ signal }) => api.card(other.value!.key, { ...range.value, name: props.name }, signal),
  enabled: computed(() => !!other.value),
  retry: false,
})
const theirs = computed(() => (card.data.value ? card.data.value.self / (card.data.value.scope_total || 1) : 0))
const missing = computed(() => card.error.value instanceof ApiError && card.error.value.status === 404)
// Instructions that take much longer than the others of the program, or much less.
const said = computed(() => {
  if (!props.whole || !card.data.value || Math.max(theirs.value, props.share) < 0.02) return ''
  const [work, time] = take.value.exact ? [props.share, theirs.value] : [theirs.value, props.share]
  if (time > 1.5 * work) return 'Its instructions take longer than the others: it waits for memory, or for results of slow instructions.'
  if (work > 1.5 * time) return 'Its instructions take less time than the others: fewer of them gain less than their number suggests.'
  return ''
})
</script>

<template>
  <section v-if="other && (card.data.value || missing)" class="mt-3.5" :aria-label="other.exact ? 'In an exact run' : 'In samples'" data-test="other-kind">
    <h3 class="label mb-1 border-b border-rule pb-0.5">{{ other.exact ? 'In an exact run of this build' : 'In samples of this build' }}</h3>
    <p v-if="missing" class="text-ink-2">It is not there.</p>
    <p v-else-if="card.data.value">
      <RouterLink :to="{ name: 'take', params: { key: other.key }, query: { focus: name } }" class="word">{{ percent(theirs) }} {{ other.exact ? 'of all instructions' : 'of the CPU time' }}</RouterLink> itself<template v-if="other.exact && card.data.value.calls">, {{ count(card.data.value.calls) }} {{ card.data.value.calls === 1 ? 'call' : 'calls' }} of {{ count(Math.round(card.data.value.self / card.data.value.calls)) }} instructions each</template><template v-else-if="!other.exact">, {{ amount(card.data.value.self, 'ns') }} of {{ amount(card.data.value.scope_total, 'ns') }}</template>.
    </p>
    <p v-if="said" class="text-ink-2">{{ said }}</p>
  </section>
</template>
