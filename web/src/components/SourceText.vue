<script setup lang="ts">
import type { Piece } from '../lib/highlight'

/** A line of source, in colours where they are known. */
defineProps<{ text?: string; pieces?: Piece[] }>()
</script>

<template>
  <span class="code min-w-0 truncate whitespace-pre"><template v-if="pieces?.length"><span v-for="(p, i) in pieces" :key="i" :style="p.colour ? { color: p.colour } : undefined">{{ p.text }}</span></template><template v-else>{{ text?.replace(/\t/g, '    ') }}</template></span>
</template>
