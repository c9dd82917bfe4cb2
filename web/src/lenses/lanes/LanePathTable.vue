<script setup lang="ts">
import { X } from 'lucide-vue-next'
import { computed } from 'vue'
import type { LanePath } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { count, duration, seconds } from '../../lib/format'
import BlameRows from './BlameRows.vue'

/** What a thread's progress depended on: who did what, and how much of the time that was. It adds up. */
const props = defineProps<{ path?: LanePath; error: Error | null; focus: string }>()
const emit = defineEmits<{ close: []; go: [thread: number, at: number]; focus: [name: string] }>()
const whole = computed(() => Math.max(1, (props.path?.to_ns ?? 0) - (props.path?.from_ns ?? 0)))
/** When a thread is first on the path in a state. */
function first(thread: number, state: number): number {
  const s = props.path!.steps
  for (let i = 0; i < s.length; i += 5) if (s[i + 2] === thread && s[i + 3] === state) return s[i]
  return props.path!.from_ns
}
</script>

<template>
  <div class="max-h-[45%] shrink-0 overflow-y-auto border-t border-rule-strong px-4 py-2" data-test="lane-path">
    <ErrorNote v-if="error" :error="error" />
    <WaitNote v-else-if="!path" what="Following who held it up" />
    <template v-else>
      <div class="flex items-baseline gap-3">
        <p class="shrink-0 font-medium">What held it up, {{ duration(whole) }}</p>
        <p class="label truncate">from {{ seconds(path.from_ns, 6) }} to {{ seconds(path.to_ns, 6) }}: what it ran itself and, where it waited, what whoever ended that did meanwhile</p>
        <span class="flex-1" />
        <slot />
        <button aria-label="Close" class="text-ink-2 hover:text-ink" @click="emit('close')"><X class="size-4" /></button>
      </div>
      <BlameRows :of="path" :whole="whole" :focus="focus" @go="(thread, state) => emit('go', thread, first(thread, state))" @focus="emit('focus', $event)" />
      <p v-if="path.cut" class="label mt-1">The drawing has the first {{ count(path.steps.length / 5) }} steps; the table is of all.</p>
    </template>
  </div>
</template>
