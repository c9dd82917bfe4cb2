<script setup lang="ts">
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { ChartSpline, Check, Pin } from 'lucide-vue-next'
import { computed, ref, watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, type Ledger } from '../api/client'
import { tint } from '../compare/paintMirror'
import { verdictText } from '../compare/useFigures'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import ErrorNote from '../components/ErrorNote.vue'
import WaitNote from '../components/WaitNote.vue'
import WorkloadsDialog from '../components/WorkloadsDialog.vue'
import { useAddress } from '../composables/useAddress'
import { useFocus } from '../composables/useFocus'
import { useKeys } from '../composables/useKeys'
import { useMe } from '../composables/useMe'
import { tell } from '../composables/useNotices'
import { usePins } from '../composables/usePins'
import { dark } from '../composables/useTheme'
import { amount, count, duration, percent, seconds, signed, when } from '../lib/format'

/** A program's home: its builds side by side, function by function, and its takes. */
const route = useRoute()
const router = useRouter()
const program = computed(() => String(route.params.name))
const { text } = useAddress()
const scale = text('scale')
const measure = text('measure')
const workload = text('workload')
const by = text('by', 'total')
const filter = text('filter')
const { focus, set: setFocus, step } = useFocus()
const { pins, toggle: togglePin } = usePins(program)
const query = useQuery({ queryKey: ['ledger', program, scale, measure, workload, pins], queryFn: () => api.ledger(program.value, { scale: scale.value || undefined, measure: measure.value || undefined, workload: workload.value || undefined }), placeholderData: keepPreviousData, staleTime: 0 })
const shownId = computed(() => (query.data.value?.workload.id ? String(query.data.value.workload.id) : undefined))
const takes = useQuery({ queryKey: ['takes', 'of', program, shownId], queryFn: () => api.takes({ program: program.value, workload: shownId.value, descending: true, limit: 60 }), staleTime: 0 })
const d = computed(() => query.data.value)
watchEffect(() => (document.title = `${program.value} – Entelon`))

const scales = computed(() => (d.value?.scales ?? []).map((s) => ({ value: s.name, text: s.text })))
const shownScale = computed({ get: () => scale.value || d.value?.scale || '', set: (v) => (scale.value = v) })
const measures = computed(() => (d.value?.measures ?? []).map((m) => ({ value: m.name, text: m.label })))
// Another measure may not have the scale of this one.
const shownMeasure = computed({ get: () => d.value?.measure ?? '', set: (v) => ((measure.value = v), (scale.value = '')) })
const workloads = computed(() => (d.value?.workload.workloads ?? []).map((w) => ({ value: String(w.id), text: w.name, note: `${count(w.takes)} of ${count(w.builds)}` })))
// Another workload may have been measured by other things, and counted otherwise.
const shownWorkload = computed({ get: () => String(d.value?.workload.id ?? ''), set: (v) => ((workload.value = v), (measure.value = ''), (scale.value = '')) })
const naming = ref(false)
const unit = computed(() => d.value?.plain_unit ?? 'ns')
const shares = computed(() => d.value?.scale === 'share')
const figure = (v: number) => (v === 0 ? '–' : shares.value ? percent(v, 1) : amount(v, unit.value))

