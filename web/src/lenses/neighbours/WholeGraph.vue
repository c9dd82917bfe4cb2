<script setup lang="ts">
import dagre from '@dagrejs/dagre'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, type Range } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { useKeys } from '../../composables/useKeys'
import { useMeasure } from '../../composables/useMeasure'
import { usePercent } from '../../composables/usePercent'
import { dark } from '../../composables/useTheme'
import { useZoom } from '../../composables/useZoom'
import { count, fittedIn, shortCount, times } from '../../lib/format'
import { inkOf } from '../../lib/palette'
import { chains } from './chains'

/** The call graph of everything in scope, without its thin parts. */
const props = defineProps<{ takeKey: string; range: Range; focus: string }>()
const emit = defineEmits<{ focus: [name: string] }>()
const { figure } = useMeasure()
const { of } = usePercent()
const most = ref(40)
const query = useQuery({
  queryKey: ['graph', () => props.takeKey, () => props.range, most],
  queryFn: () => api.graph(props.takeKey, { ...props.range, most: most.value, least_permille: 10 }),
  placeholderData: keepPreviousData,
})
// Functions in a row that only hand on are one box, until it is opened.
const opened = ref(new Set<string>())
const boxes = computed(() => {
  const d = query.data.value
  if (!d?.nodes.length) return undefined
  const gathered = chains(d.nodes.length, d.links, (i) => d.nodes[i].self * 100 >= d.total || d.nodes[i].function.name === props.focus).filter((c) => !opened.value.has(d.nodes[c[0]].function.name))
  const of = new Map(gathered.flatMap((c) => c.map((i) => [i, c[0]] as const)))
  const list = d.nodes.map((n, i) => ({ ...n, i, chain: gathered.find((c) => c[0] === i)?.map((k) => d.nodes[k].function) })).filter((n) => (of.get(n.i) ?? n.i) === n.i)
  const links = d.links.map((l) => ({ ...l, from: of.get(l.from) ?? l.from, to: of.get(l.to) ?? l.to })).filter((l) => l.from !== l.to)
  return { list, links, total: d.total }
})
type Boxes = NonNullable<typeof boxes.value>
/** Lays the graph out, callers above callees or to their left. */
function laidOut(d: Boxes, rankdir: 'TB' | 'LR') {
  const g = new dagre.graphlib.Graph({ multigraph: true }).setGraph({ rankdir, nodesep: 12, ranksep: rankdir === 'TB' ? 24 : 40, marginx: 16, marginy: 16 }).setDefaultEdgeLabel(() => ({}))
  for (const n of d.list) {
    const share = Math.sqrt(n.total / (d.total || 1))
    g.setNode(String(n.i), n.chain ? { width: 96, height: 20 } : { width: 118 + 60 * share, height: 32 + 10 * share })
  }
  d.links.forEach((l, i) => g.setEdge(String(l.from), String(l.to), { weight: 1 + (20 * l.value) / (d.total || 1) }, String(i)))
  dagre.layout(g)
  const nodes = d.list.map((n) => ({ ...n, ...(g.node(String(n.i)) as { x: number; y: number; width: number; height: number }) }))
  const edges = d.links.map((l, i) => ({ ...l, points: (g.edge(String(l.from), String(l.to), String(i)) as { points: { x: number; y: number }[] }).points ?? [] }))
  const size = g.graph() as { width: number; height: number }
  return { nodes, edges, width: size.width, height: size.height, total: d.total }
}
const box = ref<HTMLElement>()
const drawing = computed(() => {
  const d = boxes.value
  if (!d) return undefined
  // Whichever way it is larger in the room that there is.
  const fits = (l: { width: number; height: number }) => Math.min((box.value?.clientWidth || 640) / l.width, (box.value?.clientHeight || 560) / l.height)
  const [down, across] = [laidOut(d, 'TB'), laidOut(d, 'LR')]
  return fits(down) >= fits(across) ? down : across
})
const { scale, viewBox, fitted, fit, show, closer, further } = useZoom(box, drawing)
const inFocus = () => drawing.value?.nodes.find((n) => n.function.name === props.focus)
useKeys({ '+': () => closer(inFocus()), '-': () => further(inFocus()), z: fit })
/** A frame that the keyboard comes to is brought into view where only a part is shown. */
function reached(n: { x: number; y: number }, e: FocusEvent) {
  if (!fitted.value && (e.target as Element).matches(':focus-visible')) show(n.x, n.y)
}
const line = (ps: { x: number; y: number }[]) => ps.map((p, i) => `${i ? 'L' : 'M'}${p.x.toFixed(1)},${p.y.toFixed(1)}`).join(' ')
const thick = (v: number) => Math.max(0.8, 11 * Math.sqrt(v / (drawing.value?.total || 1)))
const touches = (e: { from: number; to: number }) => [e.from, e.to].some((i) => query.data.value?.nodes[i].function.name === props.focus)
const short = (i: number) => query.data.value?.nodes[i].function.short
type Box = Boxes['list'][number]
const named = (n: Box) => (n.chain ? `${n.chain.length} functions that only hand on: ${n.chain.map((f) => f.short).join(', ')}` : `${n.function.short}, total ${of(n.total, { scope: drawing.value!.total })}`)
function choose(n: Box) {
  if (n.chain) opened.value = new Set([...opened.value, n.function.name])
  else emit('focus', n.function.name)
}
const ink = (n: Box) => inkOf(n.function.kind, n.function.area, dark.value)
</script>

