<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import type { Flame } from '../../api/client'
import { dark } from '../../composables/useTheme'
import { sized } from '../../lib/canvasSize'
import { duration, percent } from '../../lib/format'
import { Geometry, rowHeight, whole } from '../../lib/geometry'
import { paint } from '../flame/paint'

/** What spans were slow for, by stack: who it was, then where, down to what it waited for. */
const props = defineProps<{ flame: Flame; focus: string }>()
const emit = defineEmits<{ focus: [name: string] }>()
const box = ref<HTMLElement>()
const canvas = ref<HTMLCanvasElement>()
const { width } = useElementSize(box)
const geometry = computed(() => new Geometry(props.flame))
const height = computed(() => geometry.value.rows * rowHeight)
const view = ref(whole)
const hovered = ref(-1)
watch(
  () => props.flame,
  () => (view.value = whole),
)
const f = computed(() => props.flame)
const ref_ = (i: number) => f.value.functions[f.value.function[i]]
function repaint() {
  if (!canvas.value || width.value <= 0) return
  paint(sized(canvas.value, width.value, height.value), geometry.value, view.value, { width: width.value, height: height.value }, 0, {
    dark: dark.value, up: false, focus: props.focus, walked: -1, hovered: hovered.value, pins: new Set(), matches: null, label: (i) => (i === 0 ? 'all of it' : ref_(i).short),
  })
}
watch([geometry, view, width, dark, hovered, () => props.focus], () => requestAnimationFrame(repaint), { immediate: true })
document.fonts.ready.then(repaint)

function at(e: MouseEvent): number {
  const r = canvas.value!.getBoundingClientRect()
  const value = (view.value.left + ((e.clientX - r.left) / width.value) * (view.value.right - view.value.left)) * geometry.value.span
  return geometry.value.at(value, Math.floor((e.clientY - r.top) / rowHeight))
}
function choose(e: MouseEvent) {
  const i = at(e)
  if (i < 0 || f.value.hidden[i]) return
  const g = geometry.value
  view.value = { left: f.value.x[i] / g.span, right: (f.value.x[i] + f.value.width[i]) / g.span }
  if (i > 0 && ref_(i).kind !== 'mark') emit('focus', ref_(i).name)
}
const told = computed(() => {
  const i = hovered.value
  if (i < 0) return 'Click a frame to dive into it, the top one for all of it again.'
  return `${f.value.hidden[i] ? `${f.value.hidden[i]} thin frames` : i ? ref_(i).short : 'all of it'}  ${duration(f.value.width[i])}, ${percent(f.value.width[i] / geometry.value.span)}`
})
</script>

<template>
  <div ref="box" class="mt-1" data-test="blame-flame">
    <p class="label truncate">{{ told }}</p>
    <canvas ref="canvas" class="block" role="img" aria-label="What the spans were slow for, by stack" :style="{ width: width + 'px', height: height + 'px' }" @pointermove="hovered = at($event)" @pointerleave="hovered = -1" @click="choose" />
  </div>
</template>
