<script setup lang="ts">
// A difference to the left (cheaper) or to the right (costlier) of a middle
// line, with its 95 % interval as a thin whisker. New has a double edge, gone
// an open, dashed one, so that nothing rests on colour alone.
defineProps<{ value: number; low: number; high: number; state: string; certain: boolean }>()
const clip = (v: number) => Math.min(1, Math.max(-1, v))
const x = (v: number) => 60 + 58 * clip(v)
</script>

<template>
  <svg viewBox="0 0 120 16" preserveAspectRatio="none" class="h-4 w-full" aria-hidden="true">
    <line x1="60" x2="60" y1="0" y2="16" stroke="var(--color-rule-strong)" vector-effect="non-scaling-stroke" />
    <rect
      v-if="state === 'gone'"
      :x="Math.min(60, x(value))" y="4" :width="Math.abs(x(value) - 60)" height="8"
      fill="none" stroke="var(--color-teal)" stroke-dasharray="3 2" vector-effect="non-scaling-stroke"
    />
    <template v-else>
      <rect :x="Math.min(60, x(value))" y="4" :width="Math.abs(x(value) - 60)" height="8" :fill="!certain ? 'var(--color-rule-strong)' : value > 0 ? 'var(--color-plum)' : 'var(--color-teal)'" />
      <rect v-if="state === 'new'" :x="Math.min(60, x(value)) - 1.2" y="2" :width="Math.abs(x(value) - 60) + 2.4" height="12" fill="none" stroke="var(--color-plum)" vector-effect="non-scaling-stroke" />
    </template>
    <line :x1="x(low)" :x2="x(high)" y1="8" y2="8" stroke="var(--color-ink-2)" vector-effect="non-scaling-stroke" />
  </svg>
</template>
