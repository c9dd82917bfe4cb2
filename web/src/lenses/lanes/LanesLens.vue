<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { useElementSize, useEventListener } from '@vueuse/core'
import { computed, reactive, ref, toRef, watch } from 'vue'
import { api, type LaneAt } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { useAddress } from '../../composables/useAddress'
import { useKeys } from '../../composables/useKeys'
import { useScope } from '../../composables/useScope'
import { dark } from '../../composables/useTheme'
import { sized } from '../../lib/canvasSize'
import { count, duration, seconds } from '../../lib/format'
import type { LensEmits, LensProps } from '../registry'
import { barAt, describe, spanAt } from './describe'
import LaneDetail from './LaneDetail.vue'
import LanePathTable from './LanePathTable.vue'
import { axisHeight, between, laneHeight, layOut, type Line, type View, zoomed } from './layout'
import { type Chosen, middle, paint } from './paint'
import { short } from './states'
import RateStrip from './RateStrip.vue'
import StateSwatch from './StateSwatch.vue'
import { useLanes, useRows } from './useRows'
import { useView } from './useView'

/** The take over time, a lane for each thread: what it did when, what it waited for, and who ended that. */
const props = defineProps<LensProps>()
const emit = defineEmits<LensEmits>()
const { text } = useAddress()
const scope = useScope(toRef(props, 'takeKey'))
const opened = text('open') // threads, with commas
const open = computed(() => new Set(opened.value.split(',').filter(Boolean).map(Number)))
const chosen = ref<{ thread: number; at: number }>()
const selected = ref<View>()
const followed = text('heldup') // "thread:from-to" of a critical path

const head = useLanes(props)
const data = computed(() => head.data.value)
const { view, whole, look, zoom: zoomAbout, pan, reach } = useView(toRef(props, 'takeKey'), computed(() => data.value?.duration_ns), scope.time)

const box = ref<HTMLElement>()
const canvas = ref<HTMLCanvasElement>()
const { width: boxWidth, height } = useElementSize(box)
const names = 176
const width = computed(() => Math.max(50, boxWidth.value - names))
const scroll = ref(0)
const depths = reactive(new Map<number, number>()) // how deep the path of a lane is
const plan = computed(() => layOut(data.value?.lanes ?? [], new Map([...depths].filter(([id]) => open.value.has(id)))))
const shown = computed(() => between(plan.value.lines, scroll.value, scroll.value + height.value))
const { got, drawn, busy, failed: rowsFailed } = useRows(props, data, { view, whole, width, open, shown, depths })
const failed = computed(() => head.error.value ?? rowsFailed.value)

const idOf = (line: Line) => data.value?.lanes[line.lane]?.id ?? -1
const told = ref<LaneAt>()
const picked = computed<Chosen | undefined>(() => (chosen.value && told.value ? { lane: chosen.value.thread, from: told.value.from_ns, to: told.value.to_ns, by: told.value.by?.id } : undefined))
const states = computed(() => data.value?.states.map((s) => s.name) ?? [])
const heights = computed(() => new Map(plan.value.lines.filter((l) => l.lane >= 0).map((l) => [idOf(l), middle(l.top)])))

const asked = computed(() => {
  const [thread, from, to] = followed.value.split(/[:-]/).map(Number)
  return to > from ? { thread, begin: from, end: to } : undefined
})
const path = useQuery(computed(() => ({ queryKey: ['lane-path', props.takeKey, asked.value], queryFn: () => api.lanePath(props.takeKey, asked.value!), enabled: !!asked.value, staleTime: Infinity })))
const steps = computed(() => (asked.value ? path.data.value?.steps : undefined))
/** What held the chosen thread up: in the stretch of time that is chosen, or in what it did then. */
function follow() {
  const v = selected.value ?? (picked.value && { from: picked.value.from, to: picked.value.to })
  if (!v || !chosen.value) return
  followed.value = `${chosen.value.thread}:${v.from}-${v.to}`
}

let queued = false
function repaint() {
  if (queued) return
  queued = true
  requestAnimationFrame(() => {
    queued = false
    const el = canvas.value
    if (!el || !data.value || view.value.to <= view.value.from) return
    paint(sized(el, width.value, height.value), {
      view: view.value, width: width.value, height: height.value, scroll: scroll.value, lines: shown.value, rowOf: drawn, idOf, states: states.value,
      focus: props.focus, dark: dark.value, chosen: picked.value, middleOf: (id) => heights.value.get(id), selected: selected.value, tick: data.value.tick_ns, steps: steps.value,
    })
  })
}
watch([view, width, height, scroll, got, plan, picked, selected, steps, dark, () => props.focus, states], repaint, { deep: true })
document.fonts.ready.then(repaint)

