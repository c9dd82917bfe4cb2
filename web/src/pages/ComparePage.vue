<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { ArrowLeftRight } from 'lucide-vue-next'
import { computed, nextTick, ref, watch } from 'vue'
import { api, type CompareRow, type Take } from '../api/client'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import DifferenceBar from '../components/DifferenceBar.vue'
import EmptyTakes from '../components/EmptyTakes.vue'
import ErrorNote from '../components/ErrorNote.vue'
import WaitNote from '../components/WaitNote.vue'
import { useAddress } from '../composables/useAddress'
import { useAgain } from '../composables/useAgain'
import { useFocus } from '../composables/useFocus'
import { useKeys } from '../composables/useKeys'
import { usePins } from '../composables/usePins'
import { amount, count, percent, seconds, signed, when } from '../format'

const { text, change } = useAddress()
const baseline = text('baseline')
const candidate = text('candidate')
const scale = text('scale')
const measure = text('measure')
const by = text('by', 'self')
const filter = text('filter')
const sort = text('sort', 'difference')
const { focus, set: setFocus, step } = useFocus()
const again = useAgain()

const takes = useQuery({ queryKey: ['takes', 'choose'], queryFn: () => api.takes({ descending: true, limit: 300 }) })
const choices = computed(() => (takes.data.value?.takes ?? []).map((t: Take) => ({ value: t.key, text: `${t.program} ${t.build}`, note: when(t.started_at) })))

const ready = computed(() => baseline.value !== '' && candidate.value !== '')
const question = computed(() => ({ baseline: baseline.value, candidate: candidate.value, scale: scale.value || undefined, measure: measure.value || undefined }))
const result = useQuery({ queryKey: ['compare', question], queryFn: () => api.compare(question.value), enabled: ready, placeholderData: keepPreviousData })
const d = computed(() => (ready.value ? result.data.value : undefined))
const { pins, toggle: togglePin } = usePins(computed(() => d.value?.candidate.take.program ?? ''))

const scales = [
  { value: 'none', text: 'as they are' },
  { value: 'total', text: 'share of each total' },
  { value: 'second', text: 'for each second' },
]
const shownScale = computed({ get: () => scale.value || d.value?.scale || 'total', set: (v) => (scale.value = v) })

function figure(v: number): string {
  if (d.value?.unit === 'share') return percent(v, 2)
  if (d.value?.unit === 'ns/s') return (v / 1e6).toFixed(2)
  return amount(v, d.value?.measure.unit ?? 'ns')
}
const total = (v: number) => (d.value?.measure.unit === 'ns' ? seconds(v) : amount(v, d.value?.measure.unit ?? ''))
/** A difference of shares is in points, not in percent. */
function difference(v: number): string {
  return signed(d.value?.unit === 'share' ? (100 * v).toFixed(2).replace('-', '−') + '\u00a0points' : figure(v), v)
}
const side = (r: CompareRow) => (by.value === 'total' ? { a: r.baseline.total, b: r.candidate.total, delta: r.delta_total, error: r.error_total } : { a: r.baseline.self, b: r.candidate.self, delta: r.delta_self, error: r.error_self })

const rows = computed(() => {
  const needle = filter.value.toLowerCase()
  const list = (d.value?.rows ?? []).filter((r) => !needle || r.name.toLowerCase().includes(needle))
  const key = (r: CompareRow) => (sort.value === 'baseline' ? side(r).a : sort.value === 'candidate' ? side(r).b : Math.abs(side(r).delta))
  const first = (r: CompareRow) => (pins.value.includes(r.name) ? 1 : 0)
  return [...list].sort((a, b) => first(b) - first(a) || key(b) - key(a))
})
const most = computed(() => Math.max(1e-12, ...(d.value?.rows ?? []).map((r) => Math.abs(side(r).delta))))

const stateText: Record<string, string> = { same: 'within chance', changed: 'changed', new: 'new', gone: 'gone' }
const stateHelp: Record<string, string> = {
  same: 'Sampling alone explains a difference of this size.',
  changed: 'More than 3.29 standard errors: sampling alone hardly explains it. Differences between runs are not in this yet.',
  new: 'Only the candidate has samples of it.',
  gone: 'Only the baseline has samples of it.',
}

const label = computed(() => {
  const l = d.value?.measure.label ?? 'CPU time'
  return l.charAt(0).toUpperCase() + l.slice(1)
})
const measures = computed(() => (d.value?.measures ?? []).map((m) => ({ value: m.name, text: m.label.charAt(0).toUpperCase() + m.label.slice(1) })))
const shownMeasure = computed({ get: () => measure.value || d.value?.measure.name || '', set: (v) => (measure.value = v) })
const figureOf = (v: number) => amount(v, d.value?.measure.unit ?? 'ns')

