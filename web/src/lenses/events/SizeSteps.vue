<script setup lang="ts">
import { computed } from 'vue'
import type { Events } from '../../api/client'
import { amount, count } from '../../lib/format'

/** How many events are how long or large, in steps that grow with them; a step is chosen by a click. */
const props = defineProps<{ data: Events }>()
const emit = defineEmits<{ within: [from: number, to: number] }>()
const figure = (v: number) => amount(v, props.data.unit)
// Few events among many would be no higher than a line: heights are of the logarithm.
const highest = computed(() => Math.log1p(Math.max(...props.data.sizes.map((s) => s.rows))))
const tall = (rows: number) => (rows ? 4 + (96 * Math.log1p(rows)) / (highest.value || 1) : 0)
const first = computed(() => props.data.sizes[0])
const last = computed(() => props.data.sizes.at(-1))
</script>

<template>
  <figure class="min-w-0" data-test="sizes">
    <figcaption class="label truncate">Median {{ figure(data.p50) }}, 90 % {{ figure(data.p90) }}, 99 % {{ figure(data.p99) }}, max {{ figure(data.max) }}</figcaption>
    <div class="mt-1 flex h-[46px] items-end gap-px border-b border-rule-strong">
      <button v-for="s in data.sizes" :key="s.from" data-test="size" class="flex h-full min-w-0 flex-1 items-end hover:bg-wash" :disabled="!s.rows" :title="`${figure(s.from)} to ${figure(s.to)}: ${count(s.rows)}`" :aria-label="`${count(s.rows)} from ${figure(s.from)} to ${figure(s.to)}`" @click="emit('within', s.from, s.to)">
        <span class="w-full bg-bar" :style="{ height: tall(s.rows) + '%' }" />
      </button>
    </div>
    <div class="label flex justify-between gap-2 whitespace-nowrap"><span>{{ figure(first.from) }}</span><span class="min-w-0 truncate">rows by {{ data.unit === 'ns' ? 'duration' : 'size' }}, heights logarithmic</span><span>{{ figure(last!.to) }}</span></div>
  </figure>
</template>
