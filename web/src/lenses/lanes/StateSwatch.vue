<script setup lang="ts">
import { computed } from 'vue'
import { idle, strokes } from './states'

/** How a state is drawn, in the legend. */
const props = defineProps<{ state: string }>()
const line = computed(() => strokes[props.state] ?? strokes.other)
const at = computed(() => (line.value.double ? [4, 8] : [6]))
</script>

<template>
  <svg width="26" height="12" aria-hidden="true" class="shrink-0">
    <rect v-if="state === 'running'" x="0" y="1" width="26" height="10" class="fill-bar" />
    <g v-else-if="state === 'ready'" class="stroke-bar" fill="none">
      <rect x="0.5" y="1.5" width="25" height="9" />
      <path d="M2 10 L9 2 M8 10 L15 2 M14 10 L21 2 M20 10 L25 4" stroke-width="0.8" />
    </g>
    <rect v-else-if="state === 'unknown'" x="0" y="5.5" width="26" height="1" class="fill-rule-strong" />
    <g v-else :class="idle.has(state) ? 'stroke-ink-3' : 'stroke-ink'">
      <line v-for="y in at" :key="y" x1="0" x2="26" :y1="y" :y2="y" :stroke-width="line.width" :stroke-dasharray="line.dash.join(' ') || undefined" />
      <path v-if="line.ends" d="M0.75 1 V11 M25.25 1 V11" stroke-width="1.5" />
    </g>
  </svg>
</template>
