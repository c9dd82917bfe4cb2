<script setup lang="ts">
import { Pin } from 'lucide-vue-next'
import { computed } from 'vue'
import type { Comparison } from '../api/client'
import FullName from '../components/FullName.vue'
import { dark } from '../composables/useTheme'
import { count, kindText, percent } from '../lib/format'
import { inkOf } from '../lib/palette'
import HandMatch from './HandMatch.vue'
import { useFigures, verdictText } from './useFigures'

/** The function in focus, on both sides. */
const props = defineProps<{ d: Comparison; focus: string; pinned: boolean }>()
const emit = defineEmits<{ pin: [name: string] }>()
const { figure, difference, change } = useFigures()
const row = computed(() => props.d.rows.find((r) => r.name === props.focus || r.was === props.focus))
const ink = computed(() => (row.value ? inkOf(row.value.kind, row.value.area, dark.value) : undefined))
const exact = computed(() => [...props.d.baseline.takes, ...props.d.candidate.takes].every((t) => t.take.exact))
/** What of a difference is of the number of calls, at what one cost before, and what of the cost of one: together all of it. */
function split(e: { baseline: number; candidate: number; difference: number }, calls: number[]): [number, number] | undefined {
  if (!calls.length || !calls[0] || !e.difference || props.d.measure.name === 'calls') return undefined
  const by = Math.round(((calls[1] - calls[0]) * e.baseline) / calls[0])
  return [by, e.difference - by]
}
const kinds = computed(() =>
  row.value
    ? [
        { name: 'Self', e: row.value.self, n: row.value.self_samples, split: split(row.value.self, row.value.calls) },
        { name: 'Total', e: row.value.total, n: row.value.total_samples, split: split(row.value.total, row.value.calls) },
      ]
    : [],
)
const colour = (v: string) => (v === 'slower' ? 'text-plum' : v === 'faster' ? 'text-teal' : 'text-ink-2')
</script>

<template>
  <aside class="h-full overflow-y-auto px-4 py-3" aria-label="Card of the function in focus" data-test="both-card">
    <p v-if="!focus" class="text-ink-2">Pick a function or a suspect to see its cost on both sides.</p>
    <p v-else-if="!row" class="text-ink-2"><span class="code">{{ focus }}</span> {{ d.hidden ? 'has no cost on either side in this scope, or is among the small functions left out here.' : 'has no cost on either side, in this scope.' }}</p>
    <template v-else>
      <div class="border-l-[3px] border-focus pl-2.5">
        <h2 class="code text-[14px] font-semibold break-words">{{ row.short }}</h2>
        <FullName v-if="row.short !== row.name" :name="row.name" linkage="" />
      </div>
      <p class="mt-1.5 flex items-start gap-1.5 text-ink-2"><span class="mt-1 size-2.5 shrink-0 border" :style="{ background: ink!.fill, borderColor: ink!.edge }" aria-hidden="true" />{{ kindText(row.kind) }}<template v-if="row.area">, {{ row.area }}</template></p>
      <HandMatch :key="row.number" :d="d" :row="row" />
      <div class="mt-2 flex flex-wrap gap-2">
        <RouterLink :to="{ name: 'take', params: { key: d.baseline.takes[0].take.key }, query: { focus: row.was || row.name } }" class="action !py-0.5">In {{ d.baseline.name }}</RouterLink>
        <RouterLink :to="{ name: 'take', params: { key: d.candidate.takes[0].take.key }, query: { focus: row.name } }" class="action !py-0.5">In {{ d.candidate.name }}</RouterLink>
        <RouterLink :to="{ name: 'over', params: { name: d.candidate.takes[0].take.program }, query: { focus: row.name } }" class="action !py-0.5">In all builds</RouterLink>
        <button class="action !py-0.5" :aria-pressed="pinned" @click="emit('pin', row.name)"><Pin class="size-3.5" :fill="pinned ? 'currentColor' : 'none'" />{{ pinned ? 'Pinned' : 'Pin' }}</button>
      </div>
      <section v-for="k in kinds" :key="k.name" class="mt-3.5" :aria-label="k.name">
        <h3 class="label mb-1 flex border-b border-rule pb-0.5"><span class="flex-1">{{ k.name }}</span><span :class="colour(k.e.verdict)">{{ row.state === 'new' || row.state === 'gone' ? row.state : verdictText(k.e.verdict, d.measure.unit) }}</span></h3>
        <p class="flex flex-wrap items-baseline gap-x-2"><span class="whitespace-nowrap" :class="exact ? 'text-[14px]' : 'text-[16px]'">{{ figure(k.e.baseline) }}</span><span class="text-ink-3">→</span><span class="whitespace-nowrap" :class="exact ? 'text-[14px]' : 'text-[16px]'">{{ figure(k.e.candidate) }}</span><b class="ml-auto font-medium whitespace-nowrap" :class="colour(k.e.verdict)">{{ difference(k.e.difference) }}</b></p>
        <p v-if="exact && k.e.low !== k.e.high" class="label">{{ difference(k.e.low) }} to {{ difference(k.e.high) }}, since runs of one side vary by that much</p>
        <p v-else-if="!exact" class="label">{{ difference(k.e.low) }} to {{ difference(k.e.high) }}, 95 %<template v-if="d.single">, sampling noise only</template></p>
        <p v-if="change(k.e)" class="label">{{ change(k.e) }}</p>
        <p v-if="k.e.verdict === 'too few takes to tell' && k.e.need" class="label">A change below {{ percent(k.e.seen, 0) }} would probably go unnoticed; {{ k.e.need }} takes a side would show it.</p>
        <p v-else-if="!exact && k.e.verdict === 'no change shown'" class="label">A change of {{ percent(k.e.seen, 0) }} would have been seen.</p>
        <p v-if="k.split" class="label">{{ difference(k.split[0]) }} by the number of calls, {{ difference(k.split[1]) }} by the cost of a call</p>
        <p v-if="!exact" class="label">{{ count(k.n[0]) }} and {{ count(k.n[1]) }} samples</p>
      </section>
      <section v-if="d.calls_counted" class="mt-3.5" aria-label="Calls" data-test="both-calls">
        <h3 class="label mb-1 border-b border-rule pb-0.5">Calls</h3>
        <p class="flex items-baseline gap-2"><span class="text-[16px]">{{ count(row.calls[0]) }}</span><span class="text-ink-3">→</span><span class="text-[16px]">{{ count(row.calls[1]) }}</span></p>
        <p v-if="row.calls[0] && row.calls[1]" class="label">a call costs {{ figure(row.total.baseline / row.calls[0]) }} → {{ figure(row.total.candidate / row.calls[1]) }} in total</p>
      </section>
    </template>
  </aside>
</template>