const whole = computed(() => {
  if (!d.value) return ''
  const { baseline: a, candidate: b } = d.value
  const more = b.total - a.total
  const took = `${b.take.build} takes ${figureOf(Math.abs(more))} ${more >= 0 ? 'more' : 'less'} ${d.value.measure.label} than ${a.take.build} (${signed(percent(more / (a.total || 1)), more)})`
  const changed = d.value.rows.filter((r) => r.state === 'changed').length
  const fresh = d.value.rows.filter((r) => r.state === 'new' && r.certain).length
  return `${took}. ${count(changed)} functions changed by more than chance, ${count(fresh)} are new.`
})
const top = computed(() => [...(d.value?.rows ?? [])].sort((a, b) => b.delta_self - a.delta_self)[0])

function exchange() {
  change({ baseline: candidate.value, candidate: baseline.value })
}

const scroller = ref<HTMLElement>()
const height = 32
const virtual = useVirtualizer(computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value ?? null, estimateSize: () => height, overscan: 12 })))
let mine = ''
watch([focus, () => d.value], async ([name]) => {
  if (!name || name === mine) return
  await nextTick()
  const i = rows.value.findIndex((r) => r.name === name)
  if (i >= 0) virtual.value.scrollToIndex(i, { align: 'center' })
})
function choose(name: string) {
  mine = name
  setFocus(name)
}
function walk(by: number) {
  const i = rows.value.findIndex((r) => r.name === focus.value)
  const to = Math.min(rows.value.length - 1, Math.max(0, i + by))
  if (rows.value[to]) setFocus(rows.value[to].name)
}
const field = ref<HTMLInputElement>()
useKeys({
  x: exchange,
  r: () => void again(candidate.value, focus.value),
  '/': () => field.value?.select(),
  p: () => focus.value && togglePin(focus.value),
  ArrowDown: () => walk(1),
  ArrowUp: () => walk(-1),
  Escape: () => (filter.value ? (filter.value = '') : setFocus('')),
  ',': () => step(-1),
  '.': () => step(1),
})
const focused = computed(() => d.value?.rows.find((r) => r.name === focus.value))
const grid = 'grid grid-cols-[minmax(200px,1fr)_96px_96px_104px_minmax(160px,240px)_104px] items-center gap-x-3'
const heads = [
  { key: 'baseline', text: 'Baseline' },
  { key: 'candidate', text: 'Candidate' },
  { key: 'difference', text: 'Difference' },
]
</script>

