<script setup lang="ts">
import { computed } from 'vue'
import type { LanePath } from '../../api/client'
import { dark } from '../../composables/useTheme'
import { count, duration, percent } from '../../lib/format'
import { inkOf } from '../../lib/palette'
import StateSwatch from './StateSwatch.vue'

/** Critical paths added up: who did what where, and how much of the whole that was. */
const props = defineProps<{ of: Pick<LanePath, 'blame' | 'states' | 'functions'>; whole: number; focus: string }>()
const emit = defineEmits<{ go: [thread: number, state: number]; focus: [name: string] }>()
const most = 100
const rows = computed(() => props.of.blame.slice(0, most))
const rest = computed(() => props.whole - rows.value.reduce((sum, r) => sum + r.ns, 0))
const swatch = (i: number) => {
  const f = props.of.functions[i]
  const ink = inkOf(f.kind, f.area, dark.value)
  return { background: ink.fill, borderColor: ink.edge }
}
</script>

<template>
  <table class="mt-1 w-full table-fixed">
    <thead class="label text-left"><tr><th class="w-[62px] text-right font-normal">Share</th><th class="w-[76px] pr-3 text-right font-normal">Time</th><th class="w-[140px] font-normal">Thread</th><th class="w-[160px] font-normal">What it did</th><th class="font-normal">Where</th></tr></thead>
    <tbody>
      <tr v-for="(r, i) in rows" :key="i" class="border-t border-rule" data-test="blame">
        <td class="relative text-right">{{ percent(r.ns / whole) }}<span class="absolute bottom-0 left-0 h-[2px] bg-bar-pale" :style="{ width: (100 * r.ns) / rows[0].ns + '%' }" aria-hidden="true" /></td>
        <td class="pr-3 text-right">{{ duration(r.ns) }}</td>
        <td class="pr-2" :title="r.lane.words"><button class="flex w-full items-baseline gap-1 text-left hover:underline" @click="emit('go', r.lane.id, r.state)"><span class="truncate">{{ r.lane.thread || (r.lane.routine ? 'goroutine' : 'thread') }}</span><span class="label shrink-0">{{ r.lane.made_up ? "" : r.lane.tid }}</span></button></td>
        <td class="truncate"><span class="flex items-center gap-1.5"><StateSwatch :state="of.states[r.state].name" />{{ of.states[r.state].words }}</span></td>
        <td class="truncate">
          <span v-if="r.function >= 0" class="flex items-center gap-1.5"><span class="size-2.5 shrink-0 border" :style="swatch(r.function)" aria-hidden="true" /><button class="code truncate border-l-2 pl-1 hover:underline" :class="of.functions[r.function].name === focus ? 'border-focus' : 'border-transparent'" :title="of.functions[r.function].name" @click="emit('focus', of.functions[r.function].name)">{{ of.functions[r.function].short }}<template v-if="r.line">:{{ r.line }}</template></button><span v-if="r.samples" class="label shrink-0">{{ count(r.samples) }} {{ r.samples === 1 ? 'sample' : 'samples' }}</span></span>
          <span v-else class="text-ink-3">{{ of.states[r.state].name === 'running' ? 'no sample fell into it' : 'not known' }}</span>
        </td>
      </tr>
      <tr v-if="rest > 0" class="border-t border-rule text-ink-2"><td class="text-right">{{ percent(rest / whole) }}</td><td class="pr-3 text-right">{{ duration(rest) }}</td><td colspan="3">in more rows</td></tr>
    </tbody>
  </table>
</template>
