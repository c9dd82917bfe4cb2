<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { dark } from '../../composables/useTheme'
import { count, duration } from '../../lib/format'
import { inkOf } from '../../lib/palette'
import StateSwatch from '../lanes/StateSwatch.vue'

/** What slow spans do that the others do not: each span is one repetition. */
const props = defineProps<{ takeKey: string; scope?: string; name: string; permille: number; longer?: number; focus: string }>()
const emit = defineEmits<{ focus: [name: string] }>()
const asked = computed(() => ({ scope: props.scope, name: props.name, permille: props.longer ? undefined : Math.min(999, props.permille), longer: props.longer }))
const query = useQuery(computed(() => ({ queryKey: ['span-contrast', props.takeKey, asked.value], queryFn: ({ signal }: { signal: AbortSignal }) => api.spanContrast(props.takeKey, asked.value, signal), staleTime: Infinity })))
const data = computed(() => query.data.value)
const rows = computed(() => data.value?.rows.slice(0, 60) ?? [])
const most = computed(() => Math.max(1, ...rows.value.map((r) => Math.abs(r.slow_ns - r.others_ns))))
const swatch = (i: number) => {
  const f = data.value!.functions[i]
  const ink = inkOf(f.kind, f.area, dark.value)
  return { background: ink.fill, borderColor: ink.edge }
}
const more = (ns: number) => `${ns < 0 ? '−' : '+'}${duration(Math.abs(ns))}`
</script>

<template>
  <ErrorNote v-if="query.error.value" :error="query.error.value" />
  <WaitNote v-else-if="!data" what="Comparing them with the others" />
  <div v-else data-test="span-contrast">
    <p class="label mt-1">
      {{ duration(data.slow_ns) }} a span instead of {{ duration(data.others_ns) }}, {{ count(data.slow) }} against {{ count(data.others) }}<template v-if="data.others < data.all"> of {{ count(data.all) }}</template> others. The rows add up to the difference.<template v-if="data.slow < 2"> With a single slow span, chance cannot be ruled out.</template>
    </p>
    <table class="mt-1 w-full table-fixed">
      <thead class="label text-left"><tr><th class="w-[80px] pr-2 text-right font-normal">More</th><th class="w-[66px] text-right font-normal">Slow</th><th class="w-[72px] pr-3 text-right font-normal">Others</th><th class="w-[92px] font-normal">Who</th><th class="w-[160px] font-normal">What it did</th><th class="font-normal">Where</th></tr></thead>
      <tbody>
        <tr v-for="(r, i) in rows" :key="i" class="border-t border-rule" :class="!r.significant && 'text-ink-3'" :title="r.significant ? `between ${more(r.low_ns)} and ${more(r.high_ns)}, 95 %` : 'This may be chance.'" data-test="contrast">
          <td class="relative pr-2 text-right font-medium">{{ more(r.slow_ns - r.others_ns) }}<span class="absolute bottom-0 left-0 h-[2px] bg-bar-pale" :style="{ width: (100 * Math.abs(r.slow_ns - r.others_ns)) / most + '%' }" aria-hidden="true" /></td>
          <td class="text-right">{{ duration(r.slow_ns) }}</td>
          <td class="pr-3 text-right">{{ duration(r.others_ns) }}</td>
          <td class="truncate pr-2" :title="r.who">{{ r.who || 'itself' }}</td>
          <td class="truncate"><span class="flex items-center gap-1.5"><StateSwatch :state="data.states[r.state].name" />{{ data.states[r.state].words }}</span></td>
          <td class="truncate">
            <span v-if="r.function >= 0" class="flex items-center gap-1.5"><span class="size-2.5 shrink-0 border" :style="swatch(r.function)" aria-hidden="true" /><button class="code truncate border-l-2 pl-1 hover:underline" :class="data.functions[r.function].name === focus ? 'border-focus' : 'border-transparent'" :title="data.functions[r.function].name" @click="emit('focus', data.functions[r.function].name)">{{ data.functions[r.function].short }}<template v-if="r.line">:{{ r.line }}</template></button></span>
            <span v-else class="text-ink-3">{{ data.states[r.state].name === 'running' ? 'no sample fell into it' : 'not known' }}</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
