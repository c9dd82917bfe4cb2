<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { useElementSize } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { api, type Comparison, type ComparisonQuery } from '../api/client'
import SourceText from '../components/SourceText.vue'
import ErrorNote from '../components/ErrorNote.vue'
import WaitNote from '../components/WaitNote.vue'
import { useAddress } from '../composables/useAddress'
import { useHighlight } from '../composables/useHighlight'
import { useKeys } from '../composables/useKeys'
import { dark } from '../composables/useTheme'
import { count } from '../lib/format'
import { tint } from './paintMirror'
import { useFigures } from './useFigures'

/** The lines of the file of the function in focus, the baseline's beside the candidate's. */
const props = defineProps<{ question: ComparisonQuery; d: Comparison; focus: string }>()
const emit = defineEmits<{ focus: [name: string]; pin: [name: string] }>()
const { figure, difference } = useFigures()
const { text } = useAddress()
const by = text('lines', 'total')
const query = useQuery({
  queryKey: ['compare-lines', () => props.question, () => props.focus],
  queryFn: ({ signal }) => api.compareLines({ ...props.question, name: props.focus }, signal),
  enabled: computed(() => props.focus !== ''),
  placeholderData: keepPreviousData,
})
const l = computed(() => query.data.value)
const cost = computed(() => (by.value === 'self' ? l.value?.self : l.value?.total) ?? [[], []])
type Row = { at: number; a: number; b: number; d: number }
const rows = computed<Row[]>(() => (l.value?.line[0] ?? []).map((_, at) => ({ at, a: cost.value[0][at], b: cost.value[1][at], d: cost.value[1][at] - cost.value[0][at] })))
const whole = computed(() => Math.max(props.d.whole.baseline, props.d.whole.candidate) || 1)
// What would round to nothing is left out.
const worth = (v: number) => (Math.abs(v) >= 0.0005 * whole.value ? figure(v) : '')
const changed = (r: Row) => Math.abs(r.d) >= 0.003 * whole.value
const colour = (r: Row) => (changed(r) ? tint(r.a * props.d.steady, r.b, dark.value, 0.7) : undefined)
const costly = computed(() => rows.value.filter((r) => Math.abs(r.d) >= 0.0005 * whole.value).sort((x, y) => Math.abs(y.d) - Math.abs(x.d)))

const scroller = ref<HTMLElement>()
const height = 20
const virtual = useVirtualizer(computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value ?? null, estimateSize: () => height, overscan: 30 })))
const begins = computed(() => rows.value.findIndex((r) => (l.value!.sides[1].begin && l.value!.line[1][r.at] === l.value!.sides[1].begin) || (!l.value!.sides[1].begin && l.value!.sides[0].begin && l.value!.line[0][r.at] === l.value!.sides[0].begin)))
watch([l, scroller], () => l.value && requestAnimationFrame(() => virtual.value.scrollToIndex(Math.max(0, begins.value - 3), { align: 'start' })), { flush: 'post' })
const at = ref(-1)
watch(l, () => (at.value = -1))
function step(n: number) {
  const list = costly.value.slice(0, 40).sort((x, y) => x.at - y.at)
  if (!list.length) return
  const i = list.findIndex((r) => r.at === at.value)
  const to = i < 0 ? (n > 0 ? 0 : list.length - 1) : (i + n + list.length) % list.length
  at.value = list[to].at
  virtual.value.scrollToIndex(list[to].at, { align: 'center' })
}
useKeys({ ArrowDown: () => step(1), ArrowUp: () => step(-1), p: () => props.focus && emit('pin', props.focus), Escape: () => emit('focus', '') })

