<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useLocalStorage } from '@vueuse/core'
import { PanelLeft, PanelRight } from 'lucide-vue-next'
import { computed, ref, watchEffect } from 'vue'
import { useRoute } from 'vue-router'
import { api, type Range } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import FactsDialog from '../components/FactsDialog.vue'
import FunctionCard from '../components/FunctionCard.vue'
import HotIndex from '../components/HotIndex.vue'
import ScopeLine from '../components/ScopeLine.vue'
import TakeReading from '../components/TakeReading.vue'
import TimeRibbon from '../components/TimeRibbon.vue'
import WaitNote from '../components/WaitNote.vue'
import { useAddress } from '../composables/useAddress'
import { useAgain } from '../composables/useAgain'
import { useFocus } from '../composables/useFocus'
import { provideMeasure } from '../composables/useMeasure'
import { useKeys } from '../composables/useKeys'
import { usePins } from '../composables/usePins'
import FlameLens from '../flame/FlameLens.vue'

const route = useRoute()
const key = computed(() => String(route.params.key))
const { number, text, change } = useAddress()
const folds = text('fold')
const from = number('from')
const to = number('to')
const chosen = text('measure')
const range = computed<Range>(() => ({ from: from.value || undefined, to: to.value || undefined, fold: folds.value || undefined, measure: chosen.value || undefined }))
const setRange = (r: Range) => change({ from: r.from ? String(r.from) : undefined, to: r.to ? String(r.to) : undefined })

// The frames of a tree without the runtime are numbered by themselves.
const fold = () => change({ fold: folds.value ? undefined : 'runtime', root: undefined })

const detail = useQuery({ queryKey: ['take', key], queryFn: () => api.take(key.value) })
const measure = computed(() => detail.data.value?.measures.find((m) => m.name === chosen.value) ?? detail.data.value?.measures[0])
provideMeasure(measure)
// A take that was opened from another one may lack its measure.
watchEffect(() => {
  if (chosen.value && measure.value && measure.value.name !== chosen.value) change({ measure: undefined })
})
const hot = useQuery({ queryKey: ['hot', key, range], queryFn: () => api.hot(key.value, range.value), placeholderData: keepPreviousData })
const { focus, set: setFocus, step } = useFocus()
const { pins, toggle: togglePin } = usePins(computed(() => detail.data.value?.take.program ?? ''))

const folded = useLocalStorage('entelon-reading-folded', false)
const indexOpen = useLocalStorage('entelon-index-open', true)
const cardOpen = useLocalStorage('entelon-card-open', true)
const factsOpen = ref(false)

watchEffect(() => {
  const t = detail.data.value?.take
  document.title = t ? `${t.program} ${t.build} – Entelon` : 'Entelon'
})
const repeat = useAgain()
const again = () => repeat(key.value, focus.value)
useKeys({ r: again, v: () => (folded.value = !folded.value), n: () => (factsOpen.value = true), o: fold, ',': () => step(-1), '.': () => step(1) })
</script>

<template>
  <ErrorNote v-if="detail.isError.value" :error="detail.error.value" :retry="() => detail.refetch()" />
  <WaitNote v-else-if="!detail.data.value" what="Opening the take" />
  <div v-else class="flex h-full flex-col">
    <ScopeLine :detail="detail.data.value" :hot="hot.data.value" :range="range" @range="setRange" @fold="fold" @measure="chosen = $event" @again="again" @facts="factsOpen = true" />
    <ErrorNote v-if="hot.isError.value" :error="hot.error.value" :retry="() => hot.refetch()" />
    <TakeReading v-model:folded="folded" :parts="hot.data.value?.reading ?? []" :warnings="detail.data.value.warnings" :focus="focus" @focus="setFocus" />
    <div class="flex min-h-0 flex-1">
      <div class="relative shrink-0 border-r border-rule" :class="indexOpen ? 'w-[272px]' : 'w-[26px]'">
        <button class="absolute top-[9px] -right-[13px] z-10 border border-rule bg-paper p-[2px] text-ink-3 hover:text-ink" :aria-label="indexOpen ? 'Close the list of functions' : 'Open the list of functions'" @click="indexOpen = !indexOpen"><PanelLeft class="size-3.5" /></button>
        <HotIndex v-if="indexOpen && hot.data.value" :hot="hot.data.value" :focus="focus" :pins="pins" class="pr-2" @focus="setFocus" @pin="togglePin" />
      </div>
      <FlameLens :key="key" :take-key="key" :range="range" class="pl-2" @pin="togglePin" @fold="fold" />
      <div class="relative shrink-0 border-l border-rule" :class="cardOpen ? 'w-[280px]' : 'w-[26px]'">
        <button class="absolute top-[9px] -left-[13px] z-10 border border-rule bg-paper p-[2px] text-ink-3 hover:text-ink" :aria-label="cardOpen ? 'Close the card' : 'Open the card'" @click="cardOpen = !cardOpen"><PanelRight class="size-3.5" /></button>
        <FunctionCard v-if="cardOpen" :take-key="key" :range="range" :focus="focus" :pinned="pins.includes(focus)" :detail="detail.data.value" @focus="setFocus" @pin="togglePin" />
      </div>
    </div>
    <TimeRibbon :take-key="key" :range="range" @range="setRange" />
    <FactsDialog :open="factsOpen" :detail="detail.data.value" @close="factsOpen = false" />
  </div>
</template>