<template>
  <ErrorNote v-if="query.isError.value" :error="query.error.value" :retry="() => query.refetch()" />
  <template v-else>
    <p v-if="query.data.value" class="label flex shrink-0 items-center gap-3 border-b border-rule px-4 py-1" data-test="graph-left-out">
      <span>{{ count(query.data.value.nodes.length) }} functions with at least 1 % of the total; left out: {{ count(query.data.value.hidden_functions) }} functions with a self cost of {{ of(query.data.value.hidden_self, { scope: query.data.value.total }) }}, and {{ count(query.data.value.hidden_links) }} {{ query.data.value.hidden_links === 1 ? 'call' : 'calls' }} among them or below that</span>
      <button v-if="most === 40 && query.data.value.nodes.length === 40" class="word" @click="most = 120">show more</button>
    </p>
    <div ref="box" class="relative min-h-0 flex-1 touch-none overflow-hidden bg-sheet" :class="!fitted && 'cursor-move'">
      <WaitNote v-if="query.isPending.value" what="Drawing the graph" />
      <svg v-if="drawing" :viewBox="viewBox" class="absolute inset-0 size-full" role="group" aria-label="Call graph" data-test="graph">
        <path v-for="(e, i) in drawing.edges" :key="i" :d="line(e.points)" fill="none" :stroke="touches(e) ? 'var(--color-ink-2)' : 'var(--color-bar-pale)'" :stroke-width="thick(e.value)" stroke-linejoin="round"><title>{{ short(e.from) }} calls {{ short(e.to) }}{{ e.calls ? ` ${times(e.calls)}` : '' }}: {{ figure(e.value) }}</title></path>
        <g v-for="n in drawing.nodes" :key="n.i" class="cursor-pointer outline-none [&:focus-visible>rect]:stroke-[2.5]" tabindex="0" role="button" :aria-label="named(n)" :data-test="n.chain ? 'chain' : undefined" @click="choose(n)" @focus="reached(n, $event)" @keydown.enter.stop="choose(n)">
          <template v-if="n.chain">
            <title>{{ n.chain.map((f) => f.name).join('\n') }}</title>
            <rect :x="n.x - n.width / 2" :y="n.y - n.height / 2" :width="n.width" :height="n.height" fill="var(--color-wash)" stroke="var(--color-rule-strong)" />
            <text :x="n.x" :y="n.y + 4" text-anchor="middle" class="fill-ink-2 text-[11px]">{{ n.chain.length }} functions</text>
          </template>
          <template v-else>
            <title>{{ n.function.name }} · total {{ figure(n.total) }} · self {{ figure(n.self) }}</title>
            <rect :x="n.x - n.width / 2" :y="n.y - n.height / 2" :width="n.width" :height="n.height" :fill="ink(n).fill" :stroke="n.function.name === focus ? 'var(--color-focus)' : ink(n).edge" :stroke-width="n.function.name === focus ? 3 : 1" />
            <foreignObject :x="n.x - n.width / 2 + 4" :y="n.y - n.height / 2" :width="n.width - 8" :height="n.height"><div class="flex h-full flex-col justify-center leading-[14px]" :style="{ color: ink(n).text }"><span class="code truncate text-[11px]">{{ fittedIn(n.function.short, (n.width - 8) / 6.6) }}</span><span class="text-[10.5px]">{{ of(n.total, { scope: drawing.total }) }}<template v-if="n.self * 100 >= drawing.total"> · self {{ of(n.self, { scope: drawing.total }) }}</template></span></div></foreignObject>
          </template>
        </g>
        <template v-for="(e, i) in drawing.edges" :key="`c${i}`"><text v-if="e.calls && touches(e)" :x="e.points[Math.floor(e.points.length / 2)].x" :y="e.points[Math.floor(e.points.length / 2)].y + 4" text-anchor="middle" class="pointer-events-none fill-ink stroke-sheet text-[10.5px] [paint-order:stroke] [stroke-width:3px]">{{ shortCount(e.calls) }} ×</text></template>
      </svg>
      <div v-if="drawing" class="absolute right-2 bottom-2 flex items-center border border-rule-strong bg-sheet" role="group" aria-label="Zoom">
        <button class="px-2 py-0.5" aria-label="Zoom out (-)" title="Zoom out (-)" @click="further()">−</button>
        <button class="border-x border-rule-strong px-2 py-0.5" :aria-pressed="fitted" title="Fit the drawing to the window (z)" data-test="fit" @click="fit">{{ fitted ? 'fitted' : `${Math.round(100 * scale)} %` }}</button>
        <button class="px-2 py-0.5" aria-label="Zoom in (+)" title="Zoom in (+)" @click="closer()">+</button>
      </div>
    </div>
  </template>
</template>
