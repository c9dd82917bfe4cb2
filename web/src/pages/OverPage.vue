<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useElementSize } from '@vueuse/core'
import { computed, ref, watchEffect } from 'vue'
import { useRoute } from 'vue-router'
import { api, ApiError, type Over } from '../api/client'
import { verdictText } from '../compare/useFigures'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import ErrorNote from '../components/ErrorNote.vue'
import WaitNote from '../components/WaitNote.vue'
import { useAddress } from '../composables/useAddress'
import { useFocus } from '../composables/useFocus'
import { useKeys } from '../composables/useKeys'
import { amount, count, percent, signed, when } from '../lib/format'

/** One function over all builds of a program: every take, and what follows from them. */
const route = useRoute()
const program = computed(() => String(route.params.name))
const { text } = useAddress()
const scale = text('scale')
const measure = text('measure')
const workload = text('workload')
const by = text('by', 'total')
const { focus, set: setFocus, step } = useFocus()
const ledger = useQuery({ queryKey: ['ledger', program, '', measure, workload, []], queryFn: () => api.ledger(program.value, { measure: measure.value || undefined, workload: workload.value || undefined }) })
const query = useQuery({
  queryKey: ['over', program, focus, scale, measure, workload],
  queryFn: () => api.over(program.value, { name: focus.value, scale: scale.value || undefined, measure: measure.value || undefined, workload: workload.value || undefined }),
  enabled: computed(() => focus.value !== ''),
  placeholderData: keepPreviousData,
  retry: (n, e) => n < 2 && !(e instanceof ApiError && e.status === 404),
})
const d = computed(() => (focus.value ? query.data.value : undefined))
// Who writes a link by hand writes the short name.
watchEffect(() => {
  const rows = ledger.data.value?.rows
  if (!rows || !focus.value || rows.some((r) => r.name === focus.value)) return
  const same = rows.find((r) => r.short === focus.value)
  if (same) setFocus(same.name)
})
watchEffect(() => (document.title = `${d.value?.short ?? program.value} – Entelon`))
const scales = computed(() => (ledger.data.value?.scales ?? []).map((s) => ({ value: s.name, text: s.text })))
const shownScale = computed({ get: () => scale.value || d.value?.scale || '', set: (v) => (scale.value = v) })
const measures = computed(() => (ledger.data.value?.measures ?? []).map((m) => ({ value: m.name, text: m.label })))
const shownMeasure = computed({ get: () => d.value?.measure ?? '', set: (v) => ((measure.value = v), (scale.value = '')) })
const workloads = computed(() => (d.value?.workload.workloads ?? []).map((w) => ({ value: String(w.id), text: w.name, note: `${count(w.takes)} of ${count(w.builds)}` })))
const shownWorkload = computed({ get: () => String(d.value?.workload.id ?? ''), set: (v) => ((workload.value = v), (measure.value = ''), (scale.value = '')) })
const unit = computed(() => d.value?.plain_unit ?? 'ns')
const shares = computed(() => d.value?.scale === 'share')
const figure = (v: number) => (v === 0 ? '–' : shares.value ? percent(v, 2) : amount(v, unit.value))
type Build = Over['builds'][number]
const of = (b: Build) => (by.value === 'self' ? b.self : b.total)
const value = (t: Build['takes'][number]) => (by.value === 'self' ? t.self : t.total)
const changeText = (b: Build) => {
  const e = of(b).before
  if (!e.baseline) return e.candidate ? 'new' : ''
  if (!e.candidate) return 'gone'
  return signed(percent(e.ratio - 1, Math.abs(e.ratio - 1) < 0.0995 ? 1 : 0), e.ratio - 1)
}
const verdict = (b: Build) => (b.takes.length ? verdictText(of(b).before.verdict, unit.value) : '')
const colour = (v: string) => (v === 'slower' ? '!text-plum' : v === 'faster' ? '!text-teal' : '')

