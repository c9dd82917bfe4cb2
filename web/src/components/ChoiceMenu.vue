<script setup lang="ts">
import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from '@headlessui/vue'
import { Check, ChevronDown } from 'lucide-vue-next'
import { computed } from 'vue'

const props = defineProps<{ choices: { value: string; text: string; note?: string }[]; name: string; plain?: boolean; right?: boolean }>()
const model = defineModel<string>({ required: true })
const shown = computed(() => props.choices.find((c) => c.value === model.value)?.text ?? model.value)
</script>

<template>
  <Listbox v-model="model" as="div" class="relative inline-block">
    <ListboxButton :aria-label="`${name}: ${shown}`" :class="plain ? 'word' : 'action !px-2 !py-0.5'">
      <span class="max-w-56 truncate">{{ shown }}</span><ChevronDown v-if="!plain" class="size-3.5 text-ink-3" aria-hidden="true" />
    </ListboxButton>
    <ListboxOptions class="absolute z-20 mt-1 max-h-80 min-w-full overflow-auto border border-rule-strong bg-sheet py-1 whitespace-nowrap shadow-md outline-none" :class="right && 'right-0'">
      <ListboxOption v-for="c in choices" :key="c.value" v-slot="{ active, selected }" :value="c.value" as="template">
        <li class="flex cursor-pointer items-center gap-2 px-3 py-1" :class="active && 'bg-wash'">
          <Check class="size-3.5" :class="!selected && 'invisible'" aria-hidden="true" />
          <span class="flex-1">{{ c.text }}</span><span v-if="c.note" class="label pl-4">{{ c.note }}</span>
        </li>
      </ListboxOption>
    </ListboxOptions>
  </Listbox>
</template>
