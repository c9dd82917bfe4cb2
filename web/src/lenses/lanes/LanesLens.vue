<script setup lang="ts">
import { keepPreviousData, useQueries, useQuery } from '@tanstack/vue-query'
import { useDebounceFn, useElementSize, useEventListener } from '@vueuse/core'
import { computed, reactive, ref, shallowRef, toRef, watch } from 'vue'
import { api, type LaneAt, type LaneRow, type Lanes } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { useAddress } from '../../composables/useAddress'
import { useKeys } from '../../composables/useKeys'
import { useScope } from '../../composables/useScope'
import { dark } from '../../composables/useTheme'
import { sized } from '../../lib/canvasSize'
import { count, duration, seconds } from '../../lib/format'
import { lanes as asking } from '../questions'
import type { LensEmits, LensProps } from '../registry'
import LaneDetail from './LaneDetail.vue'
import LanePathTable from './LanePathTable.vue'
import { axisHeight, barHeight, between, fetched, laneHeight, layOut, type Line, moved, type View, zoomed } from './layout'
import { type Chosen, middle, paint } from './paint'
import { short } from './states'
import StateSwatch from './StateSwatch.vue'

/** The take over time, a lane for each thread: what it did when, what it waited for, and who ended that. */
const props = defineProps<LensProps>()
const emit = defineEmits<LensEmits>()
const { text, change } = useAddress()
const scope = useScope(toRef(props, 'takeKey'))

// Where one looks. While it moves, the address waits.
const stands = text('when') // "from-to" in nanoseconds
const opened = text('open') // threads, with commas
const open = computed(() => new Set(opened.value.split(',').filter(Boolean).map(Number)))
const view = ref<View>({ from: 0, to: 0 })
const chosen = ref<{ thread: number; at: number }>()
const selected = ref<View>()
const followed = text('heldup') // "thread:from-to" of a critical path

// The heads of all lanes come with each block; the first one that came says how long the take is.
const head = useQuery(computed(() => ({ ...asking(props.takeKey, props.range, { begin: 0, end: 1, parts: 1, first: 0, count: 0, open: '' }), placeholderData: keepPreviousData })))
const data = computed(() => head.data.value)
const whole = computed<View>(() => ({ from: 0, to: Math.max(1, data.value?.duration_ns ?? 1) }))
function begin() {
  const [from, to] = stands.value.split('-').map(Number)
  const t = scope.time.value
  if (to > from) view.value = { from, to: Math.min(to, whole.value.to) }
  else if (t && (t.from_ns || t.to_ns)) view.value = { from: t.from_ns ?? 0, to: t.to_ns || whole.value.to }
  else view.value = { ...whole.value }
}
watch([() => props.takeKey, () => !!data.value], () => data.value && begin(), { immediate: true })
const note = useDebounceFn((v: View) => change({ when: v.from === 0 && v.to === whole.value.to ? undefined : `${v.from}-${v.to}` }), 250)
function look(v: View) {
  view.value = v
  void note(v)
}

const box = ref<HTMLElement>()
const canvas = ref<HTMLCanvasElement>()
const { width: boxWidth, height } = useElementSize(box)
const names = 176
const width = computed(() => Math.max(50, boxWidth.value - names))
const scroll = ref(0)
const depths = reactive(new Map<number, number>())
const plan = computed(() => layOut(data.value?.lanes ?? [], new Map([...depths].filter(([id]) => open.value.has(id)))))
const shown = computed(() => between(plan.value.lines, scroll.value, scroll.value + height.value))

