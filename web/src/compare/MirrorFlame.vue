<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useElementSize } from '@vueuse/core'
import { computed, ref, shallowRef, watch } from 'vue'
import { api, type Comparison, type ComparisonQuery } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import WaitNote from '../components/WaitNote.vue'
import { useKeys } from '../composables/useKeys'
import { dark } from '../composables/useTheme'
import { mirrorPixels } from '../lib/mirrorPixels'
import { paintMirror, rect, rowHeight, type MirrorLook, type Place } from './paintMirror'
import { useFigures } from './useFigures'

/** Both sides' flames on one line: the baseline grows up from it, the candidate down. */
const props = defineProps<{ question: ComparisonQuery; d: Comparison; focus: string; path: number[] }>()
const emit = defineEmits<{ focus: [name: string]; pin: [name: string] }>()
const { figure, difference, factor } = useFigures()
const box = ref<HTMLElement>()
const canvas = ref<HTMLCanvasElement>()
const { width, height } = useElementSize(box)
const pixels = computed(() => mirrorPixels(width.value))
const query = useQuery({
  queryKey: ['mirror', () => props.question, pixels],
  queryFn: ({ signal }) => api.mirror({ ...props.question, pixels: pixels.value }, signal),
  enabled: computed(() => width.value > 0),
  placeholderData: keepPreviousData,
})
const m = computed(() => query.data.value)
const rows = computed(() => new Map(props.d.rows.map((r) => [r.number, r])))
const hovered = shallowRef<Place>()
const walked = shallowRef<Place>()
const root = ref(0)
const scroll = ref(0)
watch(m, () => {
  root.value = 0
  hovered.value = walked.value = undefined
  scroll.value = 0
})
const deepest = computed(() => {
  let a = 0
  let b = 0
  m.value?.depth.forEach((x, i) => {
    if (m.value!.baseline[i]) a = Math.max(a, x)
    if (m.value!.candidate[i]) b = Math.max(b, x)
  })
  return [a + 1, b + 1]
})
// The midline stands so that both sides have the room that they need, as far as there is any.
const middle = computed(() => {
  const need = deepest.value.map((n) => n * rowHeight)
  if (need[0] + need[1] <= height.value) return need[0] + (height.value - need[0] - need[1]) / 2
  return Math.max(rowHeight * 2, (height.value * need[0]) / (need[0] + need[1]))
})
// The frames on the way of the suspect that was chosen.
const onPath = computed(() => {
  const out = new Set<number>()
  const f = m.value
  if (!f || !props.path.length) return out
  let at = 0
  for (const fn of props.path) {
    const next = f.parent.findIndex((p, i) => p === at && f.function[i] === fn)
    if (next < 0) break
    out.add(next)
    at = next
  }
  return out
})
const look = computed<MirrorLook>(() => {
  const f = m.value
  const left = f ? f.x[root.value] : 0
  return { dark: dark.value, focus: props.focus, path: onPath.value, hovered: hovered.value, walked: walked.value, width: width.value, height: height.value, middle: middle.value, scroll: scroll.value, left, right: left + (f ? f.slot[root.value] : 1) || 1 }
})
let queued = false
watch([look, m, () => props.d], () => {
  if (queued) return
  queued = true
  requestAnimationFrame(() => {
    queued = false
    const el = canvas.value
    if (!el || !m.value || !width.value) return
    const ratio = devicePixelRatio || 1
    el.width = Math.round(width.value * ratio)
    el.height = Math.round(height.value * ratio)
    const ctx = el.getContext('2d')!
    ctx.setTransform(ratio, 0, 0, ratio, 0, 0)
    paintMirror(ctx, m.value, rows.value, props.d, look.value)
  })
}, { immediate: true })

