<script setup lang="ts">
import { computed } from 'vue'
import type { Hot, TakeDetail } from '../api/client'
import { useMeasure } from '../composables/useMeasure'
import { count, kindText, percent, seconds, when } from '../lib/format'

/** What the card tells while no function is followed: of the take. */
const props = defineProps<{ detail: TakeDetail; hot?: Hot }>()
const { figure } = useMeasure()
const take = computed(() => props.detail.take)
// Whose code it is spent in.
const whose = computed(() => {
  const h = props.hot
  if (!h) return []
  const of = new Map<string, number>()
  h.functions.forEach((f, i) => of.set(f.kind, (of.get(f.kind) ?? 0) + h.self[i]))
  return [...of].filter(([, v]) => v > 0).sort((a, b) => b[1] - a[1])
})
const others = computed(() => props.detail.siblings.filter((t) => t.key !== take.value.key && t.workload_id === take.value.workload_id).slice(0, 8))
</script>

<template>
  <div data-test="take-card">
    <h2 class="text-[15px] font-medium">{{ take.program }} {{ take.build }}</h2>
    <p class="mt-0.5 text-ink-2">{{ when(take.started_at) }}, {{ seconds(take.duration_ns) }}</p>
    <p v-if="take.workload" class="code mt-1 text-[11.5px] break-words text-ink-2" title="Workload">{{ take.workload }}</p>
    <p class="mt-3">No function is in focus. Pick one in the list, in the flame graph or in the reading, and it stays in focus in every lens, take and comparison.</p>

    <section v-if="hot && whose.length" class="mt-3.5" aria-label="Whose code">
      <h3 class="label mb-1 flex border-b border-rule pb-0.5"><span class="flex-1">Whose code</span><span>in itself</span></h3>
      <div v-for="[kind, value] in whose" :key="kind" class="py-[2px]" :title="figure(value)">
        <span class="flex gap-2"><span class="min-w-0 flex-1 truncate">{{ kindText(kind) }}</span><span>{{ percent(value / (hot.total || 1)) }}</span></span>
        <span class="block h-[2px] bg-bar-pale" :style="{ width: (100 * value) / (hot.total || 1) + '%' }" aria-hidden="true" />
      </div>
    </section>

    <section v-if="others.length" class="mt-3.5" aria-label="Other takes">
      <h3 class="label mb-1 border-b border-rule pb-0.5">Other takes of {{ take.program }}</h3>
      <RouterLink v-for="t in others" :key="t.key" :to="{ name: 'take', params: { key: t.key } }" class="flex gap-2 py-[2px] hover:bg-wash"><span class="min-w-0 flex-1 truncate">{{ t.build }}</span><span class="text-ink-2">{{ when(t.started_at) }}</span></RouterLink>
      <RouterLink v-if="detail.siblings.length > others.length + 1" :to="{ name: 'takes', query: { program: take.program } }" class="word label">all {{ count(detail.siblings.length) }}</RouterLink>
    </section>
  </div>
</template>