// Rows come in blocks of lanes, over more than is in view.
const block = 24
const parts = computed(() => Math.min(4000, Math.ceil(width.value / 64) * 64 * 4))
const blocks = computed(() => {
  const of = shown.value.filter((l) => l.lane >= 0).map((l) => Math.floor(l.lane / block))
  return [...new Set(of)]
})
const stretch = computed(() => fetched(view.value, whole.value.to))
const rows = useQueries({
  queries: computed(() =>
    data.value && view.value.to > view.value.from
      ? blocks.value.map((b) => {
          const ids = data.value!.lanes.slice(b * block, (b + 1) * block).map((l) => l.id).filter((id) => open.value.has(id))
          return asking(props.takeKey, props.range, { begin: stretch.value.from, end: stretch.value.to, parts: parts.value, first: b * block, count: block, open: ids.join(',') })
        })
      : [],
  ),
})
const failed = computed(() => head.error.value ?? rows.value.find((r) => r.error)?.error)
// What came last of each block is drawn until what was asked for comes.
const got = shallowRef(new Map<number, Lanes>())
watch(
  rows,
  (all) => {
    const next = new Map(got.value)
    all.forEach((q, i) => q.data && next.set(blocks.value[i], q.data))
    got.value = next
    for (const d of next.values())
      d.rows.forEach((r, i) => {
        const id = data.value?.lanes[d.first + i]?.id
        if (id === undefined || !r.bars.length) return
        let deepest = 0
        for (let k = 2; k < r.bars.length; k += 6) deepest = Math.max(deepest, r.bars[k] + 1)
        depths.set(id, deepest)
      })
  },
  { deep: false },
)
watch([() => props.takeKey, () => props.range.scope], () => (got.value = new Map()))
const busy = computed(() => rows.value.some((r) => r.isFetching))

function rowOf(line: Line): { row: LaneRow; begin: number } | undefined {
  const d = got.value.get(Math.floor(line.lane / block))
  const row = d?.rows[line.lane - (d?.first ?? 0)]
  return d && row ? { row, begin: d.from_ns } : undefined
}
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
      view: view.value, width: width.value, height: height.value, scroll: scroll.value, lines: shown.value, rowOf: functionsOf, idOf, states: states.value,
      focus: props.focus, dark: dark.value, chosen: picked.value, middleOf: (id) => heights.value.get(id), selected: selected.value, tick: data.value.tick_ns, steps: steps.value,
    })
  })
}
/** A row with the functions that its bars speak of, which are its block's. */
function functionsOf(line: Line) {
  const r = rowOf(line)
  return r && { ...r, functions: got.value.get(Math.floor(line.lane / block))!.functions }
}
watch([view, width, height, scroll, got, plan, picked, selected, steps, dark, () => props.focus, states], repaint, { deep: true })
document.fonts.ready.then(repaint)

const timeAt = (x: number) => Math.round(view.value.from + (x / width.value) * (view.value.to - view.value.from))
const place = (e: MouseEvent) => {
  const r = canvas.value!.getBoundingClientRect()
  return { x: e.clientX - r.left, y: e.clientY - r.top }
}
const lineAt = (y: number) => (y < axisHeight ? undefined : shown.value.find((l) => y - axisHeight + scroll.value >= l.top && y - axisHeight + scroll.value < l.top + l.height))

