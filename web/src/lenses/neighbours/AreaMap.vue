<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useElementSize } from '@vueuse/core'
import { hierarchy, treemap, treemapSquarify } from 'd3-hierarchy'
import { computed, ref } from 'vue'
import { api, type FunctionRef, type Range } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { useMeasure } from '../../composables/useMeasure'
import { usePercent } from '../../composables/usePercent'
import { dark } from '../../composables/useTheme'
import { count, fittedIn } from '../../lib/format'
import { inkOf } from '../../lib/palette'

/** Self costs as areas: functions within packages or modules. */
const props = defineProps<{ takeKey: string; range: Range; focus: string }>()
const emit = defineEmits<{ focus: [name: string] }>()
const { figure } = useMeasure()
const { of } = usePercent()
const box = ref<HTMLElement>()
const { width, height } = useElementSize(box)
const query = useQuery({ queryKey: ['hot', () => props.takeKey, () => props.range], queryFn: () => api.hot(props.takeKey, props.range), placeholderData: keepPreviousData })
type Leaf = { name: string; ref?: FunctionRef; value?: number; children?: Leaf[] }
const drawing = computed(() => {
  const d = query.data.value
  if (!d || !width.value || !height.value) return undefined
  const by = new Map<string, Leaf[]>()
  let hidden = 0
  let hiddenValue = 0
  d.functions.forEach((f, i) => {
    if (!d.self[i]) return
    // What is too small to see stands aside, and is said.
    if ((d.self[i] / (d.total || 1)) * width.value * height.value < 24) {
      hidden++
      hiddenValue += d.self[i]
      return
    }
    by.set(f.area, [...(by.get(f.area) ?? []), { name: f.short, ref: f, value: d.self[i] }])
  })
  const root = hierarchy<Leaf>({ name: '', children: [...by].map(([name, children]) => ({ name, children })) })
    .sum((l) => l.value ?? 0)
    .sort((a, b) => (b.value ?? 0) - (a.value ?? 0))
  const laid = treemap<Leaf>().size([width.value, height.value]).paddingInner(1).paddingOuter(2).paddingTop((n) => (n.depth === 1 ? 16 : 2)).round(true).tile(treemapSquarify)(root)
  return { areas: laid.children ?? [], leaves: laid.leaves().filter((l) => l.data.ref), hidden, hiddenValue, total: d.total }
})
</script>

<template>
  <ErrorNote v-if="query.isError.value" :error="query.error.value" :retry="() => query.refetch()" />
  <template v-else>
    <p v-if="drawing" class="label shrink-0 border-b border-rule px-4 py-1">Self costs as areas, by package or module; too small to draw: {{ count(drawing.hidden) }} functions with {{ of(drawing.hiddenValue, { scope: drawing.total }) }}</p>
    <div ref="box" class="relative min-h-0 flex-1 overflow-hidden bg-sheet">
      <WaitNote v-if="query.isPending.value" what="Drawing the areas" />
      <svg v-if="drawing" :width="width" :height="height" class="block" role="group" aria-label="Self costs as nested areas" data-test="areas">
        <g v-for="a in drawing.areas" :key="a.data.name"><rect :x="a.x0" :y="a.y0" :width="a.x1 - a.x0" :height="a.y1 - a.y0" fill="var(--color-wash)" stroke="var(--color-rule)" /><foreignObject :x="a.x0 + 3" :y="a.y0" :width="Math.max(0, a.x1 - a.x0 - 6)" height="16"><span class="block truncate text-[11px] text-ink-2">{{ a.data.name }} {{ of(a.value ?? 0, { scope: drawing.total }) }}</span></foreignObject></g>
        <g v-for="l in drawing.leaves" :key="l.data.ref!.id" class="cursor-pointer outline-none [&:focus-visible>rect]:stroke-[2.5]" tabindex="0" role="button" :aria-label="`${l.data.name}, self ${of(l.value ?? 0, { scope: drawing.total })}`" @click="emit('focus', l.data.ref!.name)" @keydown.enter.stop="emit('focus', l.data.ref!.name)">
          <title>{{ l.data.ref!.name }} · self {{ figure(l.value ?? 0) }}</title>
          <rect :x="l.x0" :y="l.y0" :width="l.x1 - l.x0" :height="l.y1 - l.y0" :fill="inkOf(l.data.ref!.kind, l.data.ref!.area, dark).fill" :stroke="l.data.ref!.name === focus ? 'var(--color-focus)' : inkOf(l.data.ref!.kind, l.data.ref!.area, dark).edge" :stroke-width="l.data.ref!.name === focus ? 3 : 1" />
          <foreignObject v-if="l.x1 - l.x0 > 44 && l.y1 - l.y0 > 15" :x="l.x0 + 3" :y="l.y0 + 1" :width="l.x1 - l.x0 - 6" :height="l.y1 - l.y0 - 2"><div class="overflow-hidden text-[11px] leading-[13px]" :style="{ color: inkOf(l.data.ref!.kind, l.data.ref!.area, dark).text }"><span class="code block truncate">{{ fittedIn(l.data.name, (l.x1 - l.x0 - 6) / 6.6) }}</span><span v-if="l.y1 - l.y0 > 30" class="block">{{ of(l.value ?? 0, { scope: drawing.total }) }}</span></div></foreignObject>
        </g>
      </svg>
    </div>
  </template>
</template>