// Both builds shown in one text that may be neither's.
const oneText = computed(() => !!l.value && l.value.sides.every((s) => s.found && !s.delivered) && l.value.sides[0].found === l.value.sides[1].found)
const sides = computed(() => [props.d.baseline.name, props.d.candidate.name])
// Where there is no room for two texts, lines that both sides have stand once.
const { width } = useElementSize(scroller)
const wide = computed(() => width.value >= 1000)
const grid = computed(() => (wide.value ? 'grid grid-cols-[34px_64px_minmax(0,1fr)_34px_64px_84px_minmax(0,1fr)] gap-x-2' : 'grid grid-cols-[34px_34px_60px_60px_88px_minmax(0,1fr)] gap-x-2'))
const coloured = (k: number) => useHighlight(computed(() => l.value?.text[k] ?? []), computed(() => l.value?.sides[k].file ?? ''))
const [before, after] = [coloured(0), coloured(1)]
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Lines on both sides">
    <div class="flex h-[36px] shrink-0 items-center gap-3 border-b border-rule px-3">
      <div class="flex" role="group" aria-label="Which cost">
        <button v-for="k in ['self', 'total']" :key="k" class="border border-rule-strong px-2 py-0.5 first:border-r-0" :class="by === k ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="by === k" @click="by = k">{{ k }}</button>
      </div>
      <span v-if="l && focus" class="code min-w-0 truncate text-ink-2" :title="l.sides.map((s) => s.found || s.file).join('\n')">{{ l.sides[1].file || l.sides[0].file || 'file unknown' }}</span>
      <span v-if="l && focus" class="label ml-auto whitespace-nowrap">{{ count(costly.length) }} lines differ</span>
    </div>
    <p v-if="!focus" class="p-6 text-ink-2">Pick a function or a suspect to see its lines and what each costs on both sides.</p>
    <ErrorNote v-else-if="query.isError.value" :error="query.error.value" :retry="() => query.refetch()" />
    <WaitNote v-else-if="!l" what="Aligning the lines" />
    <template v-else>
      <template v-for="(s, k) in l.sides" :key="k">
        <p v-if="!s.name" class="border-b border-rule px-3 py-1 text-ink-2">{{ sides[k] }} does not have this function.</p>
        <p v-else-if="s.missing" class="border-b border-rule px-3 py-1 text-ink-2" data-test="no-source">No source of {{ sides[k] }} is shown: {{ s.missing }}.</p>
        <p v-if="s.total >= 0.0005 * whole" class="border-b border-rule px-3 py-1 text-ink-2">Of {{ figure(s.total) }} in {{ sides[k] }} no line is known.</p>
      </template>
      <p v-if="!l.by_text && rows.length" class="border-b border-rule px-3 py-1 text-ink-2">Lines are paired by number; they may have moved between the builds.</p>
      <p v-if="oneText" class="border-b border-rule px-3 py-1 text-ink-2" data-test="one-text">Both builds are shown with the source that is in the folder now, which may match neither. With <span class="code">take --with-source</span>, each keeps its own.</p>
      <div class="label shrink-0 border-b border-rule-strong px-3 py-0.5" :class="grid">
        <template v-if="wide"><span class="text-right">Line</span><span class="text-right">{{ sides[0] }}</span><span></span><span class="text-right">Line</span><span class="text-right">{{ sides[1] }}</span><span class="text-right">Difference</span><span></span></template>
        <template v-else><span class="col-span-2 text-right">Lines</span><span class="text-right">{{ sides[0] }}</span><span class="text-right">{{ sides[1] }}</span><span class="text-right">Difference</span><span></span></template>
      </div>
      <div ref="scroller" class="min-h-0 flex-1 overflow-auto bg-sheet">
        <div class="relative" :style="{ height: virtual.getTotalSize() + 'px' }">
          <div v-for="v in virtual.getVirtualItems()" :key="v.index" data-test="beside" class="absolute inset-x-0 border-l-[3px] px-[9px] leading-[20px]" :class="[grid, v.index === begins ? '!border-l-focus' : 'border-transparent', changed(rows[v.index]) && '[&_span]:!text-ink', at === v.index && 'outline-1 -outline-offset-1 outline-ink']" :style="{ top: v.start + 'px', height: height + 'px', background: colour(rows[v.index]) }">
            <template v-if="wide">
              <span class="text-right text-[11px] text-ink-2">{{ l.line[0][v.index] || '' }}</span>
              <span class="text-right text-ink-2">{{ worth(rows[v.index].a) }}</span>
              <SourceText :class="l.line[0][v.index] ? '' : 'bg-wash'" :title="l.text[0][v.index]" :text="l.text[0][v.index]" :pieces="before[v.index]" />
              <span class="text-right text-[11px] text-ink-2">{{ l.line[1][v.index] || '' }}</span>
              <span class="text-right">{{ worth(rows[v.index].b) }}</span>
              <span class="text-right font-medium">{{ Math.abs(rows[v.index].d) >= 0.0005 * whole ? difference(rows[v.index].d) : '' }}</span>
              <SourceText :class="!l.line[1][v.index] && 'bg-wash'" :title="l.text[1][v.index]" :text="l.text[1][v.index]" :pieces="after[v.index]" />
            </template>
            <template v-else>
              <span class="text-right text-[11px] text-ink-2">{{ l.line[0][v.index] || '' }}</span>
              <span class="text-right text-[11px] text-ink-2">{{ l.line[1][v.index] || '' }}</span>
              <span class="text-right text-ink-2">{{ worth(rows[v.index].a) }}</span>
              <span class="text-right">{{ worth(rows[v.index].b) }}</span>
              <span class="text-right font-medium whitespace-nowrap">{{ Math.abs(rows[v.index].d) >= 0.0005 * whole ? difference(rows[v.index].d) : '' }}</span>
              <span class="code truncate whitespace-pre" :title="l.text[1][v.index] || l.text[0][v.index]"><span v-if="l.by_text && (!l.line[0][v.index] || !l.line[1][v.index])" class="label mr-2 font-sans">{{ l.line[1][v.index] ? 'only ' + sides[1] : 'only ' + sides[0] }}</span><SourceText :text="l.text[1][v.index] || l.text[0][v.index]" :pieces="l.text[1][v.index] ? after[v.index] : before[v.index]" /></span>
            </template>
          </div>
        </div>
        <p v-if="!rows.length" class="p-6 text-ink-2">No lines are known on either side: the builds have no line information, or no sample falls in this file.</p>
      </div>
    </template>
  </section>
</template>
