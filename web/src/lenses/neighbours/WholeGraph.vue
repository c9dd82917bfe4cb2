<script setup lang="ts">
import dagre from '@dagrejs/dagre'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, type Range } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { useMeasure } from '../../composables/useMeasure'
import { usePercent } from '../../composables/usePercent'
import { dark } from '../../composables/useTheme'
import { count, fittedIn } from '../../lib/format'
import { inkOf } from '../../lib/palette'

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
const drawing = computed(() => {
  const d = query.data.value
  if (!d?.nodes.length) return undefined
  const g = new dagre.graphlib.Graph({ multigraph: true }).setGraph({ rankdir: 'TB', nodesep: 12, ranksep: 24, marginx: 16, marginy: 16 }).setDefaultEdgeLabel(() => ({}))
  d.nodes.forEach((n, i) => {
    const share = n.total / (d.total || 1)
    g.setNode(String(i), { width: 118 + 60 * Math.sqrt(share), height: 32 + 10 * Math.sqrt(share) })
  })
  d.links.forEach((l, i) => l.from !== l.to && g.setEdge(String(l.from), String(l.to), { weight: 1 + (20 * l.value) / (d.total || 1) }, String(i)))
  dagre.layout(g)
  const nodes = d.nodes.map((n, i) => ({ ...n, i, ...(g.node(String(i)) as { x: number; y: number; width: number; height: number }) }))
  const edges = d.links
    .map((l, i) => ({ ...l, points: l.from === l.to ? [] : ((g.edge(String(l.from), String(l.to), String(i)) as { points: { x: number; y: number }[] }).points ?? []) }))
    .filter((e) => e.points.length)
  const size = g.graph() as { width: number; height: number }
  return { nodes, edges, width: size.width, height: size.height, total: d.total }
})
// The focus is in view when the drawing is new; later it moves only by hand.
const box = ref<HTMLElement>()
watch([drawing, box], ([d]) => {
  const at = d?.nodes.find((n) => n.function.name === props.focus)
  if (at && box.value) box.value.scrollTo(at.x - box.value.clientWidth / 2, at.y - box.value.clientHeight / 2)
}, { flush: 'post' })
const line = (ps: { x: number; y: number }[]) => ps.map((p, i) => `${i ? 'L' : 'M'}${p.x.toFixed(1)},${p.y.toFixed(1)}`).join(' ')
const thick = (v: number) => Math.max(0.8, 11 * Math.sqrt(v / (drawing.value?.total || 1)))
const touches = (e: { from: number; to: number }) => [e.from, e.to].some((i) => query.data.value?.nodes[i].function.name === props.focus)
</script>

<template>
  <ErrorNote v-if="query.isError.value" :error="query.error.value" :retry="() => query.refetch()" />
  <template v-else>
    <p v-if="query.data.value" class="label flex shrink-0 items-center gap-3 border-b border-rule px-4 py-1" data-test="graph-left-out">
      <span>{{ count(query.data.value.nodes.length) }} functions with at least 1 % of the total; left out: {{ count(query.data.value.hidden_functions) }} functions with {{ of(query.data.value.hidden_self, { scope: query.data.value.total }) }} of their own, and {{ count(query.data.value.hidden_links) }} {{ query.data.value.hidden_links === 1 ? 'call' : 'calls' }} between them or with less</span>
      <button v-if="most === 40 && query.data.value.nodes.length === 40" class="word" @click="most = 120">show more</button>
    </p>
    <div ref="box" class="relative min-h-0 flex-1 overflow-auto bg-sheet">
      <WaitNote v-if="query.isPending.value" what="Drawing the graph" />
      <svg v-if="drawing" :width="drawing.width" :height="drawing.height" class="mx-auto block" role="group" aria-label="Call graph" data-test="graph">
        <path v-for="(e, i) in drawing.edges" :key="i" :d="line(e.points)" fill="none" :stroke="touches(e) ? 'var(--color-ink-2)' : 'var(--color-bar-pale)'" :stroke-width="thick(e.value)" stroke-linejoin="round"><title>{{ drawing.nodes[e.from].function.short }} calls {{ drawing.nodes[e.to].function.short }}: {{ figure(e.value) }}</title></path>
        <g v-for="n in drawing.nodes" :key="n.i" class="cursor-pointer outline-none [&:focus-visible>rect]:stroke-[2.5]" tabindex="0" role="button" :aria-label="`${n.function.short}, total ${of(n.total, { scope: drawing.total })}`" @click="emit('focus', n.function.name)" @keydown.enter.stop="emit('focus', n.function.name)">
          <title>{{ n.function.name }} · total {{ figure(n.total) }} · self {{ figure(n.self) }}</title>
          <rect :x="n.x - n.width / 2" :y="n.y - n.height / 2" :width="n.width" :height="n.height" :fill="inkOf(n.function.kind, n.function.area, dark).fill" :stroke="n.function.name === focus ? 'var(--color-focus)' : inkOf(n.function.kind, n.function.area, dark).edge" :stroke-width="n.function.name === focus ? 3 : 1" />
          <foreignObject :x="n.x - n.width / 2 + 4" :y="n.y - n.height / 2" :width="n.width - 8" :height="n.height"><div class="flex h-full flex-col justify-center leading-[14px]" :style="{ color: inkOf(n.function.kind, n.function.area, dark).text }"><span class="code truncate text-[11px]">{{ fittedIn(n.function.short, (n.width - 8) / 6.6) }}</span><span class="text-[10.5px]">{{ of(n.total, { scope: drawing.total }) }}<template v-if="n.self * 100 >= drawing.total"> · self {{ of(n.self, { scope: drawing.total }) }}</template></span></div></foreignObject>
        </g>
      </svg>
    </div>
  </template>
</template>