<template>
  <div class="flex h-full flex-col">
    <header class="flex h-[52px] shrink-0 items-center gap-2.5 border-b border-rule px-4">
      <h1 class="flex items-baseline gap-1.5 text-[15.5px] whitespace-nowrap">
        <ChoiceMenu v-if="(d?.measures.length ?? 0) > 1" v-model="shownMeasure" :choices="measures" name="Measure" plain class="font-medium" /><span v-else class="text-ink-2">{{ label }}</span>
        <span class="text-ink-2">of</span><ChoiceMenu v-model="baseline" :choices="choices" name="Baseline" plain class="font-medium" />
        <button class="self-center text-ink-2 hover:text-ink" aria-label="Exchange the sides" title="Exchange the sides (x)" @click="exchange"><ArrowLeftRight class="size-4" /></button>
        <span class="text-ink-2">against</span><ChoiceMenu v-model="candidate" :choices="choices" name="Candidate" plain class="font-medium" />
        <span class="text-ink-2">figures</span><ChoiceMenu v-model="shownScale" :choices="scales" name="Scale" plain />
      </h1>
      <div class="flex-1" />
      <p v-if="d" class="text-right leading-tight whitespace-nowrap"><span class="label">100 % =</span> {{ total(d.baseline.total) }} · {{ count(d.baseline.samples) }} samples <span class="label">and</span> {{ total(d.candidate.total) }} · {{ count(d.candidate.samples) }}</p>
    </header>

    <ErrorNote v-if="takes.isError.value" :error="takes.error.value" :retry="() => takes.refetch()" />
    <EmptyTakes v-else-if="takes.data.value && !takes.data.value.count" />
    <div v-else-if="!ready" class="max-w-[560px] p-8">
      <h2 class="text-[20px] font-medium">Two takes, function by function</h2>
      <p class="mt-2 text-ink-2">Choose the baseline, the take that was good, and the candidate, the one that you wonder about.</p>
      <div class="mt-4 grid grid-cols-[90px_1fr] items-center gap-y-3">
        <span>Baseline</span><ChoiceMenu v-model="baseline" :choices="[{ value: '', text: 'choose a take' }, ...choices]" name="Baseline" />
        <span>Candidate</span><ChoiceMenu v-model="candidate" :choices="[{ value: '', text: 'choose a take' }, ...choices]" name="Candidate" />
      </div>
    </div>
    <ErrorNote v-else-if="result.isError.value" :error="result.error.value" :retry="() => result.refetch()" />
    <WaitNote v-else-if="!d" what="Comparing" />
    <template v-else>
      <section class="border-b border-rule px-4 py-2 text-[14.5px] leading-snug" aria-label="Reading">
        {{ whole }}
        <template v-if="top && top.delta_self > 0">
          The largest growth is in <button class="word font-medium" :class="top.name === focus && '!border-b-2 !border-focus'" @click="choose(top.name)">{{ top.short }}</button> itself: {{ difference(top.delta_self) }}.
        </template>
        <span v-for="w in d.warnings" :key="w.code" class="block text-[13px] text-alarm">{{ w.text }} <span class="text-ink-2">{{ w.remedy }}</span></span>
      </section>
      <div class="flex min-h-0 flex-1 flex-col px-4 pt-2" role="table" aria-label="Differences">
        <div class="mb-1.5 flex items-center gap-3">
          <input ref="field" v-model="filter" class="field w-64 !py-0.5" placeholder="Find a function" aria-label="Find a function" />
          <div class="flex" role="group" aria-label="Which cost">
            <button v-for="k in ['self', 'total']" :key="k" class="border border-rule-strong px-2 py-0.5 first:border-r-0" :class="by === k ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="by === k" @click="by = k">{{ k }}</button>
          </div>
          <span class="label">{{ count(rows.length) }} functions<template v-if="d.unit === 'ns/s'">; figures in ms for each second</template></span>
          <div class="flex-1" />
          <span v-if="focused" class="flex min-w-0 items-center gap-3">
            <span class="code truncate border-l-[3px] border-focus pl-2">{{ focused.short }}</span>
            <RouterLink :to="{ name: 'take', params: { key: baseline }, query: { focus } }" class="action !py-0.5">Open in {{ d.baseline.take.build }}</RouterLink>
            <RouterLink :to="{ name: 'take', params: { key: candidate }, query: { focus } }" class="action !py-0.5">Open in {{ d.candidate.take.build }}</RouterLink>
          </span>
        </div>
        <div role="row" :class="grid" class="border-b border-rule-strong pb-1 pl-2">
          <span role="columnheader" class="label">Function</span>
          <span v-for="h in heads" :key="h.key" role="columnheader" class="text-right" :aria-sort="sort === h.key ? 'descending' : 'none'">
            <button class="label hover:text-ink" :class="sort === h.key && '!text-ink underline underline-offset-4'" @click="sort = h.key">{{ h.text }}</button>
          </span>
          <span role="columnheader" class="label flex"><span class="flex-1">− cheaper</span><span>costlier +</span></span>
          <span role="columnheader" class="label">State</span>
        </div>
        <div ref="scroller" class="min-h-0 flex-1 overflow-y-auto">
          <div class="relative" :style="{ height: virtual.getTotalSize() + 'px' }">
            <div
              v-for="v in virtual.getVirtualItems()"
              :key="v.index"
              role="row"
              data-test="difference"
              :class="[grid, rows[v.index].name === focus ? '!border-l-focus bg-focus-wash' : 'hover:bg-wash']"
              class="absolute inset-x-0 cursor-pointer border-b border-l-[3px] border-transparent border-b-rule pl-[5px]"
              :style="{ top: v.start + 'px', height: height + 'px' }"
              :title="rows[v.index].name"
              @click="choose(rows[v.index].name)"
            >
              <button class="code min-w-0 truncate text-left"><span v-if="pins.includes(rows[v.index].name)" class="mr-1 inline-block size-1.5 bg-ink align-middle" title="pinned" />{{ rows[v.index].short }}</button>
              <span class="text-right text-ink-2">{{ rows[v.index].state === 'new' ? '–' : figure(side(rows[v.index]).a) }}</span>
              <span class="text-right">{{ rows[v.index].state === 'gone' ? '–' : figure(side(rows[v.index]).b) }}</span>
              <span class="text-right" :class="!rows[v.index].certain ? 'text-ink-3' : side(rows[v.index]).delta > 0 ? 'text-plum' : side(rows[v.index]).delta < 0 ? 'text-teal' : ''">{{ difference(side(rows[v.index]).delta) }}</span>
              <DifferenceBar :value="side(rows[v.index]).delta / most" :error="(1.96 * side(rows[v.index]).error) / most" :state="rows[v.index].state" :certain="rows[v.index].certain" />
              <span :class="!rows[v.index].certain && 'text-ink-3'" :title="stateHelp[rows[v.index].state]">{{ stateText[rows[v.index].state] }}<template v-if="!rows[v.index].certain && rows[v.index].state !== 'same'">, rare</template></span>
            </div>
          </div>
          <p v-if="!rows.length" class="p-6 text-ink-2">No function has this in its name. <button class="word" @click="filter = ''">Show all</button></p>
        </div>
      </div>
    </template>
  </div>
</template>
