<script setup lang="ts">
import { computed } from 'vue'
import { count, seconds } from '../../lib/format'

/** When events happened: how many there are in each part of the take, with the chosen one marked. */
const props = defineProps<{ over: number[]; to: number; at?: number }>()
const emit = defineEmits<{ within: [from: number, to: number] }>()
const highest = computed(() => Math.max(1, ...props.over))
const bounds = (i: number) => [Math.floor((i * props.to) / props.over.length), Math.ceil(((i + 1) * props.to) / props.over.length)] as const
const told = (i: number) => `${seconds(bounds(i)[0], 3)} to ${seconds(bounds(i)[1], 3)}: ${count(props.over[i])}`
</script>

<template>
  <figure class="min-w-0" data-test="density">
    <figcaption class="label truncate">When; at most {{ count(highest) }} in {{ seconds(to / over.length, 3) }}</figcaption>
    <div class="relative mt-1 flex h-[46px] items-end border-b border-rule-strong">
      <button v-for="(n, i) in over" :key="i" class="flex h-full min-w-0 flex-1 items-end" :class="n > 0 && 'hover:bg-wash'" tabindex="-1" :disabled="!n" :title="told(i)" :aria-label="told(i)" @click="emit('within', ...bounds(i))"><span class="w-full bg-bar" :style="{ height: (n ? 6 + (94 * n) / highest : 0) + '%' }" /></button>
      <span v-if="at !== undefined" class="pointer-events-none absolute inset-y-0 w-[2px] bg-focus" :style="{ left: (100 * at) / (to || 1) + '%' }" aria-hidden="true" />
    </div>
    <div class="label flex justify-between"><span>0 s</span><span>{{ seconds(to) }}</span></div>
  </figure>
</template>
