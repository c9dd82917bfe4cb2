<script setup lang="ts">
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { useElementSize } from '@vueuse/core'
import { ArrowLeftRight, X } from 'lucide-vue-next'
import { computed, ref, watch } from 'vue'
import { api, type Take } from '../api/client'
import BothCard from '../compare/BothCard.vue'
import CompareShare from '../compare/CompareShare.vue'
import DifferenceTable from '../compare/DifferenceTable.vue'
import LinesBeside from '../compare/LinesBeside.vue'
import MirrorFlame from '../compare/MirrorFlame.vue'
import { mirrorPixels } from '../lib/mirrorPixels'
import SuspectList from '../compare/SuspectList.vue'
import { provideComparison, useFigures, verdictText } from '../compare/useFigures'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import EmptyTakes from '../components/EmptyTakes.vue'
import ErrorNote from '../components/ErrorNote.vue'
import WaitNote from '../components/WaitNote.vue'
import YardstickNote from '../compare/YardstickNote.vue'
import { useAddress } from '../composables/useAddress'
import { useAgain } from '../composables/useAgain'
import { useFocus } from '../composables/useFocus'
import { useKeys } from '../composables/useKeys'
import { tell } from '../composables/useNotices'
import { usePins } from '../composables/usePins'
import { amount, count, shortened, when } from '../lib/format'
import ScopeEditor from '../scope/ScopeEditor.vue'

const { text, change } = useAddress()
const [baseline, candidate, scale, measure, scope] = ['baseline', 'candidate', 'scale', 'measure', 'scope'].map((n) => text(n))
const lens = text('lens', 'mirror')
const { focus, set: setFocus, step } = useFocus()
const again = useAgain()

// A side is one take, or all takes of a build.
const takes = useQuery({ queryKey: ['takes', 'choose'], queryFn: () => api.takes({ descending: true, limit: 300 }) })
const choices = computed(() => {
  const list = takes.data.value?.takes ?? []
  const builds = new Map<string, Take[]>()
  const workloads = new Map<string, Set<number>>() // of each program
  for (const t of list) {
    const name = `${t.program} ${t.build}\n${t.workload_id}`
    builds.set(name, [...(builds.get(name) ?? []), t])
    workloads.set(t.program, (workloads.get(t.program) ?? new Set()).add(t.workload_id))
  }
  const groups = [...builds.values()].filter((ts) => ts.length > 1).map((ts) => ({
    value: ts.slice(0, 40).map((t) => t.key).join(','),
    text: `${ts[0].program} ${ts[0].build}`,
    note: `all ${ts.length} takes${workloads.get(ts[0].program)!.size > 1 ? ` of ${shortened(ts[0].workload)}` : ''}`,
  }))
  const single = list.map((t) => ({ value: t.key, text: `${t.program} ${t.build}`, note: when(t.started_at) }))
  const known = new Set([...groups, ...single].map((c) => c.value))
  // What a link names need not be a choice here: some takes of a build, say.
  const others = [baseline.value, candidate.value].filter((v) => v && !known.has(v)).map((v) => {
    const t = list.find((x) => x.key === v.split(',')[0])
    return { value: v, text: t ? `${t.program} ${t.build}` : v.slice(0, 12), note: `${v.split(',').length} of its takes` }
  })
  return [...others, ...groups, ...single]
})

