<script setup lang="ts">
import { computed } from 'vue'
import type { Events } from '../../api/client'
import ChoiceMenu from '../../components/ChoiceMenu.vue'
import { amount, count } from '../../lib/format'

/** What the events of each file, disk, error … add up to; one is chosen by a click. */
const props = defineProps<{ data: Events }>()
const emit = defineEmits<{ only: [column: string, text: string] }>()
const chosen = defineModel<string>({ required: true })
const group = computed(() => props.data.by.find((g) => g.column === chosen.value) ?? props.data.by[0])
const numbers = computed(() => props.data.unit !== 'count' || !!props.data.column)
const part = (t: { total: number; rows: number }) => (numbers.value ? t.total : t.rows)
const most = computed(() => Math.max(1, ...group.value.texts.map(part)))
const figure = (t: { total: number; rows: number }) => (numbers.value ? amount(t.total, props.data.unit) : count(t.rows))
const choices = computed(() => props.data.by.map((g) => ({ value: g.column, text: `by ${g.column}` })))
</script>

<template>
  <figure class="flex min-w-0 flex-col" data-test="text-sums">
    <figcaption class="label flex h-[18px] items-center justify-between">
      <ChoiceMenu :model-value="group.column" :choices="choices" name="Added up" plain @update:model-value="chosen = $event" />
      <span v-if="group.others">and {{ count(group.others) }} others: {{ figure(group) }}</span>
    </figcaption>
    <ul class="mt-1 h-[62px] overflow-y-auto">
      <li v-for="t in group.texts" :key="t.text" class="relative">
        <span class="absolute inset-y-[3px] left-0 bg-bar-pale" :style="{ width: (100 * Math.max(0, part(t))) / most + '%' }" aria-hidden="true" />
        <button class="relative flex h-[20px] w-full items-center gap-3 px-1 text-left hover:underline" data-test="text-sum" :title="`${t.text}: ${count(t.rows)} rows`" @click="emit('only', group.column, t.text)">
          <span class="code min-w-0 flex-1 truncate" style="direction: rtl; text-align: left"><bdi>{{ t.text }}</bdi></span>
          <span class="shrink-0 text-ink-2">{{ count(t.rows) }}</span>
          <span v-if="numbers" class="w-[76px] shrink-0 text-right">{{ figure(t) }}</span>
        </button>
      </li>
    </ul>
  </figure>
</template>