const timeAt = (x: number) => Math.round(view.value.from + (x / width.value) * (view.value.to - view.value.from))
const place = (e: MouseEvent) => {
  const r = canvas.value!.getBoundingClientRect()
  return { x: e.clientX - r.left, y: e.clientY - r.top }
}
const lineAt = (y: number) => (y < axisHeight ? undefined : shown.value.find((l) => y - axisHeight + scroll.value >= l.top && y - axisHeight + scroll.value < l.top + l.height))

/** How far a pointer may be off. */
const near = () => ((view.value.to - view.value.from) / width.value) * 2

const pointed = ref<{ text: string; at: number }>()
let pointer: number | undefined
function hover(e: PointerEvent) {
  const { x, y } = place(e)
  pointer = timeAt(x)
  const line = lineAt(y)
  if (from) return void drag(x)
  const d = line && line.lane >= 0 ? drawn(line) : undefined
  pointed.value = d && line ? { text: describe(line, d, y - axisHeight + scroll.value - line.top, pointer, near(), data.value!.states), at: pointer } : undefined
}
// A press that moves chooses a stretch of time; one that does not, what is there.
let from: { x: number; moved: boolean } | undefined
function press(e: PointerEvent) {
  if (e.button !== 0) return
  from = { x: place(e).x, moved: false }
  canvas.value!.setPointerCapture(e.pointerId)
}
function drag(x: number) {
  if (!from || (!from.moved && Math.abs(x - from.x) < 4)) return
  from.moved = true
  const [a, b] = [timeAt(Math.max(0, Math.min(from.x, x))), timeAt(Math.min(width.value, Math.max(from.x, x)))]
  selected.value = { from: a, to: Math.max(a + 1, b) }
}
function release(e: PointerEvent) {
  const was = from
  from = undefined
  if (!was || was.moved) return
  selected.value = undefined
  const { x, y } = place(e)
  const line = lineAt(y)
  if (!line || line.lane < 0) return void (chosen.value = undefined)
  const d = drawn(line)
  const inside = y - axisHeight + scroll.value - line.top
  if (d && inside > laneHeight && inside < line.bars) {
    const i = spanAt(d, line, inside, timeAt(x), near())
    const b = d.row.spans
    if (i >= 0) selected.value = { from: d.begin + b[i], to: Math.max(d.begin + b[i] + 1, d.begin + b[i + 1]) }
    return choose(idOf(line), timeAt(x))
  }
  if (d && inside > line.bars) {
    const i = barAt(d, line, inside, timeAt(x))
    if (i >= 0) emit('focus', d.functions[d.row.bars[i + 3]].name)
    return
  }
  choose(idOf(line), timeAt(x))
}
function choose(thread: number, at: number) {
  const lane = data.value?.lanes.find((l) => l.id === thread)
  if (!lane || at < lane.from_ns || at >= lane.to_ns) return
  if (chosen.value?.thread !== thread || chosen.value.at !== at) told.value = undefined
  chosen.value = { thread, at }
}
/** Goes to what a thread did at a time, wherever that is. */
function go(thread: number, at: number) {
  choose(thread, at)
  reach(at)
  const line = plan.value.lines.find((l) => l.lane >= 0 && idOf(l) === thread)
  const el = box.value
  if (line && el && (line.top < scroll.value || line.top + line.height > scroll.value + height.value - axisHeight)) el.scrollTop = Math.max(0, line.top - height.value / 2)
}
useEventListener(box, 'wheel', (e: WheelEvent) => {
  const { x, y } = place(e)
  if (x < 0) return
  const sideways = Math.abs(e.deltaX) > Math.abs(e.deltaY) ? e.deltaX : e.shiftKey ? e.deltaY : 0
  if (!sideways && !e.ctrlKey && y > axisHeight) return // up and down
  e.preventDefault()
  if (sideways) pan(sideways / width.value)
  else zoomAbout(Math.exp(e.deltaY * (e.deltaMode ? 0.05 : 0.003)), timeAt(x))
}, { passive: false })

