<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, toRef } from 'vue'
import { api } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { useAddress } from '../../composables/useAddress'
import { useKeys } from '../../composables/useKeys'
import { useScope } from '../../composables/useScope'
import { count, duration } from '../../lib/format'
import { quoted } from '../../lib/scopeText'
import LanePathTable from '../lanes/LanePathTable.vue'
import type { LensEmits, LensProps } from '../registry'
import { dotBytes, type Range } from './chart'
import SpanBlame from './SpanBlame.vue'
import SpanChart from './SpanChart.vue'

/** How long each span took: a dot each over time, their distribution, and what the slow ones were slow for. */
const props = defineProps<LensProps>()
const emit = defineEmits<LensEmits>()
const { text, change } = useAddress()
const name = text('span')
const blamed = text('slow') // of a thousand, the slowest
const scope = useScope(toRef(props, 'takeKey'))

const query = useQuery(computed(() => ({ queryKey: ['spans', props.takeKey, props.range.scope, name.value], queryFn: ({ signal }: { signal: AbortSignal }) => api.spans(props.takeKey, { scope: props.range.scope, name: name.value || undefined }, signal), placeholderData: keepPreviousData, staleTime: Infinity })))
const data = computed(() => query.data.value)
const of = computed(() => (data.value?.name ? data.value : undefined))
const time = computed<Range>(() => ({ from: scope.time.value?.from_ns ?? 0, to: scope.time.value?.to_ns || Math.max(1, data.value?.duration_ns ?? 1) }))

const picked = text('dot') // thread and beginning of a span
const some = text('some') // a choice of times and durations
const chosen = computed({
  get: () => {
    const [thread, begin] = picked.value.split('-').map(Number)
    const d = of.value?.dots ?? []
    for (let i = 0; picked.value && i < d.length; i += dotBytes) if (d[i] === begin && d[i + 2] === thread) return i / dotBytes
    return -1
  },
  set: (i) => {
    const d = of.value?.dots ?? []
    picked.value = i < 0 ? '' : `${d[i * dotBytes + 2]}-${d[i * dotBytes]}`
  },
})
const selected = computed({
  get: () => {
    const [t0, t1, n0, n1] = some.value.split('-').map(Number)
    return n1 >= n0 ? { time: { from: t0, to: t1 }, ns: { from: n0, to: n1 } } : undefined
  },
  set: (s) => (some.value = s ? [s.time.from, s.time.to, s.ns.from, s.ns.to].join('-') : ''),
})
/** Spans of another name have other dots. */
function choose(n: string) {
  name.value = n
  picked.value = ''
  some.value = ''
}
const span = computed(() => {
  const d = of.value?.dots
  if (!d || chosen.value < 0 || chosen.value * dotBytes >= d.length) return undefined
  const [begin, ns, thread] = d.slice(chosen.value * dotBytes, chosen.value * dotBytes + 3)
  return { thread, begin, end: begin + Math.max(1, ns) }
})
const path = useQuery(computed(() => ({ queryKey: ['lane-path', props.takeKey, span.value], queryFn: () => api.lanePath(props.takeKey, span.value!), enabled: !!span.value && !!data.value?.known, staleTime: Infinity })))

