<script setup lang="ts">
import { RotateCcw, X } from 'lucide-vue-next'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import type { Hot, Range, TakeDetail } from '../api/client'
import { useMe } from '../composables/useMe'
import { useMeasure } from '../composables/useMeasure'
import { bytes, count, seconds, when } from '../format'
import ChoiceMenu from './ChoiceMenu.vue'

const props = defineProps<{ detail: TakeDetail; hot?: Hot; range: Range }>()
const emit = defineEmits<{ range: [range: Range]; facts: []; fold: []; measure: [name: string]; again: [] }>()
const router = useRouter()

// The words of the sentence are controls: another build, another take of it.
const builds = computed(() => {
  const seen = new Map<string, { value: string; text: string }>()
  for (const t of props.detail.siblings) if (!seen.has(t.build)) seen.set(t.build, { value: t.build, text: t.build })
  return [...seen.values()]
})
const takes = computed(() =>
  props.detail.siblings.filter((t) => t.build === props.detail.take.build).map((t) => ({ value: t.key, text: when(t.started_at), note: `${count(t.samples)} samples` })),
)
const { measure } = useMeasure()
const { may } = useMe()
const capital = (s: string) => s.charAt(0).toUpperCase() + s.slice(1)
const measures = computed(() => props.detail.measures.map((m) => ({ value: m.name, text: capital(m.label) })))
const chosen = computed({ get: () => measure.value.name, set: (m) => m && emit('measure', m) })
const whole = computed(() => {
  const total = props.hot?.total ?? 0
  switch (measure.value.unit) {
    case 'ns':
      return seconds(total) + (measure.value.name === 'cpu' ? ' CPU' : '')
    case 'bytes':
      return bytes(total)
    default:
      return count(total)
  }
})
function open(key: string | undefined) {
  if (key && key !== props.detail.take.key) {
    // Node numbers and times belong to one take; the focus goes along.
    const { root: _root, from: _from, to: _to, ...query } = router.currentRoute.value.query
    void router.push({ name: 'take', params: { key }, query })
  }
}
const build = computed({
  get: () => props.detail.take.build,
  set: (b) => open(props.detail.siblings.find((t) => t.build === b)?.key),
})
const take = computed({ get: () => props.detail.take.key, set: open })
</script>

<template>
  <header class="flex h-[52px] shrink-0 items-center gap-3 border-b border-rule bg-paper px-4" aria-label="Scope">
    <h1 class="flex min-w-0 flex-wrap items-baseline gap-x-1.5 text-[15.5px] whitespace-nowrap">
      <ChoiceMenu v-if="measures.length > 1" v-model="chosen" :choices="measures" name="Measure" plain class="font-medium" />
      <span v-else class="text-ink-2">{{ capital(measure.label) }}</span>
      <span class="text-ink-2">of</span>
      <RouterLink :to="{ name: 'takes', query: { program: detail.take.program } }" class="word font-medium">{{ detail.take.program }}</RouterLink>
      <span class="text-ink-2">build</span>
      <ChoiceMenu v-model="build" :choices="builds" name="Build" plain class="font-medium" />
      <span class="text-ink-2">taken</span>
      <ChoiceMenu v-model="take" :choices="takes" name="Take" plain />
      <span v-if="range.from || range.to" class="flex items-baseline gap-1">
        <span class="text-ink-2">from</span> {{ ((range.from ?? 0) / 1e9).toFixed(2) }} s <span class="text-ink-2">to</span> {{ ((range.to || detail.take.duration_ns) / 1e9).toFixed(2) }} s
        <button class="self-center text-ink-3 hover:text-ink" aria-label="Release the time" @click="emit('range', {})"><X class="size-3.5" /></button>
      </span>
      <span v-else class="text-ink-2">all of it</span>
      <span v-if="range.fold" class="flex items-baseline gap-1">
        <span class="text-ink-2">with</span> the runtime folded
        <button class="self-center text-ink-3 hover:text-ink" aria-label="Show the runtime" @click="emit('fold')"><X class="size-3.5" /></button>
      </span>
    </h1>
    <div class="flex-1" />
    <button v-if="may('collect')" class="action !py-0.5" title="Take again with the same settings (r)" @click="emit('again')"><RotateCcw class="size-3.5" aria-hidden="true" />Again</button>
    <button class="action !py-0.5" @click="emit('facts')">Facts</button>
    <p v-if="hot" class="border-l border-rule-strong pl-3 text-right whitespace-nowrap" data-test="whole"><b class="font-medium">100 % = {{ whole }}</b> · {{ count(hot.samples) }} {{ measure.counted ? (measure.unit === 'count' ? 'events' : 'events measured') : 'samples' }}</p>
  </header>
</template>
