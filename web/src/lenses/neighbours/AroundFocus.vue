<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { Neighbours, Range } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { useMeasure } from '../../composables/useMeasure'
import { usePercent } from '../../composables/usePercent'
import { dark } from '../../composables/useTheme'
import { fittedIn, percent, shortCount, times } from '../../lib/format'
import { inkOf } from '../../lib/palette'
import { neighbours } from '../questions'

/** Where the cost of the focus comes in, on the left, and where it goes on, on the right. */
const props = defineProps<{ takeKey: string; range: Range; focus: string; levels: number }>()
const emit = defineEmits<{ focus: [name: string] }>()
const { figure } = useMeasure()
const { of } = usePercent()
const box = ref<HTMLElement>()
const { width, height } = useElementSize(box)
const query = useQuery(computed(() => ({ ...neighbours(props.takeKey, props.range, props.focus, props.levels), enabled: props.focus !== '', placeholderData: keepPreviousData })))

type Box = { i: number; x: number; y: number; w: number; h: number; node: Neighbours['nodes'][number]; in: number; out: number }
const gap = 7
const least = 15
const drawing = computed(() => {
  const d = query.data.value
  if (!d?.nodes.length || !width.value) return undefined
  const sides = 2 * props.levels + 1
  const margin = 16
  const bar = Math.min(170, (width.value - 2 * margin) / (sides * 1.45))
  const step = (width.value - 2 * margin - bar) / (sides - 1)
  const tallest = Math.max(...Array.from({ length: sides }, (_, k) => d.nodes.filter((n) => n.level === k - props.levels).length))
  const room = Math.max(160, height.value - 2 * margin - 18 - gap * Math.max(0, tallest - 1) - least * tallest)
  const boxes: Box[] = []
  for (let level = -props.levels; level <= props.levels; level++) {
    const list = d.nodes.map((node, i) => ({ node, i })).filter((x) => x.node.level === level)
    const heights = list.map((x) => least + (room * x.node.value) / (d.total || 1))
    let y = margin + 18 + Math.max(0, (height.value - 2 * margin - 18 - heights.reduce((a, b) => a + b, 0) - gap * (list.length - 1)) / 2)
    list.forEach((x, k) => {
      boxes[x.i] = { ...x, x: margin + (level + props.levels) * step, y, w: bar, h: heights[k], in: 0, out: 0 }
      y += heights[k] + gap
    })
  }
  const scale = (b: Box, v: number) => (b.h * v) / (b.node.value || 1)
  const bands = d.links.map((l) => {
    const [a, b] = [boxes[l.from], boxes[l.to]]
    const [ha, hb] = [Math.max(0.6, scale(a, l.value)), Math.max(0.6, scale(b, l.value))]
    const [ya, yb] = [a.y + a.out, b.y + b.in]
    a.out += ha
    b.in += hb
    const [x1, x2] = [a.x + a.w, b.x]
    const m = (x1 + x2) / 2
    return { d: `M${x1},${ya} C${m},${ya} ${m},${yb} ${x2},${yb} L${x2},${yb + hb} C${m},${yb + hb} ${m},${ya + ha} ${x1},${ya + ha} Z`, text: `${name(a.node)} calls ${name(b.node)}${l.calls ? ` ${times(l.calls)}` : ''}: ${figure(l.value)}`, calls: l.calls, x: m, y: (ya + yb + (ha + hb) / 2) / 2, near: a.node.level === 0 || b.node.level === 0 }
  })
  return { boxes: boxes.filter(Boolean), bands, h: Math.max(height.value, ...boxes.filter(Boolean).map((b) => b.y + b.h + margin)) }
})
const name = (n: Neighbours['nodes'][number]) => n.function?.short ?? `${n.others} others`
const ink = (n: Neighbours['nodes'][number]) => inkOf(n.function?.kind ?? 'unknown', n.function?.area ?? '', dark.value)
const share = (v: number) => v / (query.data.value?.total || 1)
</script>

<template>
  <p v-if="!focus" class="p-6 text-ink-2">Pick a function, in the list or in another lens, to see its callers and callees.</p>
  <ErrorNote v-else-if="query.isError.value" :error="query.error.value" :retry="() => query.refetch()" />
  <div v-else ref="box" class="relative min-h-0 flex-1 overflow-auto bg-sheet">
    <WaitNote v-if="query.isPending.value" what="Loading callers and callees" />
    <svg v-if="drawing" :width="width" :height="drawing.h" class="block" role="group" :aria-label="`Callers and callees of ${focus}`" data-test="neighbours">
      <text x="16" y="22" class="label" fill="currentColor">comes in from</text>
      <text :x="width - 16" y="22" text-anchor="end" class="label" fill="currentColor">goes on to</text>
      <path v-for="(b, i) in drawing.bands" :key="i" :d="b.d" fill="var(--color-bar-pale)" fill-opacity="0.55"><title>{{ b.text }}</title></path>
      <template v-for="(b, i) in drawing.bands" :key="`c${i}`"><text v-if="b.calls && b.near" :x="b.x" :y="b.y + 4" text-anchor="middle" class="pointer-events-none fill-ink stroke-sheet text-[10.5px] [paint-order:stroke] [stroke-width:3px]" data-test="edge-calls">{{ shortCount(b.calls) }} ×</text></template>
      <g v-for="b in drawing.boxes" :key="b.i" class="cursor-pointer outline-none [&:focus-visible>rect]:stroke-[2.5]" :tabindex="b.node.function ? 0 : -1" role="button" :aria-label="`${name(b.node)}, ${percent(share(b.node.value))} of the function's total`" @click="b.node.function && emit('focus', b.node.function.name)" @keydown.enter.stop="b.node.function && emit('focus', b.node.function.name)">
        <rect :x="b.x" :y="b.y" :width="b.w" :height="b.h" :fill="ink(b.node).fill" :stroke="b.node.level === 0 ? 'var(--color-focus)' : ink(b.node).edge" :stroke-width="b.node.level === 0 ? 3 : 1" />
        <title>{{ b.node.function?.name ?? name(b.node) }} · {{ figure(b.node.value) }} · {{ percent(share(b.node.value)) }} of the total of the function in focus</title>
        <foreignObject :x="b.x + 4" :y="b.y" :width="Math.max(0, b.w - 8)" :height="b.h"><div class="flex h-full flex-col justify-center overflow-hidden leading-[14px]"><span class="code truncate text-[11.5px]" :style="{ color: ink(b.node).text }">{{ fittedIn(name(b.node), (b.w - 8) / 6.9) }}</span><span v-if="b.h > 30" class="text-[11px]" :style="{ color: ink(b.node).text }">{{ of(b.node.value, { parent: query.data.value?.total, scope: query.data.value?.scope_total }) }}<template v-if="b.node.level === 0 && b.h > 44"> · self {{ of(query.data.value!.self, { parent: query.data.value?.total, scope: query.data.value?.scope_total }) }}</template></span></div></foreignObject>
      </g>
    </svg>
  </div>
</template>