type Row = Ledger['rows'][number]
const of = (r: Row) => (by.value === 'self' ? r.self : r.total)
const rows = computed(() => {
  const needle = filter.value.toLowerCase()
  return (d.value?.rows ?? []).filter((r) => r.pinned || !needle || r.name.toLowerCase().includes(needle))
})
// A quiet tint against the build before, only for what is worth a look: of exact runs, small differences are, too.
const worth = computed(() => (d.value?.exact ? 0.0003 : 0.003) * (shares.value ? 1 : Math.max(0, ...(d.value?.builds ?? []).map((b) => b.mean))))
function cell(r: Row, k: number): string | undefined {
  const v = of(r)
  if (!k) return undefined
  // The share of what did not change differs where the rest grew or shrank.
  const before = shares.value ? v[k - 1] * d.value!.builds[k].steady : v[k - 1]
  if ((shares.value && !d.value!.builds[k].steady) || Math.abs(v[k] - before) < worth.value) return undefined
  const ratio = v[k] / (before || v[k] / 8)
  const enough = d.value?.exact ? 1.001 : 1.2
  return ratio > enough || ratio < 1 / enough ? tint(before, v[k], dark.value, 0.6) : undefined
}
const most = computed(() => Math.max(1, ...(d.value?.builds ?? []).map((b) => b.high)))
const changeText = (b: Ledger['builds'][number]) => signed(percent(b.change - 1, Math.abs(b.change - 1) < 0.0995 ? 1 : 0), b.change - 1)
const grid = computed(() => ({ gridTemplateColumns: `minmax(220px, 320px) repeat(${d.value?.builds.length ?? 1}, minmax(118px, 190px))` }))

// From one column to another: by dragging, or by choosing two with the keyboard.
const from = ref(-1)
const over = ref(-1)
const compare = (a: number, b: number) => {
  const builds = d.value?.builds
  if (!builds || a < 0 || b < 0 || a === b) return
  void router.push({ name: 'compare', query: { baseline: builds[Math.min(a, b)].takes.slice(-40).join(','), candidate: builds[Math.max(a, b)].takes.slice(-40).join(','), focus: focus.value || undefined, measure: measure.value || undefined } })
}
function choose(k: number) {
  if (from.value < 0) from.value = k
  else {
    compare(from.value, k)
    from.value = -1
  }
}
const open = (r: Row, k: number) => router.push({ name: 'take', params: { key: d.value!.builds[k].takes.at(-1)! }, query: { focus: r.name, measure: measure.value || undefined } })

const queries = useQueryClient()
const { may } = useMe()
async function settle(id: number, settled: boolean) {
  try {
    await api.settleNote(id, settled)
    tell(settled ? 'The note is settled.' : 'The note is open again.', { seconds: 8, undo: () => void settle(id, !settled) })
  } catch (e) {
    tell((e as Error).message, { bad: true })
  }
  await Promise.all(['ledger', 'notes'].map((k) => queries.invalidateQueries({ queryKey: [k] })))
}

const scroller = ref<HTMLElement>()
const height = 28
const virtual = useVirtualizer(computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value ?? null, estimateSize: () => height, overscan: 8 })))
function walk(by: number) {
  const i = rows.value.findIndex((r) => r.name === focus.value)
  const to = Math.min(rows.value.length - 1, Math.max(0, i + by))
  if (!rows.value[to]) return
  setFocus(rows.value[to].name)
  virtual.value.scrollToIndex(to)
}
const field = ref<HTMLInputElement>()
useKeys({
  '/': () => field.value?.select(),
  ArrowDown: () => walk(1),
  ArrowUp: () => walk(-1),
  Enter: () => {
    const r = rows.value.find((x) => x.name === focus.value)
    if (r && d.value) void open(r, d.value.builds.length - 1)
  },
  p: () => focus.value && void togglePin(focus.value),
  x: () => d.value && compare(d.value.builds.length - 2, d.value.builds.length - 1),
  Escape: () => (from.value >= 0 ? (from.value = -1) : filter.value ? (filter.value = '') : setFocus('')),
  ',': () => step(-1),
  '.': () => step(1),
})
</script>

