<script setup lang="ts">
import { X } from 'lucide-vue-next'
import { computed } from 'vue'
import type { LanePath } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { dark } from '../../composables/useTheme'
import { count, duration, percent, seconds } from '../../lib/format'
import { inkOf } from '../../lib/palette'
import StateSwatch from './StateSwatch.vue'

/** What a thread's progress depended on: who did what, and how much of the time that was. It adds up. */
const props = defineProps<{ path?: LanePath; error: Error | null; focus: string }>()
const emit = defineEmits<{ close: []; go: [thread: number, at: number]; focus: [name: string] }>()
const whole = computed(() => Math.max(1, (props.path?.to_ns ?? 0) - (props.path?.from_ns ?? 0)))
const most = 100
const rows = computed(() => props.path?.blame.slice(0, most) ?? [])
const rest = computed(() => whole.value - rows.value.reduce((sum, r) => sum + r.ns, 0))
const swatch = (i: number) => {
  const f = props.path!.functions[i]
  const ink = inkOf(f.kind, f.area, dark.value)
  return { background: ink.fill, borderColor: ink.edge }
}
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
        <p class="label">from {{ seconds(path.from_ns, 6) }} to {{ seconds(path.to_ns, 6) }}: what it ran itself and, where it waited, what whoever ended that did meanwhile</p>
        <span class="flex-1" />
        <button aria-label="Close" class="text-ink-2 hover:text-ink" @click="emit('close')"><X class="size-4" /></button>
      </div>
      <table class="mt-1 w-full table-fixed">
        <thead class="label text-left"><tr><th class="w-[62px] text-right font-normal">Share</th><th class="w-[76px] pr-3 text-right font-normal">Time</th><th class="w-[150px] font-normal">Thread</th><th class="w-[190px] font-normal">What it did</th><th class="font-normal">Where</th></tr></thead>
        <tbody>
          <tr v-for="(r, i) in rows" :key="i" class="border-t border-rule" data-test="blame">
            <td class="relative text-right">{{ percent(r.ns / whole) }}<span class="absolute bottom-0 left-0 h-[2px] bg-bar-pale" :style="{ width: (100 * r.ns) / rows[0].ns + '%' }" aria-hidden="true" /></td>
            <td class="pr-3 text-right">{{ duration(r.ns) }}</td>
            <td class="truncate"><button class="hover:underline" @click="emit('go', r.lane.id, first(r.lane.id, r.state))">{{ r.lane.thread }} <span class="label">{{ r.lane.tid }}</span></button></td>
            <td class="truncate"><span class="flex items-center gap-1.5"><StateSwatch :state="path.states[r.state].name" />{{ path.states[r.state].words }}</span></td>
            <td class="truncate">
              <span v-if="r.function >= 0" class="flex items-center gap-1.5"><span class="size-2.5 shrink-0 border" :style="swatch(r.function)" aria-hidden="true" /><button class="code truncate border-l-2 pl-1 hover:underline" :class="path.functions[r.function].name === focus ? 'border-focus' : 'border-transparent'" :title="path.functions[r.function].name" @click="emit('focus', path.functions[r.function].name)">{{ path.functions[r.function].short }}</button><span v-if="r.samples" class="label shrink-0">by {{ count(r.samples) }} {{ r.samples === 1 ? 'sample' : 'samples' }}</span></span>
              <span v-else class="text-ink-3">{{ path.states[r.state].name === 'running' ? 'no sample fell into it' : 'not known' }}</span>
            </td>
          </tr>
          <tr v-if="rest > 0" class="border-t border-rule text-ink-2"><td class="text-right">{{ percent(rest / whole) }}</td><td class="pr-3 text-right">{{ duration(rest) }}</td><td colspan="3">in {{ count(path.blame.length - most) }} more rows</td></tr>
        </tbody>
      </table>
      <p v-if="path.cut" class="label mt-1">The drawing has the first {{ count(path.steps.length / 5) }} steps; the table is of all.</p>
    </template>
  </div>
</template>
