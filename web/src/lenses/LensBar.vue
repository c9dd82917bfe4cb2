<script setup lang="ts">
import ChoiceMenu from '../components/ChoiceMenu.vue'
import { modes } from '../composables/usePercent'
import { lenses } from './registry'

defineProps<{ lens: string }>()
const mode = defineModel<string>('mode', { required: true })
defineEmits<{ lens: [name: string] }>()
</script>

<template>
  <div class="flex h-[34px] shrink-0 items-stretch gap-4 border-b border-rule px-4">
    <div class="flex items-stretch" role="tablist" aria-label="Lens">
      <button v-for="(l, i) in lenses" :key="l.name" role="tab" :aria-selected="lens === l.name" :title="`${l.text} (${i + 1})`" class="-mb-px border-b-2 px-3" :class="lens === l.name ? 'border-ink font-medium' : 'border-transparent text-ink-2 hover:text-ink'" @click="$emit('lens', l.name)">{{ l.text }}</button>
    </div>
    <div class="flex-1" />
    <div class="flex items-center gap-2"><ChoiceMenu v-model="mode" :choices="modes" name="What 100 % is" right /><slot /></div>
  </div>
</template>