<template>
  <div class="flex h-full flex-col">
    <header class="flex h-[52px] shrink-0 items-center gap-2.5 border-b border-rule px-4">
      <h1 class="flex items-baseline gap-1.5 text-[15.5px]"><span class="text-ink-2">Ledger of</span><span class="font-medium">{{ program }}</span><template v-if="d"><ChoiceMenu v-if="measures.length > 1" v-model="shownMeasure" :choices="measures" name="Measure" plain /><span v-else class="text-ink-2">{{ d.label }}</span><ChoiceMenu v-model="shownScale" :choices="scales" name="Scale" plain /></template></h1>
      <div class="flex-1" />
      <span v-if="d && d.workload.count > 1" class="flex min-w-0 items-baseline gap-1.5" data-test="workload"><span class="text-ink-2">workload</span><ChoiceMenu v-model="shownWorkload" :choices="workloads" name="Workload" plain right /></span>
      <button v-if="d?.workload.others" class="word label" title="Name, merge and choose workloads" @click="naming = true">{{ count(d.workload.others) }} {{ d.workload.others === 1 ? 'take' : 'takes' }} of other workloads</button>
      <span v-if="d?.no_yardstick" class="label min-w-0 truncate" :title="`The takes differ in length or load, and ${d.no_yardstick}.`">{{ d.no_yardstick }}</span>
      <span v-if="d?.without" class="label">{{ count(d.without) }} {{ d.without === 1 ? 'take does' : 'takes do' }} not have this measure</span>
      <span v-if="from >= 0" class="label">Choose the build to compare {{ d?.builds[from].name }} with, or Escape</span>
      <RouterLink :to="{ name: 'takes', query: { program, workload: shownId } }" class="word text-ink-2">{{ count(takes.data.value?.count ?? 0) }} takes</RouterLink>
    </header>
    <WorkloadsDialog :open="naming" :program="program" @close="naming = false" />
    <ErrorNote v-if="query.isError.value" :error="query.error.value" :retry="() => query.refetch()" />
    <WaitNote v-else-if="!d" what="Reading the ledger" />
    <p v-else-if="!d.builds.length" class="p-8 text-ink-2">There is no take of {{ program }} yet. Make one: <span class="code">entelon take -- ./{{ program }}</span></p>
    <div v-else class="flex min-h-0 flex-1 flex-col overflow-x-auto">
      <p v-for="x in d.shifts.filter((s) => s.unmarked)" :key="x.build" class="shrink-0 border-b border-rule bg-wash px-4 py-1" data-test="shift">
        From <RouterLink :to="{ name: 'take', params: { key: d.builds.find((b) => b.name === x.build)!.takes.at(-1)! } }" class="word">{{ x.build }}</RouterLink> on, a take costs {{ percent(Math.abs(x.change - 1)) }} {{ x.change > 1 ? 'more' : 'less' }} than before ({{ signed(percent(x.low - 1), x.low - 1) }} to {{ signed(percent(x.high - 1), x.high - 1) }}), though no build by itself stands out: a slow drift, or a small step.
      </p>
      <div class="flex min-h-0 w-max min-w-full flex-1 flex-col" role="table" :aria-label="`Builds of ${program}`">
        <div role="row" class="grid shrink-0 border-b border-rule-strong" :style="grid">
          <div role="columnheader" class="sticky left-0 z-10 flex flex-col justify-end gap-2 border-r border-rule bg-paper px-4 pt-3 pb-1.5">
            <span class="label">Builds in the order of their first takes: a take's {{ d.label }}{{ d.exact ? ', counted in exact runs' : ', with the 95 % interval of its mean' }}</span>
            <span class="flex items-center gap-2">
              <input ref="field" v-model="filter" class="field min-w-0 flex-1 !py-0.5" placeholder="Find a function" aria-label="Find a function" @keydown.escape="filter = ''" />
              <span class="flex" role="group" aria-label="Which cost"><button v-for="k in ['self', 'total']" :key="k" class="border border-rule-strong px-2 py-0.5 first:border-r-0" :class="by === k ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="by === k" @click="by = k">{{ k }}</button></span>
            </span>
          </div>
          <div
            v-for="(b, k) in d.builds"
            :key="b.name"
            role="columnheader"
            data-test="build"
            draggable="true"
            class="flex flex-col border-r border-rule px-3 pt-2 pb-1.5"
            :class="[over === k && from !== k && 'bg-wash', from === k && 'outline-2 -outline-offset-2 outline-ink']"
            @dragstart="from = k"
            @dragover.prevent="over = k"
            @dragleave="over = -1"
            @drop.prevent="compare(from, k), (over = -1)"
            @dragend="(from = -1), (over = -1)"
          >
            <span class="flex h-[46px] items-end" aria-hidden="true">
              <svg viewBox="0 0 60 46" class="h-[46px] w-[60px]"><rect x="4" :y="44 - (40 * b.mean) / most" width="26" :height="(40 * b.mean) / most" fill="var(--color-bar)" /><line x1="17" x2="17" :y1="44 - (40 * b.low) / most" :y2="44 - (40 * b.high) / most" stroke="var(--color-ink)" stroke-width="1.4" /><line x1="0" x2="34" y1="44.5" y2="44.5" stroke="var(--color-rule-strong)" /></svg>
              <span v-if="b.mark" class="mb-1 border px-1 text-[11px] leading-[15px]" :class="b.mark === 'regression' ? 'border-plum text-plum' : 'border-teal text-teal'" data-test="mark">{{ b.mark === 'regression' ? '+ regression' : '− fixed' }}</span>
            </span>
            <span class="mt-1 flex items-baseline gap-2"><RouterLink :to="{ name: 'take', params: { key: b.takes.at(-1)! }, query: { focus: focus || undefined } }" class="text-[15px] font-medium hover:underline">{{ b.name }}</RouterLink><span class="label">{{ b.takes.length }} {{ b.takes.length === 1 ? 'take' : 'takes' }}</span></span>
            <span>{{ amount(b.mean, unit) }}<span v-if="b.high > b.low" class="label"> ±{{ percent((b.high - b.low) / 2 / b.mean, 0) }}</span><span v-if="b.lost" class="label !text-alarm" data-test="partial" :title="`${count(b.lost)} events came faster than they could be recorded, and are missing from every total`"> partial</span></span>
            <span class="label min-h-[16px]" :class="b.verdict === 'slower' ? '!text-plum' : b.verdict === 'faster' ? '!text-teal' : ''" :title="b.change ? `${percent(b.change_low - 1)} to ${percent(b.change_high - 1)}` : undefined">{{ k === 0 ? 'the first' : b.change ? `${changeText(b)}, ${b.verdict === 'too few takes to tell' ? 'too few takes' : b.verdict === 'no change shown' ? 'no change' : verdictText(b.verdict, unit)}` : '' }}</span>
            <span v-if="b.since" class="label !text-plum" :title="`${percent(b.since_low - 1)} to ${percent(b.since_high - 1)}; a regression since ${b.since} is open`" data-test="since">{{ signed(percent(b.since_change - 1, 0), b.since_change - 1) }} since {{ b.since }}</span>
            <span class="label truncate" :title="b.note">{{ b.note }}</span>
            <span class="mt-1 flex gap-2"><button v-if="k" class="word label" @click="compare(k - 1, k)">why?</button><button class="word label" :aria-pressed="from === k" @click="choose(k)">compare with …</button></span>
          </div>
        </div>
        <div ref="scroller" class="min-h-[140px] flex-[3] overflow-y-auto">
          <div class="relative" :style="{ height: virtual.getTotalSize() + 'px' }">
            <div v-for="v in virtual.getVirtualItems()" :key="rows[v.index].name" role="row" data-test="ledger-row" class="group absolute inset-x-0 grid border-b border-rule" :style="{ ...grid, top: v.start + 'px', height: height + 'px' }">
              <div role="rowheader" class="sticky left-0 z-10 flex items-center gap-1.5 border-r border-l-[3px] border-transparent border-r-rule pr-2 pl-[13px]" :class="rows[v.index].name === focus ? '!border-l-focus bg-focus-wash' : rows[v.index].pinned ? 'bg-wash' : 'bg-paper group-hover:bg-wash'">
                <button class="code min-w-0 flex-1 truncate text-left" :title="rows[v.index].name" :aria-pressed="rows[v.index].name === focus" @click="setFocus(rows[v.index].name)">{{ rows[v.index].short }}</button>
                <RouterLink :to="{ name: 'over', params: { name: program }, query: { focus: rows[v.index].name, measure: measure || undefined, workload: workload || undefined, by: by === 'self' ? 'self' : undefined } }" class="text-ink-3 opacity-0 group-hover:opacity-100 hover:text-ink focus-visible:opacity-100" :class="rows[v.index].name === focus && '!opacity-100'" :aria-label="`${rows[v.index].short} over all builds`" title="Over all builds, take by take"><ChartSpline class="size-3.5" /></RouterLink>
                <button class="text-ink-3 hover:text-ink" :class="rows[v.index].pinned ? '' : 'opacity-0 group-hover:opacity-100 focus-visible:opacity-100'" :aria-label="`${rows[v.index].pinned ? 'Unpin' : 'Pin'}: ${rows[v.index].short}`" @click="togglePin(rows[v.index].name)"><Pin class="size-3.5" :fill="rows[v.index].pinned ? 'currentColor' : 'none'" /></button>
              </div>
              <button v-for="(x, k) in of(rows[v.index])" :key="k" role="cell" class="border-r border-rule px-3 text-right hover:underline" :class="!x && !cell(rows[v.index], k) && 'text-ink-3'" :style="{ background: cell(rows[v.index], k) }" :aria-label="`${rows[v.index].short} in ${d.builds[k].name}: ${figure(x)}`" @click="open(rows[v.index], k)"><span v-if="cell(rows[v.index], k)" class="float-left text-ink-2" aria-hidden="true">{{ x > of(rows[v.index])[k - 1] * (shares ? d.builds[k].steady : 1) ? '+' : '−' }}</span>{{ figure(x) }}</button>
            </div>
          </div>
          <p v-if="!rows.length" class="p-6 text-ink-2">No function matches. <button class="word" @click="filter = ''">Show all</button></p>
          <p v-if="d.hidden" class="label px-4 py-2">and {{ count(d.hidden) }} functions that changed less</p>
        </div>
        <section v-if="d.notes.length" class="max-h-[116px] shrink-0 overflow-y-auto border-t border-rule-strong" aria-label="Open notes">
          <div v-for="n in d.notes" :key="n.id" class="flex items-baseline gap-3 border-b border-rule px-4 py-[3px] hover:bg-wash" data-test="open-note">
            <span class="label w-[150px] shrink-0 truncate">{{ n.who }}, {{ when(n.at) }}</span>
            <RouterLink v-if="n.key" :to="{ name: 'take', params: { key: n.key } }" class="word shrink-0">a take of {{ n.build }}</RouterLink>
            <button v-else class="word code shrink-0" @click="setFocus(n.function)">{{ n.short }}</button>
            <span class="min-w-0 flex-1 truncate">{{ n.text }}</span>
            <button v-if="may('work')" class="action !px-1.5 !py-0" @click="settle(n.id, true)"><Check class="size-3.5" aria-hidden="true" />Settled</button>
          </div>
        </section>
        <section class="min-h-[96px] flex-1 overflow-y-auto border-t border-rule-strong" aria-label="Takes">
          <RouterLink v-for="t in takes.data.value?.takes ?? []" :key="t.key" :to="{ name: 'take', params: { key: t.key }, query: { focus: focus || undefined } }" :class="d.exact ? 'grid-cols-[170px_90px_100px_200px_minmax(0,1fr)]' : 'grid-cols-[170px_90px_100px_100px_minmax(0,1fr)]'" class="grid items-baseline gap-x-4 border-b border-rule px-4 py-[3px] hover:bg-wash">
            <span class="text-ink-2">{{ when(t.started_at) }}</span><span>{{ t.build }}</span><span class="text-right">{{ duration(t.duration_ns) }}</span><span class="text-right">{{ t.exact ? `${count(t.instructions)} instructions` : `${seconds(t.cpu_ns)} CPU` }}</span><span class="truncate text-ink-2">{{ t.note }}</span>
          </RouterLink>
        </section>
      </div>
    </div>
  </div>
</template>
