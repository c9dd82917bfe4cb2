<script setup lang="ts">
import { computed } from 'vue'
import { useAddress } from '../../composables/useAddress'
import { useKeys } from '../../composables/useKeys'
import AreaMap from './AreaMap.vue'
import AroundFocus from './AroundFocus.vue'
import WholeGraph from './WholeGraph.vue'
import type { LensEmits, LensProps } from '../registry'

const props = defineProps<LensProps>()
const emit = defineEmits<LensEmits>()
const { text } = useAddress()
const view = text('around', 'focus')
const levels = text('levels', '2')
const views = [
  { value: 'focus', text: 'around the focus' },
  { value: 'graph', text: 'whole graph' },
  { value: 'areas', text: 'nested areas' },
]
const shown = computed(() => (view.value === 'graph' ? WholeGraph : view.value === 'areas' ? AreaMap : AroundFocus))
useKeys({ p: () => props.focus && emit('pin', props.focus), Escape: () => emit('focus', '') })
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Neighbours">
    <div class="flex h-[36px] shrink-0 items-center gap-3 border-b border-rule px-4">
      <div class="flex" role="group" aria-label="Which drawing">
        <button v-for="v in views" :key="v.value" class="border border-r-0 border-rule-strong px-2 py-0.5 last:border-r" :class="view === v.value ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="view === v.value" @click="view = v.value">{{ v.text }}</button>
      </div>
      <div v-if="view === 'focus'" class="flex items-center gap-1.5" role="group" aria-label="Levels">
        <button v-for="l in ['1', '2', '3']" :key="l" class="border border-rule-strong px-2 py-0.5" :class="levels === l ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="levels === l" @click="levels = l">{{ l }}</button>
        <span class="label">{{ levels === '1' ? 'level' : 'levels' }}</span>
      </div>
    </div>
    <component :is="shown" :take-key="takeKey" :range="range" :focus="focus" :levels="Number(levels)" @focus="emit('focus', $event)" />
  </section>
</template>