function under(e: MouseEvent): Place | undefined {
  const f = m.value
  if (!f) return undefined
  const b = canvas.value!.getBoundingClientRect()
  const [x, y] = [e.clientX - b.left, e.clientY - b.top]
  const side = y < middle.value + scroll.value ? 0 : 1
  for (let i = 0; i < f.x.length; i++) {
    const r = rect(f, { side, at: i }, look.value)
    if (y >= r.y && y < r.y + rowHeight && x >= r.x && x < r.x + Math.max(r.w, 2)) return { side, at: i }
  }
  return undefined
}
const nameAt = (p?: Place) => (p && m.value ? rows.value.get(m.value.function[p.at])?.name : undefined)
function click(e: MouseEvent) {
  walked.value = under(e)
  const name = nameAt(walked.value)
  if (name) emit('focus', name)
}
const dive = (p?: Place) => p && (root.value = p.at)
const climb = () => m.value && root.value > 0 && (root.value = Math.max(0, m.value.parent[root.value]))
function wheel(e: WheelEvent) {
  const up = Math.max(0, deepest.value[0] * rowHeight - middle.value)
  const down = Math.max(0, deepest.value[1] * rowHeight - (height.value - middle.value))
  scroll.value = Math.min(up, Math.max(-down, scroll.value - e.deltaY))
}
// Arrows walk the frames: away from the midline is deeper, on either side.
function walk(to: 'in' | 'out' | 1 | -1) {
  const f = m.value
  if (!f) return
  let at = walked.value?.at ?? -1
  const side = walked.value?.side ?? 1
  const value = (i: number) => Math.max(f.baseline[i], f.candidate[i])
  if (at < 0) at = Math.max(0, f.function.findIndex((n) => rows.value.get(n)?.name === props.focus))
  else if (to === 'out') at = Math.max(0, f.parent[at])
  else if (to === 'in') {
    let best = -1
    f.parent.forEach((p, i) => p === at && (best < 0 || value(i) > value(best)) && (best = i))
    if (best >= 0) at = best
  } else {
    const i = at + Number(to)
    if (i >= 0 && i < f.x.length && f.depth[i] === f.depth[at]) at = i
  }
  walked.value = { side, at }
  const name = nameAt(walked.value)
  if (name) emit('focus', name)
}
useKeys({
  Enter: () => dive(walked.value),
  Backspace: climb,
  ArrowDown: () => walk(walked.value?.side === 0 ? 'out' : 'in'),
  ArrowUp: () => walk(walked.value?.side === 0 ? 'in' : 'out'),
  ArrowLeft: () => walk(-1),
  ArrowRight: () => walk(1),
  p: () => props.focus && emit('pin', props.focus),
  Escape: () => (root.value ? (root.value = 0) : emit('focus', '')),
})
const told = computed(() => {
  const p = hovered.value ?? walked.value
  const f = m.value
  if (!p || !f || p.at >= f.x.length) return undefined
  const row = rows.value.get(f.function[p.at])
  const [a, b] = [f.baseline[p.at], f.candidate[p.at]]
  return { name: row?.short ?? 'The whole', full: row?.name ?? '', a, b, ratio: a && b ? factor(b / a) : a ? 'gone here' : 'new here' }
})
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Mirror flame">
    <ErrorNote v-if="query.isError.value" :error="query.error.value" :retry="() => query.refetch()" />
    <div class="label flex h-[22px] shrink-0 items-center gap-3 border-b border-rule px-3">
      <span>{{ d.baseline.name }} grows up</span>
      <span class="flex-1" />
      <span class="flex items-center gap-1"><span class="inline-block h-2.5 w-4 border border-rule-strong bg-teal-wash" aria-hidden="true" />− cheaper</span>
      <span class="flex items-center gap-1"><span class="inline-block h-2.5 w-4 border border-rule-strong bg-plum-wash" aria-hidden="true" />+ costlier</span>
      <span class="flex items-center gap-1"><span class="inline-block h-2.5 w-4 border-[3px] border-double border-ink-3" aria-hidden="true" />new</span>
      <span class="flex items-center gap-1"><span class="inline-block h-2.5 w-4 border border-dashed border-ink-3" aria-hidden="true" />gone</span>
    </div>
    <div ref="box" class="relative min-h-0 flex-1 overflow-hidden bg-sheet">
      <WaitNote v-if="query.isPending.value || query.isPlaceholderData.value" class="absolute z-10" what="Drawing both sides" />
      <canvas
        ref="canvas"
        tabindex="0"
        role="img"
        data-test="mirror"
        :data-frames="m?.x.length"
        :data-root="root"
        :aria-label="`Mirror flame graph. ${told ? `${told.name}: ${figure(told.a)} and ${figure(told.b)}, ${told.ratio}` : 'The arrow keys move between frames, Enter dives.'}`"
        class="absolute inset-0 size-full outline-none"
        @mousemove="hovered = under($event)"
        @mouseleave="hovered = undefined"
        @click="click"
        @dblclick="dive(under($event))"
        @wheel.prevent="wheel"
      />
    </div>
    <div class="flex h-[34px] shrink-0 items-center gap-4 border-t border-rule px-3" data-test="mirror-told">
      <template v-if="told">
        <span class="code min-w-0 flex-1 truncate" :title="told.full">{{ told.name }}</span>
        <span class="whitespace-nowrap">{{ figure(told.a) }} → {{ figure(told.b) }} · <b class="font-medium">{{ difference(told.b - told.a) }}</b> · {{ told.ratio }}</span>
      </template>
      <span v-else class="label truncate">{{ d.candidate.name }} grows down, on the same scale. Click a frame to follow its function, double click to dive.</span>
      <button v-if="root" class="action !py-0.5" @click="root = 0">the whole</button>
    </div>
  </section>
</template>
