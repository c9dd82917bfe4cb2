<script setup lang="ts">
import { useRoute } from 'vue-router'
import { api } from '../api/client'
import { useMe } from '../composables/useMe'
import { tell } from '../composables/useNotices'
import { useRunning, whom } from '../composables/useRunning'
import { count } from '../lib/format'

// That sampling is on must be seen from every page.
const route = useRoute()
const { jobs, query } = useRunning()
const { may } = useMe()
async function stop(id: string) {
  try {
    await api.stopJob(id)
  } catch (e) {
    tell((e as Error).message, { bad: true })
  }
  await query.refetch()
}
</script>

<template>
  <div v-if="jobs.length" class="shrink-0 border-b border-alarm bg-sheet" role="status" aria-label="Sampling is on" data-test="sampling">
    <div v-for="j in jobs.slice(0, 3)" :key="j.id" class="flex h-[30px] items-center gap-3 px-4">
      <span class="size-2.5 shrink-0 animate-pulse rounded-full bg-alarm motion-reduce:animate-none" aria-hidden="true" />
      <span class="truncate"><b class="font-medium">{{ j.settings.exact ? 'Counting' : 'Sampling' }} {{ whom(j) }}</b> on {{ j.collector }}: {{ (j.elapsed_ns / 1e9).toFixed(0) }} s<template v-if="!j.settings.exact">, {{ count(j.samples) }} samples</template></span>
      <span class="flex-1" />
      <RouterLink v-if="route.params.id !== j.id" :to="{ name: 'running', params: { id: j.id } }" class="word">watch it</RouterLink>
      <button v-if="may('collect')" class="word" @click="stop(j.id)">{{ j.state === 'stopping' ? 'stopping' : 'stop and keep' }}</button>
    </div>
    <p v-if="jobs.length > 3" class="label px-4 pb-1">and {{ jobs.length - 3 }} more</p>
  </div>
</template>
