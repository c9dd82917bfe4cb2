<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, toRef } from 'vue'
import ChoiceMenu from '../../components/ChoiceMenu.vue'
import { useAddress } from '../../composables/useAddress'
import { perSecond, useRate } from '../../composables/useRate'
import { fetched, type View } from './layout'

/** How much was done: how many spans of a name ended a second, above what the threads did just then. */
const props = defineProps<{ takeKey: string; view: View; duration: number; width: number; left: number }>()
const name = useAddress().text('span', '')
const stretch = refDebounced(computed(() => fetched(props.view, props.duration)), 80)
const high = 26
const rate = useRate({
  take: toRef(props, 'takeKey'),
  name,
  // As many parts as are in view at this width, however much more is asked for.
  bins: computed(() => Math.min(2000, Math.max(1, Math.round(((props.width / 14) * (stretch.value.to - stretch.value.from)) / Math.max(1, props.view.to - props.view.from))))),
  begin: computed(() => stretch.value.from),
  end: computed(() => stretch.value.to),
})
const choices = computed(() => rate.value?.names.map((n) => ({ value: n.name, text: n.short })) ?? [])
const line = computed(() => {
  const r = rate.value
  if (!r || !r.highest) return ''
  const x = (ns: number) => ((ns - props.view.from) / (props.view.to - props.view.from)) * props.width
  const part = (r.to - r.from) / r.each.length
  return r.each
    .map((n, i) => {
      const y = (high - 3 - (n / r.highest) * (high - 6)).toFixed(1)
      return `${x(r.from + i * part).toFixed(1)},${y} ${x(r.from + (i + 1) * part).toFixed(1)},${y}`
    })
    .join(' ')
})
</script>

<template>
  <div v-if="rate" class="flex shrink-0 border-b border-rule" data-test="lane-rate">
    <div class="flex shrink-0 items-center justify-between gap-1 pr-2 pl-4" :style="{ width: left + 'px' }">
      <ChoiceMenu :model-value="rate.name" :choices="choices" name="Ended a second" plain class="min-w-0 truncate" @update:model-value="name = $event" />
      <span class="label shrink-0" :title="`at most ${perSecond(rate.highest)} ended a second`">≤ {{ perSecond(rate.highest) }}/s</span>
    </div>
    <svg :width="width" :height="high" class="block" role="img" :aria-label="`${rate.short} ended a second, at most ${perSecond(rate.highest)}`"><polyline :points="line" fill="none" stroke="var(--color-ink)" stroke-width="1.4" /></svg>
  </div>
</template>
