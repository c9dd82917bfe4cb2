<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { refDebounced, useElementSize } from '@vueuse/core'
import { computed, ref, toRef, watch } from 'vue'
import { api } from '../api/client'
import { useAddress } from '../composables/useAddress'
import { perSecond, useRate } from '../composables/useRate'
import { dark } from '../composables/useTheme'

type Range = { from?: number; to?: number }
const props = defineProps<{ takeKey: string; range: Range; measure?: string }>()
/** likely: what the range will be if it is let go here. */
const emit = defineEmits<{ range: [range: Range]; likely: [range: Range] }>()

const canvas = ref<HTMLCanvasElement>()
const box = ref<HTMLElement>()
const { width, height } = useElementSize(box)
const bins = computed(() => Math.max(20, Math.floor(width.value / 4)))
const times = useQuery({
  queryKey: ['times', () => props.takeKey, bins, () => props.measure],
  queryFn: () => api.times(props.takeKey, bins.value, props.measure),
  enabled: computed(() => width.value > 0),
})
const rate = useRate({ take: toRef(props, 'takeKey'), name: useAddress().text('span', ''), bins: computed(() => Math.floor(width.value / 12)) })
const end = computed(() => times.data.value?.to_ns || 1)
const drag = ref<{ from: number; to: number; edge?: 'from' | 'to' } | null>(null)
const shown = computed<Range>(() => (drag.value ? { from: Math.min(drag.value.from, drag.value.to), to: Math.max(drag.value.from, drag.value.to) } : props.range))
const left = computed(() => ((shown.value.from ?? 0) / end.value) * 100)
const right = computed(() => ((shown.value.to || end.value) / end.value) * 100)
const restricted = computed(() => !!(shown.value.from || shown.value.to))

function draw() {
  const el = canvas.value
  const t = times.data.value
  if (!el || !t || !width.value) return
  const ratio = devicePixelRatio || 1
  el.width = Math.round(width.value * ratio)
  el.height = Math.round(height.value * ratio)
  const c = el.getContext('2d')!
  c.scale(ratio, ratio)
  const style = getComputedStyle(document.documentElement)
  const floor = height.value - 15
  const h = floor - 5
  const w = width.value / t.user.length
  for (let i = 0; i < t.user.length; i++) {
    const u = (t.user[i] / (t.highest || 1)) * h
    const k = (t.kernel[i] / (t.highest || 1)) * h
    c.fillStyle = style.getPropertyValue('--color-bar')
    c.fillRect(i * w, floor - u, Math.max(w - 0.8, 0.8), u)
    c.fillStyle = style.getPropertyValue('--color-bar-pale')
    c.fillRect(i * w, floor - u - k, Math.max(w - 0.8, 0.8), k)
  }
  line(c, floor, h)
  c.fillStyle = style.getPropertyValue('--color-ink-3')
  c.font = '10.5px "Spline Sans Variable"'
  const total = t.to_ns / 1e9
  const step = [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600].find((s) => (s / total) * width.value > 70) ?? 7200
  for (let s = 0; s < total; s += step) {
    const x = (s / total) * width.value
    c.fillRect(x, floor, 1, 3)
    if (x + 30 < width.value) c.fillText(`${Number(s.toFixed(1))} s`, x + 3, height.value - 3)
  }
}
/** How many spans ended, as steps above the samples. */
function line(c: CanvasRenderingContext2D, floor: number, h: number) {
  const r = rate.value
  if (!r || !r.highest) return
  const style = getComputedStyle(document.documentElement)
  const wide = width.value / r.each.length
  for (const [colour, thick] of [['--color-paper', 3.5], ['--color-ink', 1.4]] as const) {
    c.strokeStyle = style.getPropertyValue(colour)
    c.lineWidth = thick
    c.beginPath()
    r.each.forEach((n, i) => {
      const y = floor - (n / r.highest) * (h - 1)
      c.lineTo(i * wide, y)
      c.lineTo((i + 1) * wide, y)
    })
    c.stroke()
  }
}
watch([width, height, times.data, dark, rate], () => requestAnimationFrame(draw))

function at(e: PointerEvent): number {
  const r = box.value!.getBoundingClientRect()
  return Math.round(Math.min(1, Math.max(0, (e.clientX - r.left) / r.width)) * end.value)
}
function press(e: PointerEvent) {
  if (e.button || !times.data.value) return
  box.value!.setPointerCapture(e.pointerId)
  const v = at(e)
  const near = (end.value * 6) / width.value
  // Taking hold of an edge moves that edge; anywhere else begins anew.
  if (restricted.value && Math.abs(v - (props.range.from ?? 0)) < near) drag.value = { from: props.range.to || end.value, to: v }
  else if (restricted.value && Math.abs(v - (props.range.to || end.value)) < near) drag.value = { from: props.range.from ?? 0, to: v }
  else drag.value = { from: v, to: v }
}
/** The range that a drag takes, unless it is too small to be meant. */
function taken(d: typeof drag.value): Range | undefined {
  if (d && Math.abs(d.to - d.from) >= (end.value * 3) / width.value) return { from: Math.min(d.from, d.to), to: Math.max(d.from, d.to) }
}
function release() {
  const r = taken(drag.value)
  drag.value = null
  if (r) emit('range', r)
}
const paused = refDebounced(computed(() => taken(drag.value)), 50)
watch(paused, (r) => r && drag.value && emit('likely', r))
</script>

<template>
  <section class="flex h-[64px] shrink-0 border-t border-rule bg-paper" aria-label="Samples over time">
    <div class="label flex w-[136px] shrink-0 flex-col justify-center gap-1 border-r border-rule px-3 whitespace-nowrap">
      <span>{{ times.data.value?.level ? 'Its level over time' : 'Samples over time' }}</span>
      <span v-if="!times.data.value?.level" class="flex items-center gap-1"><i class="size-2 bg-bar" />program <i class="ml-1 size-2 bg-bar-pale" />kernel</span>
      <span v-if="rate" class="flex items-center gap-1" data-test="ribbon-rate" :title="`${rate.name}: at most ${perSecond(rate.highest)} ended a second`"><i class="h-[1.5px] w-2 shrink-0 bg-ink" /><span class="min-w-0 truncate">{{ rate.short }}</span><span class="shrink-0">≤ {{ perSecond(rate.highest) }}/s</span></span>
    </div>
    <div ref="box" class="relative min-w-0 flex-1 cursor-crosshair touch-none" title="Drag to restrict the time, double click to release it" data-test="ribbon" :data-ready="!!times.data.value" @pointerdown="press" @pointermove="drag && (drag = { ...drag, to: at($event) })" @pointerup="release" @dblclick="emit('range', {})">
      <p v-if="times.isError.value" class="label p-3">{{ (times.error.value as Error).message }}</p>
      <canvas ref="canvas" class="absolute inset-0 size-full" role="img" aria-label="Number of samples over the time of the take" />
      <template v-if="restricted">
        <div class="absolute inset-y-0 left-0 bg-paper/75" :style="{ width: left + '%' }" />
        <div class="absolute inset-y-0 right-0 bg-paper/75" :style="{ width: 100 - right + '%' }" />
        <div class="absolute inset-y-0 border-x-2 border-ink" :style="{ left: left + '%', width: right - left + '%' }" />
      </template>
    </div>
  </section>
</template>