// Who comes without sides most often wants to know what the newest build did.
const programs = useQuery({ queryKey: ['programs'], queryFn: api.programs, enabled: computed(() => !baseline.value || !candidate.value) })
const offers = computed(() =>
  (programs.data.value?.programs ?? []).flatMap((p) => {
    const [before, newest] = p.builds.filter((b) => b.keys).slice(-2)
    return newest ? [{ program: p.name, before: before.name, newest: newest.name, query: { baseline: before.keys, candidate: newest.keys } }] : []
  }),
)
const ready = computed(() => baseline.value !== '' && candidate.value !== '')
const question = computed(() => ({ baseline: baseline.value, candidate: candidate.value, scale: scale.value || undefined, measure: measure.value || undefined, scope: scope.value || undefined }))
const result = useQuery({ queryKey: ['compare', question], queryFn: ({ signal }) => api.compare(question.value, signal), enabled: ready, placeholderData: keepPreviousData })
// The picture is asked for together with the comparison, which the server makes once for both.
const queries = useQueryClient()
const whole = ref<HTMLElement>()
const { width } = useElementSize(whole)
const beside = 268 + 272 // px, of the columns left and right
watch([question, width], ([q, w]) => {
  if (!ready.value || !w || lens.value !== 'mirror') return
  const pixels = mirrorPixels(w - beside)
  void queries.prefetchQuery({ queryKey: ['mirror', q, pixels], queryFn: ({ signal }) => api.mirror({ ...q, pixels }, signal) })
})
const d = computed(() => (ready.value ? result.data.value : undefined))
provideComparison(d)
const { change: changeText } = useFigures(d)
const { pins, toggle: togglePin } = usePins(computed(() => d.value?.candidate.takes[0].take.program ?? ''))
watch([focus, d], ([name, now]) => {
  if (!name || !now || now.rows.some((r) => r.name === name)) return
  const same = now.rows.find((r) => r.short === name || r.was === name)
  if (same) setFocus(same.name)
})

const capital = (s: string) => s.charAt(0).toUpperCase() + s.slice(1)
const measures = computed(() => (d.value?.measures ?? []).map((m) => ({ value: m.name, text: capital(m.label) })))
const shownMeasure = computed({ get: () => measure.value || d.value?.measure.name || '', set: (v) => (measure.value = v) })
const scales = computed(() => (d.value?.scales ?? []).map((s) => ({ value: s.name, text: s.text })))
const shownScale = computed({ get: () => scale.value || d.value?.scale || '', set: (v) => (scale.value = v) })
const total = (v: number) => amount(v, d.value?.measure.unit ?? 'ns')
const samples = (side: { takes: { samples: number }[] }) => side.takes.reduce((n, t) => n + t.samples, 0)

const chosen = ref(-1)
watch(question, () => (chosen.value = -1))
// It opens on the first suspect, unless something is followed already.
watch(d, (now) => now?.suspects.length && chosen.value < 0 && !focus.value && choose(0), { immediate: true, flush: 'post' })
const resting = ref(false)
const path = computed(() => d.value?.suspects[chosen.value]?.path ?? [])
function choose(at: number) {
  chosen.value = at
  const last = d.value?.suspects[at]?.path.at(-1)
  const row = d.value?.rows.find((r) => r.number === last)
  if (row) setFocus(row.name)
}
function exchange() {
  change({ baseline: candidate.value, candidate: baseline.value })
}
/** Goes on without the takes that are far off; the way back is offered. */
function leaveOut() {
  const far = d.value?.without?.takes
  if (!far) return
  const before = { baseline: baseline.value, candidate: candidate.value }
  const kept = (keys: string) => keys.split(',').filter((k) => !far.includes(k)).join(',')
  change({ baseline: kept(before.baseline), candidate: kept(before.candidate) })
  tell(far.length === 1 ? 'The take is left out.' : `${far.length} takes are left out.`, { seconds: 8, undo: () => change(before) })
}
const editing = ref(false)
const lenses = [
  { name: 'mirror', text: 'Mirror flame' },
  { name: 'functions', text: 'Functions' },
  { name: 'lines', text: 'Lines' },
]
useKeys({
  x: exchange,
  l: leaveOut,
  r: () => void again(candidate.value.split(',')[0], focus.value),
  '1': () => (lens.value = 'mirror'),
  '2': () => (lens.value = 'functions'),
  // As on a take, where 3 and 4 are paths and neighbours.
  '5': () => (lens.value = 'lines'),
  '=': () => ready.value && (editing.value = true),
  s: () => d.value?.suspects.length && choose((chosen.value + 1) % d.value.suspects.length),
  ',': () => step(-1),
  '.': () => step(1),
})
</script>