const centre = () => (pointer !== undefined && pointer >= view.value.from && pointer <= view.value.to ? pointer : (view.value.from + view.value.to) / 2)
const about = () => (chosen.value && chosen.value.at >= view.value.from && chosen.value.at <= view.value.to ? chosen.value.at : centre())
const zoom = (factor: number) => zoomAbout(factor, about())
function fit() {
  if (selected.value) look({ ...selected.value })
  else if (picked.value) look(zoomed({ from: picked.value.from, to: picked.value.to }, 1.4, (picked.value.from + picked.value.to) / 2, whole.value.to))
  else look({ ...whole.value })
  selected.value = undefined
}
function vertically(by: number) {
  const list = plan.value.lines.filter((l) => l.lane >= 0)
  if (!list.length) return
  const i = list.findIndex((l) => idOf(l) === chosen.value?.thread)
  const next = list[Math.max(0, Math.min(list.length - 1, i < 0 ? 0 : i + by))]
  const lane = data.value!.lanes[next.lane]
  const at = chosen.value?.at ?? Math.round((view.value.from + view.value.to) / 2)
  go(lane.id, Math.max(lane.from_ns, Math.min(lane.to_ns - 1, at)))
}
function toggle(id: number) {
  const next = new Set(open.value)
  if (!next.delete(id)) next.add(id)
  opened.value = [...next].join(',')
}
const canOpen = (line: Line) => (data.value?.lanes[line.lane]?.samples ?? 0) > 0
async function restrict() {
  const v = selected.value ?? (picked.value && { from: picked.value.from, to: picked.value.to })
  if (!v) return
  selected.value = undefined
  look({ ...v })
  await scope.restrict(v.from, v.to)
}
useKeys({
  '+': () => zoom(1 / 1.6),
  '-': () => zoom(1.6),
  z: fit,
  ArrowUp: () => vertically(-1),
  ArrowDown: () => vertically(1),
  ArrowLeft: () => pan(-0.2),
  ArrowRight: () => pan(0.2),
  '[': () => told.value && told.value.previous_ns >= 0 && go(chosen.value!.thread, told.value.previous_ns),
  ']': () => told.value && told.value.next_ns >= 0 && go(chosen.value!.thread, told.value.next_ns),
  l: () => told.value?.by && go(told.value.by.id, Math.max(told.value.by.from_ns, told.value.to_ns - 1)),
  h: follow,
  b: () => chosen.value && toggle(chosen.value.thread),
  p: () => props.focus && emit('pin', props.focus),
  Enter: () => void restrict(),
  Escape: () => {
    if (selected.value) selected.value = undefined
    else if (followed.value) followed.value = ''
    else if (chosen.value) chosen.value = told.value = undefined
    else emit('focus', '')
  },
})
const legend = computed(() => {
  const all = data.value
  if (!all) return []
  // Where goroutines have lanes, they have what their threads did.
  const carried = new Set(all.lanes.filter((l) => l.routine).map((l) => l.pid))
  const of = all.lanes.filter((l) => l.routine || !carried.has(l.pid))
  const sums = all.states.map((_, i) => of.reduce((sum, l) => sum + l.spent[i], 0))
  return all.states.map((s, i) => ({ name: s.name, words: s.words, sum: sums[i] })).filter((s) => s.name && s.sum > 0)
})
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Lanes" :aria-busy="busy || undefined">
    <ErrorNote v-if="failed" :error="failed" :retry="() => void head.refetch()" />
    <WaitNote v-else-if="!data" what="Laying the take out over time" />
    <div v-else-if="!data.lanes.length && !data.hidden" class="max-w-[60ch] space-y-2 p-6 text-ink-2" data-test="no-lanes">
      <p>The samples of this take were added up over time, or counted: when each was is not known.</p>
      <p>Make a take of a running program to see what its threads do over time:</p>
      <p class="code">entelon take -m cpu -m waiting -m syscalls -- COMMAND</p>
    </div>
    <template v-else>
      <div class="flex shrink-0 flex-wrap items-center gap-x-4 gap-y-1 border-b border-rule px-4 py-1">
        <component :is="s.name === 'unknown' ? 'span' : 'button'" v-for="s in legend" :key="s.name" class="flex items-center gap-1.5" :title="s.name === 'unknown' ? s.words : `only samples of threads that are in this state: ${s.words}`" data-test="lane-state" @click="s.name !== 'unknown' && void scope.add(`state is ${s.name}`)"><StateSwatch :state="s.name" />{{ short[s.name] }} <span class="label">{{ duration(s.sum) }}</span></component>
        <span class="flex-1" />
        <span class="label">{{ count(data.lanes.length) }} {{ data.lanes.length === 1 ? 'lane' : 'lanes' }}<template v-if="data.hidden">, {{ count(data.hidden) }} without anything in scope</template></span>
        <span class="flex" role="group" aria-label="Zoom">
          <button class="-ml-px border border-rule-strong bg-sheet px-2" aria-label="Zoom out" @click="zoom(1.6)">−</button>
          <button class="-ml-px border border-rule-strong bg-sheet px-2" @click="fit">fit</button>
          <button class="-ml-px border border-rule-strong bg-sheet px-2" aria-label="Zoom in" @click="zoom(1 / 1.6)">+</button>
        </span>
      </div>
      <p v-if="!data.measured" class="shrink-0 border-b border-rule px-4 py-1 text-ink-2" data-test="lanes-unmeasured">Waiting was not measured in this take, so it is not known when a thread ran: open a lane for its samples, or take again with <span class="code">-m waiting</span>.</p>
      <p v-if="data.thinned || data.lost" class="shrink-0 border-b border-rule px-4 py-1 text-ink-2" data-test="lanes-thinned"><template v-if="data.thinned">{{ count(data.thinned) }} waits and calls shorter than 1 ms came too fast to be kept and show as what was around them. </template><template v-if="data.lost">{{ count(data.lost) }} more are missing: there was no room for them.</template></p>
      <RateStrip :take-key="takeKey" :view="view" :duration="whole.to" :width="width" :left="names" />
      <div ref="box" class="relative min-h-0 flex-1 overflow-y-auto outline-none" data-test="lanes" tabindex="-1" @scroll="scroll = box!.scrollTop">
        <div :style="{ height: Math.max(height, plan.height + axisHeight) + 'px' }">
          <canvas ref="canvas" class="sticky top-0 block touch-none" role="img" :aria-label="`What ${count(data.lanes.length)} threads did from ${seconds(view.from, 3)} to ${seconds(view.to, 3)}`" :style="{ marginLeft: names + 'px', width: width + 'px', height: height + 'px' }" @pointermove="hover" @pointerdown="press" @pointerup="release" @pointerleave="pointed = undefined" />
          <template v-for="line in shown" :key="line.key">
            <p v-if="line.lane < 0" class="label absolute left-0 truncate pl-4 leading-[22px]" :style="{ top: line.top + axisHeight + 'px', width: names + 'px' }">{{ line.name }}</p>
            <button v-else class="absolute left-0 flex items-center gap-1 border-l-[3px] pr-2 pl-[13px] text-left" :class="idOf(line) === chosen?.thread ? 'border-l-ink font-medium' : 'border-l-transparent'" :style="{ top: line.top + axisHeight + 'px', height: laneHeight + 'px', width: names + 'px' }" :aria-expanded="canOpen(line) ? open.has(idOf(line)) : undefined" :title="data.lanes[line.lane].words" data-test="lane" @click="toggle(idOf(line))">
              <span class="w-3 shrink-0 text-ink-3" aria-hidden="true">{{ canOpen(line) ? (open.has(idOf(line)) ? '▾' : '▸') : '' }}</span>
              <span class="truncate">{{ line.name }}</span>
              <span v-if="!data.lanes[line.lane].made_up" class="label shrink-0">{{ data.lanes[line.lane].tid }}</span>
            </button>
          </template>
        </div>
      </div>
      <div class="label flex shrink-0 items-center gap-3 border-t border-rule px-4 py-1">
        <span class="truncate" data-test="lane-pointed">{{ pointed ? `${seconds(pointed.at, 6)}  ${pointed.text}` : selected ? `${seconds(selected.from, 6)} to ${seconds(selected.to, 6)}: ${duration(selected.to - selected.from)}` : 'Drag for a stretch of time, click for what a thread did.' }}</span>
        <span class="flex-1" />
        <template v-if="selected"><button class="text-ink-2 underline hover:text-ink" @click="fit">zoom to it</button><button class="text-ink-2 underline hover:text-ink" @click="restrict">only this time</button><button v-if="chosen" class="text-ink-2 underline hover:text-ink" @click="follow">what held the chosen thread up</button></template>
      </div>
      <LanePathTable v-if="asked" :path="path.data.value" :error="path.error.value" :focus="focus" @close="followed = ''" @go="go" @focus="emit('focus', $event)" />
      <LaneDetail v-else-if="chosen" :take-key="takeKey" :thread="chosen.thread" :at="chosen.at" :tick="data.tick_ns" :focus="focus" @told="told = $event" @go="go" @focus="emit('focus', $event)" @path="follow" />
    </template>
  </section>
</template>
