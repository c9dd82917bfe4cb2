<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api } from '../api/client'
import { tell } from '../composables/useNotices'
import { steps, toured, useTour } from '../composables/useTour'

/** Four steps through the demo; each waits until it was really done. */
const route = useRoute()
const router = useRouter()
const { at, offered, step, begin, end } = useTour()
// Only where there is what it goes through.
const programs = useQuery({ queryKey: ['programs'], queryFn: api.programs, enabled: computed(() => !offered.value && route.name === 'programs') })
const there = computed(() => (programs.data.value?.programs ?? []).some((p) => p.name === toured && p.builds.some((b) => b.name === '3.5.0')))
const offer = computed(() => !offered.value && route.name === 'programs' && there.value)

function go() {
  begin()
  if (route.name !== 'programs') void router.push({ name: 'programs' })
}
watch(
  () => route.fullPath,
  () => {
    if (!step.value?.done(route)) return
    at.value++
    if (at.value === steps.length) tell('That was the tour: noticed, found, compared, and now you decide. You can start it again under ?.', { seconds: 10 })
  },
)
</script>

<template>
  <aside v-if="offer || step" class="flex shrink-0 items-baseline gap-4 border-t border-rule-strong bg-sheet px-4 py-2" aria-label="Tour" data-test="tour">
    <template v-if="step">
      <span class="flex shrink-0 items-baseline gap-1.5 font-medium"><span>{{ step.name }}</span> <span class="label">{{ at + 1 }} of {{ steps.length }}</span></span>
      <p class="min-w-0 flex-1">{{ step.say }}</p>
      <button class="word label shrink-0" @click="end">end the tour</button>
    </template>
    <template v-else>
      <p class="min-w-0 flex-1">New here? A tour in four steps goes from a slow build to the line that made it slow.</p>
      <button class="action shrink-0 !py-0.5" @click="go">Begin the tour</button>
      <button class="word label shrink-0" @click="end">no, thanks</button>
    </template>
  </aside>
</template>
