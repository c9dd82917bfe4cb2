<script setup lang="ts">
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { TakeDetail } from '../api/client'
import { dark } from '../composables/useTheme'
import { bytes } from '../lib/format'

/** Memory and processors in use over the time of a take. */
const props = defineProps<{ usage: NonNullable<TakeDetail['facts']['usage']> }>()
const host = ref<HTMLElement>()

let charts: uPlot[] = []

const token = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()

function draw() {
  for (const c of charts) c.destroy()
  charts = []
  const el = host.value
  if (!el) return
  const { time_ns, resident_bytes, cpu_ns } = props.usage
  const at = time_ns.map((t) => t / 1e9)
  // Each point stands for the time since the one before it.
  const busy = cpu_ns.map((c, i) => (i === 0 ? null : Math.max(0, (c - cpu_ns[i - 1]) / (time_ns[i] - time_ns[i - 1]))))
  const one = (name: string, values: (number | null)[], text: (v: number) => string) =>
    charts.push(
      new uPlot(
        {
          width: el.clientWidth,
          height: 104,
          cursor: { drag: { x: false, y: false } },
          legend: { show: false },
          scales: { x: { time: false }, y: { range: (_u, _min, max) => [0, Math.max(max * 1.08, 1e-9)] } },
          axes: [
            { stroke: token('--color-ink-3'), grid: { show: false }, ticks: { stroke: token('--color-rule'), size: 3 }, size: 22, font: '10px Spline Sans Variable', values: (_u, v) => v.map((x) => `${x} s`) },
            { stroke: token('--color-ink-3'), grid: { stroke: token('--color-rule'), width: 1 }, ticks: { show: false }, size: 66, font: '10px Spline Sans Variable', values: (_u, v) => v.map((x) => text(x)) },
          ],
          series: [{}, { label: name, stroke: token('--color-bar'), width: 1.5, points: { show: at.length < 3 } }],
        },
        [at, values],
        el,
      ),
    )
  one('memory', resident_bytes, (v) => bytes(v))
  one('processors', busy, (v) => v.toFixed(1))
}
onMounted(draw)
watch([() => props.usage, dark], () => draw())
onBeforeUnmount(() => charts.forEach((c) => c.destroy()))
</script>

<template>
  <figure class="mt-4">
    <figcaption class="label">Memory, and processors in use, over the time of the take</figcaption>
    <div ref="host" role="img" :aria-label="`Memory up to ${bytes(usage.most_resident_bytes)}`" data-test="usage" />
  </figure>
</template>
