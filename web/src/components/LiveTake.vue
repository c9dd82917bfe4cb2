<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api } from '../api/client'
import { tell } from '../composables/useNotices'

const router = useRouter()
const queries = useQueryClient()
const about = useQuery({
  queryKey: ['about'],
  queryFn: api.about,
  staleTime: 0,
  refetchInterval: (q) => (q.state.data?.live.running ? 300 : false),
})
const live = computed(() => about.data.value?.live)

async function act(what: () => Promise<unknown>) {
  try {
    await what()
  } catch (e) {
    tell((e as Error).message, { bad: true })
  }
  await about.refetch()
}

watch(
  () => live.value?.running,
  (now, before) => {
    if (!before || now || !live.value) return
    void queries.invalidateQueries({ queryKey: ['takes'] })
    void queries.invalidateQueries({ queryKey: ['programs'] })
    if (live.value.error) tell(live.value.error, { bad: true })
    else if (live.value.take) void router.push({ name: 'take', params: { key: live.value.take } })
  },
)
</script>

<template>
  <div v-if="live?.program" class="flex items-center gap-3">
    <template v-if="live.running">
      <span class="flex items-center gap-2" role="status">
        <span class="size-2.5 animate-pulse rounded-full bg-alarm" aria-hidden="true" />
        Sampling {{ live.program }}: {{ Math.min(live.elapsed, live.seconds).toFixed(1) }} of {{ live.seconds }} s
      </span>
      <button class="action" @click="act(api.stopLive)">Stop and keep</button>
    </template>
    <button v-else-if="live.offered" class="action" @click="act(api.startLive)">Take {{ live.program }} live, {{ live.seconds }} s</button>
    <span v-else class="label">No live take: {{ live.why }}</span>
  </div>
</template>