/** The lanes, at a span or a thread. */
function lanes(thread: number, from: number, to: number) {
  const room = Math.max(1, Math.round((to - from) / 4))
  change({ lens: 'lanes', when: `${Math.max(0, from - room)}-${to + room}`, heldup: `${thread}:${from}-${to}` })
}
function toLanes(thread: number, at: number) {
  if (span.value) lanes(span.value.thread, span.value.begin, span.value.end)
  else lanes(thread, at, at + 1)
}
/** The slower or faster neighbour of the chosen span, by duration. */
function step(by: number) {
  const d = of.value?.dots
  if (!d?.length) return
  const order = Array.from({ length: d.length / dotBytes }, (_, i) => i).sort((a, b) => d[b * dotBytes + 1] - d[a * dotBytes + 1])
  const i = order.indexOf(chosen.value)
  chosen.value = order[i < 0 ? 0 : Math.max(0, Math.min(order.length - 1, i + by))]
  blamed.value = ''
}
function within() {
  const s = selected.value
  if (s) void scope.restrict(s.time.from, s.time.to)
}
/** Everything that happens in the spans that are chosen, for every lens. */
function during() {
  const s = selected.value
  if (s && of.value) void scope.add(`during span ${quoted(of.value.name)}${s.ns.from > 1 ? ` longer than ${s.ns.from - 1} ns` : ''} shorter than ${s.ns.to + 1} ns`)
}
function slow(permille: number) {
  chosen.value = -1
  blamed.value = String(permille)
}
useKeys({
  '[': () => step(-1),
  ']': () => step(1),
  h: () => slow(10),
  Enter: () => (selected.value ? within() : span.value && toLanes(span.value.thread, span.value.begin)),
  Escape: () => {
    if (chosen.value >= 0) chosen.value = -1
    else if (blamed.value) blamed.value = ''
    else if (selected.value) selected.value = undefined
    else emit('focus', '')
  },
  p: () => props.focus && emit('pin', props.focus),
})
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Spans">
    <ErrorNote v-if="query.error.value" :error="query.error.value" :retry="() => void query.refetch()" />
    <WaitNote v-else-if="!data" what="Gathering the spans" />
    <div v-else-if="!of" class="max-w-[76ch] space-y-2 p-6 text-ink-2" data-test="no-spans">
      <template v-if="scope.text.value"><p>No span in this scope. Remove a condition above.</p></template>
      <template v-else>
        <p>This take has no spans: parts of the work with a beginning and an end, such as drawing one page.</p>
        <p>Name the functions that they are, and each of their calls is measured, with nothing built into the program. With waiting, and in a Go program goroutines, it is also known what slow ones were slow for:</p>
        <p class="code">entelon take -m cpu -m waiting -m goroutines -m span:page.Draw -- COMMAND</p>
      </template>
    </div>
    <template v-else>
      <div class="max-h-[30%] shrink-0 overflow-y-auto border-b border-rule">
        <table class="w-full table-fixed">
          <thead class="label text-left"><tr><th class="py-1 pl-4 font-normal">Span</th><th class="w-[70px] text-right font-normal">Spans</th><th class="w-[84px] text-right font-normal">Together</th><th class="w-[78px] text-right font-normal">Median</th><th class="w-[78px] text-right font-normal">99 %</th><th class="w-[92px] pr-4 text-right font-normal">Slowest</th></tr></thead>
          <tbody>
            <tr v-for="n in data.names" :key="n.name" class="cursor-pointer border-t border-rule" :class="n.name === data.name ? 'bg-wash font-medium' : 'hover:bg-wash'" data-test="span-name" :aria-selected="n.name === data.name" @click="choose(n.name)">
              <td class="truncate border-l-[3px] pl-[13px]" :class="n.name === focus ? 'border-l-focus' : 'border-l-transparent'"><button class="code truncate" :title="n.name" @click.stop="choose(n.name), emit('focus', n.name)">{{ n.short }}</button></td>
              <td class="text-right">{{ count(n.spans) }}</td>
              <td class="text-right">{{ duration(n.total_ns) }}</td>
              <td class="text-right">{{ duration(n.median_ns) }}</td>
              <td class="text-right">{{ duration(n.p99_ns) }}</td>
              <td class="pr-4 text-right">{{ duration(n.slowest_ns) }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="data.more" class="label px-4 py-1">and {{ count(data.more) }} more names, which took less time</p>
      </div>
      <div class="flex shrink-0 flex-wrap items-center gap-x-3 gap-y-1 border-b border-rule px-4 py-1">
        <span class="text-ink-2">What do the slow ones do?</span>
        <span class="flex" role="group" aria-label="Which of them">
          <button v-for="[p, words] in [[1, 'slowest 0.1 %'], [10, 'slowest 1 %'], [100, 'slowest 10 %'], [1000, 'all']] as [number, string][]" :key="p" class="-ml-px border border-rule-strong px-2 py-0.5" :class="blamed === String(p) && !span ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="blamed === String(p) && !span" :disabled="!data.known" data-test="span-slow" @click="slow(p)">{{ words }}</button>
        </span>
        <template v-if="selected"><span class="label">{{ duration(selected.ns.from) }} to {{ duration(selected.ns.to) }}</span><button class="text-ink-2 underline hover:text-ink" @click="slow(1000)">what these do</button><button class="text-ink-2 underline hover:text-ink" @click="within">only this time</button><button class="text-ink-2 underline hover:text-ink" data-test="span-during" @click="during">only what happens in them</button></template>
      </div>
      <p v-if="!data.known" class="shrink-0 border-b border-rule px-4 py-1 text-ink-2" data-test="spans-unmeasured">Waiting was not measured in this take, so it is not known what slow spans were slow for: take again with <span class="code">-m waiting</span>, and of a Go program <span class="code">-m goroutines</span>.</p>
      <p v-if="data.thinned || data.lost" class="shrink-0 border-b border-rule px-4 py-1 text-ink-2" data-test="spans-thinned"><template v-if="data.thinned">{{ count(data.thinned) }} calls shorter than 1 ms came too fast to be kept one by one and are missing here. </template><template v-if="data.lost">{{ count(data.lost) }} more are missing: there was no room for them.</template></p>
      <SpanChart :of="of" :time="time" :chosen="chosen" :selected="selected" @choose="chosen = $event" @select="selected = $event" />
      <LanePathTable v-if="span && data.known" :path="path.data.value" :error="path.error.value" :focus="focus" @close="chosen = -1" @go="toLanes" @focus="emit('focus', $event)"><button class="shrink-0 text-ink-2 underline hover:text-ink" data-test="span-lanes" @click="toLanes(span!.thread, span!.begin)">show in Lanes</button></LanePathTable>
      <SpanBlame v-else-if="blamed && data.known" :take-key="takeKey" :scope="range.scope" :name="of.name" :permille="Number(blamed) || 10" :ns="selected?.ns" :focus="focus" @close="blamed = ''" @focus="emit('focus', $event)" @lane="(thread) => change({ lens: 'lanes', open: String(thread) })" />
    </template>
  </section>
</template>
