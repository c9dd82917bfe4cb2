<script setup lang="ts">
import { computed } from 'vue'
import type { FunctionCard } from '../api/client'
import { percent } from '../lib/format'

// A function's total share from build to build, the present build marked.
const props = defineProps<{ builds: FunctionCard['builds']; now: string }>()
const width = 240
const height = 44
const points = computed(() => {
  const most = Math.max(1e-9, ...props.builds.map((b) => b.total_share))
  const step = props.builds.length > 1 ? (width - 60) / (props.builds.length - 1) : 0
  return props.builds.map((b, i) => ({ ...b, x: 30 + i * step, y: height - 6 - (b.total_share / most) * (height - 22) }))
})
</script>

<template>
  <svg :viewBox="`0 0 ${width} ${height + 16}`" class="w-full" role="img" :aria-label="builds.map((b) => `${b.build}: ${percent(b.total_share)}`).join(', ')">
    <line x1="0" :y1="height - 6" :x2="width" :y2="height - 6" stroke="var(--color-rule)" />
    <polyline :points="points.map((p) => `${p.x},${p.y}`).join(' ')" fill="none" stroke="var(--color-bar)" stroke-width="1.4" />
    <g v-for="p in points" :key="p.build">
      <rect :x="p.x - 3" :y="p.y - 3" width="6" height="6" :fill="p.build === now ? 'var(--color-ink)' : 'var(--color-sheet)'" stroke="var(--color-bar)" stroke-width="1.4" />
      <text :x="p.x" :y="p.y - 7" text-anchor="middle" font-size="10" fill="var(--color-ink-2)">{{ percent(p.total_share) }}</text>
      <text :x="p.x" :y="height + 9" text-anchor="middle" font-size="10.5" :fill="p.build === now ? 'var(--color-ink)' : 'var(--color-ink-3)'">{{ p.build }}</text>
    </g>
  </svg>
</template>