const box = ref<HTMLElement>()
const { width } = useElementSize(box)
const height = 300
const most = computed(() => 1.08 * Math.max(1e-12, ...(d.value?.builds ?? []).flatMap((b) => [of(b).high, ...b.takes.map(value)])))
const room = computed(() => Math.max(110, (width.value - 96) / Math.max(1, d.value?.builds.length ?? 1)))
const y = (v: number) => 24 + (height - 56) * (1 - v / most.value)
// Takes of a build stand beside each other in the order in which they were made.
const dots = (b: Build, k: number) => b.takes.map((t, i) => ({ t, x: 80 + (k + 0.5) * room.value + (b.takes.length > 1 ? (i / (b.takes.length - 1) - 0.5) * Math.min(64, room.value * 0.5) : 0), y: y(value(t)) }))
const lines = computed(() => {
  const raw = most.value / 4
  const power = 10 ** Math.floor(Math.log10(raw))
  const round = [1, 2, 2.5, 5, 10].map((m) => m * power).find((m) => m >= raw)!
  return Array.from({ length: Math.floor(most.value / round) + 1 }, (_, i) => i * round)
})
const compare = (k: number) => ({ name: 'compare', query: { baseline: d.value!.builds[k - 1].takes.slice(-40).map((t) => t.key).join(','), candidate: d.value!.builds[k].takes.slice(-40).map((t) => t.key).join(','), focus: focus.value, measure: measure.value || undefined } })
const choices = computed(() => (ledger.data.value?.rows ?? []).map((r) => ({ value: r.name, text: r.short })))
const chosen = computed({ get: () => focus.value, set: (v) => setFocus(v) })
useKeys({ ',': () => step(-1), '.': () => step(1), Escape: () => setFocus('') })
</script>

