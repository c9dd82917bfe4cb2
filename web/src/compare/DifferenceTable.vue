<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, nextTick, ref, watch } from 'vue'
import type { Comparison, CompareRow } from '../api/client'
import DifferenceBar from '../components/DifferenceBar.vue'
import { useAddress } from '../composables/useAddress'
import { useKeys } from '../composables/useKeys'
import { count } from '../lib/format'
import { useFigures, verdictText } from './useFigures'

/** All functions, both sides. */
const props = defineProps<{ d: Comparison; focus: string; pins: string[] }>()
const emit = defineEmits<{ focus: [name: string]; pin: [name: string] }>()
const { figure, difference, factor } = useFigures()
const { text } = useAddress()
const by = text('by', 'self')
const filter = text('filter')
const sort = text('sort', 'difference')
const only = text('only')
const of = (r: CompareRow) => (by.value === 'total' ? r.total : r.self)
const rows = computed(() => {
  const needle = filter.value.toLowerCase()
  const pins = new Set(props.pins)
  const [which, order, certain] = [by.value, sort.value, only.value === 'told']
  const e = (r: CompareRow) => (which === 'total' ? r.total : r.self)
  const list = props.d.rows.filter((r) => (!needle || r.name.toLowerCase().includes(needle) || r.was.toLowerCase().includes(needle)) && (!certain || r.certain || pins.has(r.name)))
  const key = (r: CompareRow) => (order === 'baseline' ? e(r).baseline : order === 'candidate' ? e(r).candidate : order === 'ratio' ? Math.abs(Math.log((e(r).candidate || e(r).baseline / 64 || 1) / (e(r).baseline || e(r).candidate / 64 || 1))) : Math.abs(e(r).difference))
  const first = (r: CompareRow) => (pins.has(r.name) ? 1 : 0)
  return list.map((r) => ({ r, k: key(r), f: first(r) })).sort((a, b) => b.f - a.f || b.k - a.k).map((x) => x.r)
})
const most = computed(() => {
  let m = 1e-12
  for (const r of props.d.rows) m = Math.max(m, Math.abs(of(r).difference))
  return m
})
const scroller = ref<HTMLElement>()
const height = 30
const virtual = useVirtualizer(computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value ?? null, estimateSize: () => height, overscan: 6 })))
let mine = ''
watch([() => props.focus, scroller], async ([name]) => {
  if (!name || name === mine || !scroller.value) return
  await nextTick()
  const i = rows.value.findIndex((r) => r.name === name)
  if (i >= 0) virtual.value.scrollToIndex(i, { align: 'center' })
}, { flush: 'post' })
function choose(name: string) {
  mine = name
  emit('focus', name)
}
function walk(step: number) {
  const i = rows.value.findIndex((r) => r.name === props.focus)
  const to = Math.min(rows.value.length - 1, Math.max(0, i + step))
  if (!rows.value[to]) return
  choose(rows.value[to].name)
  virtual.value.scrollToIndex(to)
}
const field = ref<HTMLInputElement>()
useKeys({
  '/': () => field.value?.select(),
  p: () => props.focus && emit('pin', props.focus),
  ArrowDown: () => walk(1),
  ArrowUp: () => walk(-1),
  Escape: () => (filter.value ? (filter.value = '') : emit('focus', '')),
})
const heads = [
  { key: 'baseline', text: 'Baseline' },
  { key: 'candidate', text: 'Candidate' },
  { key: 'difference', text: 'Difference' },
  { key: 'ratio', text: 'Ratio' },
]
const grid = 'grid grid-cols-[minmax(130px,1fr)_72px_72px_80px_52px_minmax(80px,130px)_106px] items-center gap-x-2.5'
function verdict(r: CompareRow): string {
  if (r.state === 'new' || r.state === 'gone') return r.state + (r.certain ? '' : ', rare')
  return verdictText(of(r).verdict === 'too few takes to tell' ? 'too few takes' : of(r).verdict === 'no change shown' ? 'no change' : of(r).verdict, props.d.measure.unit)
}
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Functions on both sides">
    <div class="flex h-[36px] shrink-0 items-center gap-3 border-b border-rule px-3">
      <input ref="field" v-model="filter" class="field w-48 !py-0.5" placeholder="Find a function" aria-label="Find a function" @keydown.escape="filter = ''" />
      <div class="flex" role="group" aria-label="Which cost">
        <button v-for="k in ['self', 'total']" :key="k" class="border border-rule-strong px-2 py-0.5 first:border-r-0" :class="by === k ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="by === k" @click="by = k">{{ k }}</button>
      </div>
      <label class="flex items-center gap-1.5 whitespace-nowrap"><input type="checkbox" class="accent-ink" :checked="only === 'told'" @change="only = only ? '' : 'told'" />significant only</label>
      <span class="label ml-auto whitespace-nowrap">{{ count(rows.length) }} functions<template v-if="d.hidden">, {{ count(d.hidden) }} small ones left out</template></span>
    </div>
    <div class="flex min-h-0 flex-1 flex-col" role="table" aria-label="Differences">
      <div role="row" :class="grid" class="shrink-0 border-b border-rule-strong py-1 pr-3 pl-[15px]">
        <span role="columnheader" class="label">Function</span>
        <span v-for="h in heads" :key="h.key" role="columnheader" class="text-right" :aria-sort="sort === h.key ? 'descending' : 'none'"><button class="label hover:text-ink" :class="sort === h.key && '!text-ink underline underline-offset-4'" @click="sort = h.key">{{ h.text }}</button></span>
        <span role="columnheader" class="label flex"><span class="flex-1">− less</span><span>more +</span></span>
        <span role="columnheader" class="label">Verdict</span>
      </div>
      <div ref="scroller" class="min-h-0 flex-1 overflow-y-auto">
        <div class="relative" :style="{ height: virtual.getTotalSize() + 'px' }">
          <div
            v-for="v in virtual.getVirtualItems()"
            :key="rows[v.index].number"
            role="row"
            data-test="difference"
            :class="[grid, rows[v.index].name === focus ? '!border-l-focus bg-focus-wash' : 'hover:bg-wash']"
            class="absolute inset-x-0 cursor-pointer border-b border-l-[3px] border-transparent border-b-rule pr-3 pl-3"
            :style="{ top: v.start + 'px', height: height + 'px' }"
            :title="rows[v.index].was ? `${rows[v.index].name}\nwas ${rows[v.index].was}: ${rows[v.index].because}` : rows[v.index].name"
            @click="choose(rows[v.index].name)"
          >
            <button role="cell" class="code min-w-0 truncate text-left"><span v-if="pins.includes(rows[v.index].name)" class="mr-1 inline-block size-1.5 bg-ink align-middle" title="pinned" />{{ rows[v.index].short }}<span v-if="rows[v.index].was" class="label font-sans"> was another name</span></button>
            <span role="cell" class="text-right text-ink-2">{{ rows[v.index].state === 'new' ? '–' : figure(of(rows[v.index]).baseline) }}</span>
            <span role="cell" class="text-right">{{ rows[v.index].state === 'gone' ? '–' : figure(of(rows[v.index]).candidate) }}</span>
            <span role="cell" class="text-right" :class="of(rows[v.index]).verdict === 'slower' ? 'text-plum' : of(rows[v.index]).verdict === 'faster' ? 'text-teal' : 'text-ink-2'">{{ difference(of(rows[v.index]).difference) }}</span>
            <span role="cell" class="text-right text-ink-2">{{ factor(of(rows[v.index]).ratio) }}</span>
            <DifferenceBar role="cell" :value="of(rows[v.index]).difference / most" :low="of(rows[v.index]).low / most" :high="of(rows[v.index]).high / most" :state="rows[v.index].state" :certain="rows[v.index].certain" />
            <span role="cell" class="truncate" :class="!rows[v.index].certain && 'text-ink-3'">{{ verdict(rows[v.index]) }}</span>
          </div>
        </div>
        <p v-if="!rows.length" class="p-6 text-ink-2">{{ filter ? 'No function matches.' : 'No function changed significantly.' }} <button class="word" @click="(filter = ''), (only = '')">Show all</button></p>
      </div>
    </div>
  </section>
</template>
