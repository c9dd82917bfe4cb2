<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ApiError } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import HotIndex from '../components/HotIndex.vue'
import TakeReading from '../components/TakeReading.vue'
import WaitNote from '../components/WaitNote.vue'
import { useFocus } from '../composables/useFocus'
import { useMe } from '../composables/useMe'
import { tell } from '../composables/useNotices'
import { usePins } from '../composables/usePins'
import { whom } from '../composables/useRunning'
import FlameLens from '../lenses/flame/FlameLens.vue'
import { bytes, count } from '../lib/format'

const route = useRoute()
const router = useRouter()
const queries = useQueryClient()
const { may } = useMe()
const id = computed(() => String(route.params.id))
const key = computed(() => 'job-' + id.value)
const over = (state?: string) => state === 'done' || state === 'failed'
const job = useQuery({ queryKey: ['job', id], queryFn: () => api.job(id.value), staleTime: 0, refetchInterval: (q) => (over(q.state.data?.state) ? false : 700) })
const j = computed(() => job.data.value)

// What has come is looked at again whenever more has.
const shown = ref(0)
const hot = useQuery({ queryKey: ['hot', key, {}], queryFn: () => api.hotNow(key.value), enabled: computed(() => shown.value > 0), staleTime: 0, retry: false })
watch(
  () => [j.value?.size, j.value?.state] as const,
  ([size, state]) => {
    if (state === 'done' && j.value?.take) {
      void queries.invalidateQueries({ queryKey: ['takes'] })
      void queries.invalidateQueries({ queryKey: ['programs'] })
      if (j.value.error) tell(j.value.error, { bad: true })
      const { turn, turns } = j.value.settings
      if (turn && turns && turn < turns && !j.value.row_over) {
        void follow()
        return
      }
      if (j.value.said) tell(`${sentence(j.value.said)}.`)
      if (j.value.settings.side && turn && (turn === turns || j.value.row_over)) void compareSides()
      else void router.replace({ name: 'take', params: { key: j.value.take }, query: route.query })
      return
    }
    if (!size || over(state) || Date.now() - last < 1500) return
    last = Date.now()
    shown.value++
    void queries.invalidateQueries({ predicate: (q) => q.queryKey.includes(key.value) })
  },
)
let last = 0

/** Goes on to the comparison of both sides, now that all their takes are there. */
async function compareSides() {
  const { takes } = await api.takes({ series: j.value?.settings.series, limit: 1000 })
  const of = (side: string) => takes.filter((t) => t.side === side).map((t) => t.key).join(',')
  void router.replace({ name: 'compare', query: { ...route.query, baseline: of('baseline'), candidate: of('candidate') } })
}

/** Goes on to the next take of a row; where none comes, to the one that was made. */
async function follow() {
  const of = j.value?.settings.series
  for (let tries = 0; tries < 10; tries++) {
    const next = (await api.runningJobs().catch(() => undefined))?.jobs.find((x) => x.settings.series === of)
    if (next) {
      ;[shown.value, before] = [0, undefined]
      void router.replace({ name: 'running', params: { id: next.id } })
      return
    }
    await new Promise((resolve) => setTimeout(resolve, 300))
  }
  void router.replace({ name: 'take', params: { key: j.value?.take ?? '' } })
}

const exact = computed(() => j.value?.settings.exact ?? false)
// The speed is that of the last second or so, not of the whole.
const pace = ref(0)
let before: { ns: number; samples: number } | undefined
watch(j, (now) => {
  if (!now) return
  if (before && now.elapsed_ns > before.ns) pace.value = ((now.samples - before.samples) / (now.elapsed_ns - before.ns)) * 1e9
  if (!before || now.elapsed_ns > before.ns) before = { ns: now.elapsed_ns, samples: now.samples }
  document.title = `${exact.value ? 'Counting' : 'Sampling'} ${whom(now)} – Entelon`
})

