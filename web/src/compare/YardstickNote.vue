<script setup lang="ts">
import { computed } from 'vue'
import { type Comparison } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { count, percent } from '../lib/format'

/** What a comparison of runs of unequal length rests on. */
const props = defineProps<{ d: Comparison }>()
const emit = defineEmits<{ close: [] }>()
const { focus, set: setFocus } = useFocus()
const y = computed(() => props.d.yardstick!)
const rows = computed(() => {
  const of = new Map(props.d.rows.map((r) => [r.number, r]))
  return y.value.functions.flatMap((n) => of.get(n) ?? [])
})
</script>

<template>
  <section class="max-h-[116px] shrink-0 overflow-y-auto border-b border-rule bg-sheet px-4 py-2" aria-label="What the scale rests on" data-test="yardstick">
    <p>
      The takes differ in length or load. {{ count(y.count) }} functions, {{ percent(y.share[0], 0) }} of the baseline's cost and {{ percent(y.share[1], 0) }} of the candidate's, kept their proportions and are taken as unchanged. Measured by them, the candidate's takes did {{ y.factor.toFixed(2) }} times as much work as the baseline's ({{ y.low.toFixed(2) }} to {{ y.high.toFixed(2) }}).
      <button class="word" @click="emit('close')">close</button>
    </p>
    <ul class="mt-1 flex flex-wrap gap-x-4">
      <li v-for="r in rows" :key="r.number"><button class="word code" :class="r.name === focus && '!decoration-focus'" :title="r.name" @click="setFocus(r.name)">{{ r.short }}</button></li>
      <li v-if="y.count > rows.length" class="label">and {{ count(y.count - rows.length) }} more</li>
    </ul>
  </section>
</template>