const pointed = ref<{ text: string; at: number }>()
let pointer: number | undefined
function hover(e: PointerEvent) {
  const { x, y } = place(e)
  pointer = timeAt(x)
  const line = lineAt(y)
  if (from) return void drag(x)
  pointed.value = line && line.lane >= 0 ? { text: describe(line, y, pointer), at: pointer } : undefined
}
/** What is under the pointer, in words. */
function describe(line: Line, y: number, at: number): string {
  const r = functionsOf(line)
  if (!r) return line.name
  const inside = y - axisHeight + scroll.value - line.top
  if (inside > laneHeight) {
    const depth = Math.floor((inside - laneHeight) / barHeight)
    const b = r.row.bars
    for (let i = 0; i < b.length; i += 6)
      if (b[i + 2] === depth && r.begin + b[i] <= at && r.begin + b[i + 1] >= at) {
        const many = b[i + 5] > 1 ? `${count(b[i + 5])} short ones, mostly ` : ''
        return `${many}${r.functions[b[i + 3]].short}: at least ${count(b[i + 4])} ${b[i + 4] === 1 ? 'sample' : 'samples'}, ${duration(b[i + 1] - b[i])}; calls not counted`
      }
    return line.name
  }
  const runs = r.row.runs
  for (let i = 0; i < runs.length; i += 6) {
    if (r.begin + runs[i] > at || r.begin + runs[i + 1] <= at) continue
    const long = duration(runs[i + 1] - runs[i])
    if (runs[i + 3] <= 1) return `${line.name} ${data.value!.states[runs[i + 2]].words}, ${long}`
    const spent = r.row.spent[runs[i + 5]]
    const list = []
    for (let k = 0; k < spent.length; k += 2) list.push(`${short[states.value[spent[k]]]} ${duration(spent[k + 1])}`)
    return `${line.name}: ${count(runs[i + 3])} states in ${long}: ${list.join(', ')}`
  }
  return `${line.name} is not there`
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
  const r = functionsOf(line)
  const inside = y - axisHeight + scroll.value - line.top
  if (r && inside > laneHeight) {
    const depth = Math.floor((inside - laneHeight) / barHeight)
    const b = r.row.bars
    for (let i = 0; i < b.length; i += 6)
      if (b[i + 2] === depth && r.begin + b[i] <= timeAt(x) && r.begin + b[i + 1] >= timeAt(x)) emit('focus', r.functions[b[i + 3]].name)
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
  if (at < view.value.from || at > view.value.to) look(moved(view.value, at - (view.value.from + view.value.to) / 2, whole.value.to))
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
  if (sideways) look(moved(view.value, (sideways / width.value) * (view.value.to - view.value.from), whole.value.to))
  else look(zoomed(view.value, Math.exp(e.deltaY * (e.deltaMode ? 0.05 : 0.003)), timeAt(x), whole.value.to))
}, { passive: false })

const centre = () => (pointer !== undefined && pointer >= view.value.from && pointer <= view.value.to ? pointer : (view.value.from + view.value.to) / 2)
const about = () => (chosen.value && chosen.value.at >= view.value.from && chosen.value.at <= view.value.to ? chosen.value.at : centre())
const zoom = (factor: number) => look(zoomed(view.value, factor, about(), whole.value.to))
const pan = (share: number) => look(moved(view.value, share * (view.value.to - view.value.from), whole.value.to))
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
  const sums = all.states.map((_, i) => all.lanes.reduce((sum, l) => sum + l.spent[i], 0))
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
      <div ref="box" class="relative min-h-0 flex-1 overflow-y-auto outline-none" data-test="lanes" tabindex="-1" @scroll="scroll = box!.scrollTop">
        <div :style="{ height: Math.max(height, plan.height + axisHeight) + 'px' }">
          <canvas ref="canvas" class="sticky top-0 block touch-none" role="img" :aria-label="`What ${count(data.lanes.length)} threads did from ${seconds(view.from, 3)} to ${seconds(view.to, 3)}`" :style="{ marginLeft: names + 'px', width: width + 'px', height: height + 'px' }" @pointermove="hover" @pointerdown="press" @pointerup="release" @pointerleave="pointed = undefined" />
          <template v-for="line in shown" :key="line.key">
            <p v-if="line.lane < 0" class="label absolute left-0 truncate pl-4 leading-[22px]" :style="{ top: line.top + axisHeight + 'px', width: names + 'px' }">{{ line.name }}</p>
            <button v-else class="absolute left-0 flex items-center gap-1 border-l-[3px] pr-2 pl-[13px] text-left" :class="idOf(line) === chosen?.thread ? 'border-l-ink font-medium' : 'border-l-transparent'" :style="{ top: line.top + axisHeight + 'px', height: laneHeight + 'px', width: names + 'px' }" :aria-expanded="canOpen(line) ? open.has(idOf(line)) : undefined" :title="`${line.name} ${data.lanes[line.lane].tid}`" data-test="lane" @click="toggle(idOf(line))">
              <span class="w-3 shrink-0 text-ink-3" aria-hidden="true">{{ canOpen(line) ? (open.has(idOf(line)) ? '▾' : '▸') : '' }}</span>
              <span class="truncate">{{ line.name }}</span>
              <span class="label shrink-0">{{ data.lanes[line.lane].tid }}</span>
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