<template>
  <div class="flex h-full flex-col">
    <header class="flex h-[52px] shrink-0 items-center gap-2.5 border-b border-rule px-4">
      <h1 class="flex min-w-0 items-baseline gap-1.5 text-[15.5px]">
        <ChoiceMenu v-model="chosen" :choices="[...(choices.some((c) => c.value === focus) ? [] : [{ value: focus, text: d?.short ?? (focus || 'choose a function') }]), ...choices]" name="Function" plain class="font-medium" />
        <span class="whitespace-nowrap text-ink-2">over all builds of</span><RouterLink :to="{ name: 'ledger', params: { name: program }, query: { focus: focus || undefined, measure: measure || undefined, workload: workload || undefined } }" class="word font-medium">{{ program }}</RouterLink>
        <template v-if="d"><ChoiceMenu v-if="measures.length > 1" v-model="shownMeasure" :choices="measures" name="Measure" plain /><span v-else class="whitespace-nowrap text-ink-2">{{ d.label }}</span><ChoiceMenu v-model="shownScale" :choices="scales" name="Scale" plain /></template>
      </h1>
      <div class="flex-1" />
      <span v-if="d && d.workload.count > 1" class="flex min-w-0 items-baseline gap-1.5"><span class="text-ink-2">workload</span><ChoiceMenu v-model="shownWorkload" :choices="workloads" name="Workload" plain right /><span class="label whitespace-nowrap">{{ count(d.workload.others) }} {{ d.workload.others === 1 ? 'take' : 'takes' }} of others</span></span>
      <span class="flex" role="group" aria-label="Which cost"><button v-for="k in ['self', 'total']" :key="k" class="border border-rule-strong px-2 py-0.5 first:border-r-0" :class="by === k ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="by === k" @click="by = k">{{ k }}</button></span>
    </header>
    <p v-if="!focus" class="p-8 text-ink-2">Pick a function above or in the <RouterLink :to="{ name: 'ledger', params: { name: program } }" class="word">ledger</RouterLink> to see its cost from build to build, take by take.</p>
    <ErrorNote v-else-if="query.isError.value" :error="query.error.value" :retry="() => query.refetch()" />
    <WaitNote v-else-if="!d" what="Loading the builds" />
    <div v-else class="min-h-0 flex-1 overflow-auto">
      <div ref="box" class="min-w-0 overflow-x-auto border-b border-rule bg-sheet">
        <svg :width="Math.max(width, 96 + room * d.builds.length)" :height="height" role="img" :aria-label="d.builds.map((b) => `${b.name}: ${figure(of(b).mean)}`).join(', ')">
          <g v-for="v in lines" :key="v"><line x1="76" :x2="80 + room * d.builds.length" :y1="y(v)" :y2="y(v)" stroke="var(--color-rule)" /><text x="70" :y="y(v) + 4" text-anchor="end" font-size="11" fill="var(--color-ink-3)">{{ v ? figure(v) : 0 }}</text></g>
          <g v-for="(b, k) in d.builds" :key="b.name">
            <rect v-if="of(b).high > of(b).low" :x="80 + (k + 0.5) * room - 30" width="60" :y="y(of(b).high)" :height="Math.max(1, y(Math.max(0, of(b).low)) - y(of(b).high))" fill="var(--color-bar-pale)" opacity="0.45" />
            <line :x1="80 + (k + 0.5) * room - 36" :x2="80 + (k + 0.5) * room + 36" :y1="y(of(b).mean)" :y2="y(of(b).mean)" stroke="var(--color-ink)" stroke-width="1.6" />
            <RouterLink v-for="p in dots(b, k)" :key="p.t.key" :to="{ name: 'take', params: { key: p.t.key }, query: { focus } }" data-test="over-take"><rect :x="p.x - 3.5" :y="p.y - 3.5" width="7" height="7" fill="var(--color-sheet)" stroke="var(--color-bar)" stroke-width="1.5"><title>{{ `${b.name}, ${when(p.t.at)}: ${figure(value(p.t))}` }}</title></rect></RouterLink>
            <text :x="80 + (k + 0.5) * room" :y="height - 10" text-anchor="middle" font-size="12.5" fill="var(--color-ink)">{{ b.name }}</text>
            <text v-if="k" :x="80 + k * room" y="15" text-anchor="middle" font-size="11.5" class="fill-current text-ink-2" :class="colour(of(b).before.verdict)">{{ changeText(b) }}</text>
          </g>
        </svg>
      </div>
      <p class="label px-4 pt-2">Each mark is a take, the line the mean of a build, the pale band its 95 % interval{{ d.builds.some((b) => b.takes.length < 2) ? '; a build with one take has none' : '' }}.</p>
      <table class="mt-2 w-full">
        <thead><tr class="label border-b border-rule-strong text-left"><th class="py-1 pl-4 font-normal">Build</th><th class="text-right font-normal">Takes</th><th class="text-right font-normal">Mean</th><th class="text-right font-normal">95 %</th><th class="text-right font-normal">To the build before</th><th class="text-right font-normal">95 %</th><th class="pl-6 font-normal">Verdict</th><th /></tr></thead>
        <tbody>
          <tr v-for="(b, k) in d.builds" :key="b.name" class="border-b border-rule hover:bg-wash" data-test="over-build">
            <td class="py-1 pl-4 font-medium">{{ b.name }}</td><td class="text-right text-ink-2">{{ b.takes.length }}</td><td class="text-right"><span v-if="b.takes.some((t) => t.lost)" class="label !text-alarm" data-test="partial" :title="`${count(b.takes.reduce((n, t) => n + (t.lost ?? 0), 0))} events came faster than they could be recorded, and are missing from every total`">partial </span>{{ figure(of(b).mean) }}</td>
            <td class="text-right text-ink-2">{{ of(b).high > of(b).low ? `${figure(Math.max(0, of(b).low))} to ${figure(of(b).high)}` : '' }}</td>
            <td class="text-right" :class="colour(of(b).before.verdict)">{{ k ? changeText(b) : '' }}</td>
            <td class="text-right text-ink-2">{{ k && of(b).before.ratio_high ? `${signed(percent(of(b).before.ratio_low - 1, 0), of(b).before.ratio_low - 1)} to ${signed(percent(of(b).before.ratio_high - 1, 0), of(b).before.ratio_high - 1)}` : '' }}</td>
            <td class="pl-6" :class="colour(of(b).before.verdict)">{{ k ? verdict(b) : 'the first' }}</td>
            <td class="pr-4 text-right"><RouterLink v-if="k" :to="compare(k)" class="word">why?</RouterLink></td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>
