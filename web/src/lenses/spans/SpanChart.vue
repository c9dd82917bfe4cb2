<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import type { Spans } from '../../api/client'
import { dark } from '../../composables/useTheme'
import { sized } from '../../lib/canvasSize'
import { count, duration, seconds } from '../../lib/format'
import { barsFrom, dotAt, dotBytes, durationAt, paint, plotOf, type Range, timeAt } from './chart'

/** A dot for each span, over time, beside the histogram of their durations. A drag chooses some. */
const props = defineProps<{ of: Spans; time: Range; chosen: number; selected?: { time: Range; ns: Range } }>()
const emit = defineEmits<{ choose: [dot: number]; select: [of: { time: Range; ns: Range } | undefined] }>()
const box = ref<HTMLElement>()
const canvas = ref<HTMLCanvasElement>()
const { width, height } = useElementSize(box)
const plot = computed(() => plotOf(props.of, width.value, height.value, props.time))

let queued = false
function repaint() {
  if (queued) return
  queued = true
  requestAnimationFrame(() => {
    queued = false
    if (canvas.value && width.value > 0) paint(sized(canvas.value, width.value, height.value), props.of, plot.value, { chosen: props.chosen, selected: props.selected, dark: dark.value })
  })
}
watch([plot, () => props.chosen, () => props.selected, dark], repaint)
document.fonts.ready.then(repaint)

const pointed = ref('')
const place = (e: PointerEvent) => {
  const r = canvas.value!.getBoundingClientRect()
  return { x: e.clientX - r.left, y: e.clientY - r.top }
}
let from: { x: number; y: number; moved: boolean } | undefined
function press(e: PointerEvent) {
  if (e.button !== 0) return
  from = { ...place(e), moved: false }
  canvas.value!.setPointerCapture(e.pointerId)
}
function hover(e: PointerEvent) {
  const { x, y } = place(e)
  if (from) {
    if (!from.moved && Math.hypot(x - from.x, y - from.y) < 5) return
    from.moved = true
    const ns = [durationAt(plot.value, from.y), durationAt(plot.value, y)].sort((a, b) => a - b)
    // Beside the dots, durations alone are chosen.
    const beside = from.x >= barsFrom(plot.value)
    const t = beside ? [props.time.from, props.time.to] : [timeAt(plot.value, from.x), timeAt(plot.value, x)].sort((a, b) => a - b)
    emit('select', { time: { from: Math.floor(t[0]), to: Math.ceil(t[1]) }, ns: { from: Math.floor(ns[0]), to: Math.ceil(ns[1]) } })
    return
  }
  const i = dotAt(props.of, plot.value, x, y)
  const d = props.of.dots
  pointed.value = i >= 0 ? `${seconds(d[i * dotBytes], 6)}  ${duration(d[i * dotBytes + 1])}  ${props.of.threads.find((t) => t.id === d[i * dotBytes + 2])?.words ?? ''}${d[i * dotBytes + 3] ? ', without an end' : ''}` : ''
}
function release(e: PointerEvent) {
  const was = from
  from = undefined
  if (!was || was.moved) return
  emit('select', undefined)
  const { x, y } = place(e)
  emit('choose', dotAt(props.of, plot.value, x, y))
}
</script>

<template>
  <div class="flex min-h-[150px] flex-1 flex-col">
    <div ref="box" class="relative min-h-0 flex-1">
      <canvas ref="canvas" class="absolute inset-0 block touch-none" role="img" data-test="span-chart" :style="{ width: width + 'px', height: height + 'px' }" :aria-label="`How long ${count(of.all)} spans took, over time`" @pointermove="hover" @pointerdown="press" @pointerup="release" @pointerleave="pointed = ''" />
    </div>
    <p class="label truncate px-4 pb-1" data-test="span-pointed">{{ pointed || 'Click a dot for what held that span up; drag to choose some.' }}<template v-if="of.dots.length / dotBytes < of.all"> Drawn: the slowest, and some of the others, {{ count(of.dots.length / dotBytes) }} of {{ count(of.all) }}. Figures and bars are of all.</template></p>
  </div>
</template>