async function stop() {
  try {
    await api.stopJob(id.value)
  } catch (e) {
    tell((e as Error).message, { bad: true })
  }
  await job.refetch()
}
const sentence = (text: string) => text[0].toUpperCase() + text.slice(1)
const { focus, set: setFocus } = useFocus()
const { pins, toggle: togglePin } = usePins(computed(() => j.value?.settings.program ?? ''))
</script>

<template>
  <ErrorNote v-if="job.isError.value" :error="job.error.value" :retry="() => job.refetch()" />
  <WaitNote v-else-if="!j" what="Loading the take" />
  <div v-else class="flex h-full flex-col">
    <header class="flex h-[52px] shrink-0 items-center gap-6 border-b border-rule px-4">
      <h1 class="min-w-0 truncate text-[15.5px]"><span class="text-ink-2">{{ exact ? (over(j.state) ? 'Exact run of' : 'Counting') : over(j.state) ? 'Sampled' : 'Sampling' }}</span> <span class="font-medium">{{ whom(j) }}</span> <span class="text-ink-2">on {{ j.collector }}, asked for by {{ j.who }}<template v-if="j.settings.turns"> · take {{ j.settings.turn }} of {{ j.settings.until ? 'at most ' : '' }}{{ j.settings.turns }}<template v-if="j.settings.side">, {{ j.settings.side === 'baseline' ? 'of the baseline' : 'of the candidate' }}</template></template></span></h1>
      <div class="flex-1" />
      <template v-if="!over(j.state)">
        <dl class="flex gap-6 text-right whitespace-nowrap" aria-live="off">
          <div><dt class="label">Time</dt><dd data-test="elapsed">{{ (j.elapsed_ns / 1e9).toFixed(1) }} s</dd></div>
          <template v-if="!exact">
            <div><dt class="label">Samples</dt><dd>{{ count(j.samples) }}</dd></div>
            <div><dt class="label">a second</dt><dd>{{ count(pace) }}</dd></div>
            <div><dt class="label">Lost</dt><dd>{{ count(j.lost) }}</dd></div>
            <div><dt class="label">Size</dt><dd>{{ bytes(j.size) }}</dd></div>
          </template>
        </dl>
        <p v-if="j.silent" role="status" class="max-w-[230px] text-alarm">Nothing heard from the collector for a while. The take continues when it reconnects; stopping keeps what has arrived.</p>
        <button v-if="may('collect')" class="action !px-4 !py-1" :disabled="j.state === 'stopping' && !j.silent" data-test="stop" @click="stop">{{ j.state === 'stopping' && !j.silent ? 'Stopping' : 'Stop and keep' }}</button>
      </template>
    </header>
    <p v-if="j.said" class="shrink-0 border-b border-rule px-4 py-1.5 text-ink-2" role="status" data-test="said">{{ sentence(j.said) }}.</p>
    <div v-if="j.state === 'failed'" class="max-w-[640px] p-8" role="alert">
      <p class="text-[15px]">{{ j.error }}</p>
      <p class="mt-1 text-ink-2">{{ j.remedy }}</p>
      <RouterLink to="/new" class="action mt-4">New take</RouterLink>
    </div>
    <p v-else-if="!hot.data.value" class="p-8 text-ink-2">{{ j.state === 'waiting' ? 'Waiting for a collector to start.' : exact ? (over(j.state) ? 'Reading what was counted.' : `It runs in the emulator${j.settings.once ? '' : ', twice'}. What was counted is shown when it has ended; stopping it keeps what it did until then.`) : hot.error.value instanceof ApiError && hot.error.value.status !== 503 ? hot.error.value.message : 'The first samples are on their way. A picture appears within a few seconds.' }}</p>
    <template v-else>
      <TakeReading :folded="false" :parts="hot.data.value.reading" :warnings="[]" :focus="focus" @focus="setFocus" />
      <div class="flex min-h-0 flex-1">
        <div class="w-[272px] shrink-0 border-r border-rule"><HotIndex :hot="hot.data.value" :focus="focus" :pins="pins" @focus="setFocus" @pin="togglePin" /></div>
        <FlameLens :key="key" :take-key="key" :range="{}" bare @pin="togglePin" />
      </div>
    </template>
  </div>
</template>
