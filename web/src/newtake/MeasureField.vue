<script setup lang="ts">
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/vue'
import { useQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { computed } from 'vue'
import { api } from '../api/client'
import { useMe } from '../composables/useMe'
import { count } from '../lib/format'

// Further measures, as words with blanks between them; the one that is being written is
// looked for on the machine.
const text = defineModel<string>({ required: true })
const props = defineProps<{ collector: string; pid?: number; title: string }>()
const { may } = useMe()
const word = computed(() => text.value.split(/[\s,]+/).at(-1) ?? '')
const begun = refDebounced(word, 200)
const found = useQuery({
  queryKey: ['measurables', computed(() => props.collector), begun, computed(() => (begun.value.startsWith('function:') ? props.pid : undefined))],
  queryFn: () => api.measurables(props.collector, begun.value, props.pid),
  enabled: computed(() => props.collector !== '' && may('collect') && begun.value.length >= 2),
  staleTime: 60_000,
  retry: false,
})
// What has a place for a name in capitals is written on, and not chosen.
const list = computed(() => (word.value.length >= 2 && word.value === begun.value ? (found.data.value?.measures ?? []).filter((m) => m.name !== word.value && !/[A-Z]{3}/.test(m.name)) : []))
function choose(name: string | null) {
  if (name) text.value = text.value.slice(0, text.value.length - word.value.length) + name
}
</script>

<template>
  <Combobox :model-value="null" nullable as="div" class="relative" @update:model-value="choose">
    <ComboboxInput class="field code mt-0.5 w-full" placeholder="function:slur.Route" spellcheck="false" autocomplete="off" aria-label="Other measures" :title="title" :display-value="() => text" @change="text = $event.target.value" />
    <ComboboxOptions v-if="list.length" static class="absolute inset-x-0 z-20 mt-0.5 max-h-[260px] overflow-y-auto border border-rule-strong bg-sheet py-1" data-test="measurables">
      <ComboboxOption v-for="m in list" :key="m.name" v-slot="{ active }" :value="m.name" as="template">
        <li class="cursor-pointer px-2 py-0.5" :class="active && 'bg-wash'" :title="m.means"><span class="code break-all">{{ m.name }}</span><span v-if="m.not" class="label block text-alarm">Not here: {{ m.not }}</span></li>
      </ComboboxOption>
      <li v-if="found.data.value?.left" class="label px-2 py-0.5" role="presentation">and {{ count(found.data.value.left) }} more; keep typing</li>
    </ComboboxOptions>
    <p v-if="found.isError.value && word" class="label text-alarm">{{ (found.error.value as Error).message }}</p>
  </Combobox>
</template>