<template>
  <div ref="whole" class="flex h-full flex-col">
    <header class="flex min-h-[52px] shrink-0 items-center gap-2.5 border-b border-rule px-4 py-1">
      <h1 v-if="!ready" class="text-[15.5px] text-ink-2">Compare</h1>
      <h1 v-else class="flex min-w-0 flex-wrap items-baseline gap-x-1.5 text-[15.5px]">
        <ChoiceMenu v-if="(d?.measures.length ?? 0) > 1" v-model="shownMeasure" :choices="measures" name="Measure" plain class="font-medium" /><span v-else class="text-ink-2">{{ capital(d?.measure.label ?? 'CPU time') }}</span>
        <span class="text-ink-2">of</span><ChoiceMenu v-model="baseline" :choices="choices" name="Baseline" plain class="font-medium" /><span v-if="d && d.baseline.takes.length > 1" class="label">{{ d.baseline.takes.length }} takes</span>
        <button class="self-center text-ink-2 hover:text-ink" aria-label="Swap the sides" title="Swap the sides (x)" @click="exchange"><ArrowLeftRight class="size-4" /></button>
        <span class="text-ink-2">against</span><ChoiceMenu v-model="candidate" :choices="choices" name="Candidate" plain class="font-medium" /><span v-if="d && d.candidate.takes.length > 1" class="label">{{ d.candidate.takes.length }} takes</span>
        <template v-if="d"><ChoiceMenu v-model="shownScale" :choices="scales" name="Scale" plain /></template>
        <button v-if="d?.yardstick" class="word label" :aria-expanded="resting" @click="resting = !resting">rests on {{ count(d.yardstick.count) }} functions</button>
        <span v-if="scope" class="flex min-w-0 items-baseline gap-1"><span class="text-ink-2">where</span><button class="word code truncate" @click="editing = true">{{ scope }}</button><button class="self-center text-ink-3 hover:text-ink" aria-label="Remove the scope" @click="scope = ''"><X class="size-3.5" /></button></span>
        <button v-else-if="d" class="text-ink-3 hover:text-ink" aria-label="Restrict the scope" title="Restrict the scope (=)" @click="editing = true">+</button>
      </h1>
      <div class="flex-1" />
      <p v-if="d" class="text-right leading-tight whitespace-nowrap"><span class="label">a take</span> {{ total(d.baseline.total) }} <span class="label">and</span> {{ total(d.candidate.total) }}<br /><span class="label">{{ d.calls_counted ? 'every event counted' : `${count(samples(d.baseline))} and ${count(samples(d.candidate))} samples` }}</span></p>
    </header>
    <ScopeEditor v-if="editing && ready" :take-key="candidate.split(',')[0]" :text="scope" @apply="(scope = $event), (editing = false)" @close="editing = false" />

    <YardstickNote v-if="resting && d?.yardstick" :d="d" @close="resting = false" />

    <ErrorNote v-if="takes.isError.value" :error="takes.error.value" :retry="() => takes.refetch()" />
    <EmptyTakes v-else-if="takes.data.value && !takes.data.value.count" />
    <div v-else-if="!ready" class="max-w-[600px] p-8">
      <h2 class="text-[20px] font-medium">Did it get slower, by how much, and why?</h2>
      <p class="mt-2 text-ink-2">Choose a baseline (known to be good) and a candidate (in question): all takes of a build, which shows how sure the result is, or single takes.</p>
      <div class="mt-4 grid grid-cols-[90px_1fr] items-center gap-y-3">
        <span>Baseline</span><ChoiceMenu v-model="baseline" :choices="[{ value: '', text: 'choose a side' }, ...choices]" name="Baseline" />
        <span>Candidate</span><ChoiceMenu v-model="candidate" :choices="[{ value: '', text: 'choose a side' }, ...choices]" name="Candidate" />
      </div>
      <template v-if="offers.length">
        <h3 class="label mt-8">The newest build against the one before</h3>
        <ul class="mt-1 border-t border-rule">
          <li v-for="o in offers" :key="o.program" class="border-b border-rule"><RouterLink :to="{ name: 'compare', query: o.query }" class="flex gap-2 py-1.5 hover:bg-wash" data-test="offer"><span class="w-32 font-medium">{{ o.program }}</span><span>{{ o.before }} → {{ o.newest }}</span></RouterLink></li>
        </ul>
      </template>
    </div>
    <ErrorNote v-else-if="result.isError.value" :error="result.error.value" :retry="() => result.refetch()" />
    <WaitNote v-else-if="!d" what="Comparing" />
    <template v-else>
      <section class="flex shrink-0 gap-4 border-b border-rule px-4 py-2" aria-label="Reading">
        <p v-if="d.whole.verdict" class="shrink-0 border-r border-rule pr-4 text-center leading-tight" data-test="verdict">
          <b class="block text-[17px] font-medium" :class="d.whole.verdict === 'slower' ? 'text-plum' : d.whole.verdict === 'faster' ? 'text-teal' : ''">{{ verdictText(d.whole.verdict, d.measure.unit) }}</b>
          <span class="label">{{ changeText(d.whole) }}</span>
        </p>
        <div class="min-w-0 text-[14.5px] leading-snug">
          <template v-for="(p, i) in d.reading" :key="i"><button v-if="p.name" class="word font-medium" :class="p.name === focus && '!border-b-2 !border-focus'" @click="setFocus(p.name)">{{ p.text }}</button><template v-else>{{ p.text }}</template></template>
          <span v-if="d.without" class="block text-[13px]" data-test="without">
            Without {{ d.without.takes.length === 1 ? 'the take' : `the ${d.without.takes.length} takes` }} far off the others: <b class="font-medium">{{ changeText(d.without.whole) }}</b>, {{ verdictText(d.without.whole.verdict, d.measure.unit) }}.
            <button class="word" title="Leave out what is far off (l)" @click="leaveOut">Leave {{ d.without.takes.length === 1 ? 'it' : 'them' }} out</button>
          </span>
          <span v-for="w in d.warnings" :key="w.text" class="block text-[13px] text-alarm">{{ w.text }} <span class="text-ink-2">{{ w.remedy }}</span></span>
        </div>
      </section>
      <div class="flex min-h-0 flex-1">
        <SuspectList :d="d" :focus="focus" :chosen="chosen" class="w-[268px] shrink-0 border-r border-rule" @choose="choose" />
        <div class="flex min-h-0 min-w-0 flex-1 flex-col">
          <div class="flex h-[30px] shrink-0 items-end gap-5 border-b border-rule px-3" role="tablist" aria-label="Ways to look">
            <button v-for="l in lenses" :key="l.name" role="tab" :aria-selected="lens === l.name" class="border-b-2 px-0.5 pb-1" :class="lens === l.name ? 'border-ink font-medium' : 'border-transparent text-ink-2 hover:text-ink'" @click="lens = l.name">{{ l.text }}</button>
            <CompareShare :question="question" class="ml-auto self-center" />
          </div>
          <DifferenceTable v-if="lens === 'functions'" :d="d" :focus="focus" :pins="pins" @focus="setFocus" @pin="togglePin" />
          <LinesBeside v-else-if="lens === 'lines'" :question="question" :d="d" :focus="focus" @focus="setFocus" @pin="togglePin" />
          <MirrorFlame v-else :question="question" :d="d" :focus="focus" :path="path" @focus="setFocus" @pin="togglePin" />
        </div>
        <BothCard :d="d" :focus="focus" :pinned="pins.includes(focus)" class="w-[272px] shrink-0 border-l border-rule" @pin="togglePin" />
      </div>
    </template>
  </div>
</template>
