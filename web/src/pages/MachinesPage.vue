<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { CircleAlert, CircleCheck, CircleX } from 'lucide-vue-next'
import { api } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import WaitNote from '../components/WaitNote.vue'
import { bytes, when } from '../format'

document.title = 'Machines – Entelon'
const collectors = useQuery({ queryKey: ['collectors'], queryFn: api.collectors, staleTime: 0, refetchInterval: 10_000 })
const marks: Record<string, { icon: typeof CircleCheck; text: string }> = {
  good: { icon: CircleCheck, text: 'good' },
  part: { icon: CircleAlert, text: 'in part' },
  bad: { icon: CircleX, text: 'no' },
}
</script>

<template>
  <div class="h-full overflow-y-auto">
    <header class="flex h-[52px] items-center border-b border-rule px-6"><h1 class="text-[15.5px] font-medium">Machines</h1></header>
    <ErrorNote v-if="collectors.isError.value" :error="collectors.error.value" :retry="() => collectors.refetch()" />
    <WaitNote v-else-if="!collectors.data.value" what="Asking for the machines" />
    <div v-else-if="!collectors.data.value.collectors.length" class="max-w-[620px] p-8">
      <p class="text-[15px]">No collector was ever here</p>
      <p class="mt-1 text-ink-2">Start one on a machine that you want to look at: <span class="code">entelon collector --to URL</span></p>
    </div>
    <section v-for="c in collectors.data.value?.collectors" :key="c.name" class="max-w-[1040px] border-b border-rule px-6 py-5" :aria-label="c.name">
      <h2 class="flex items-baseline gap-3"><span class="text-[17px] font-medium">{{ c.name }}</span><span v-if="c.here" class="text-ink-2">its collector is there</span><span v-else class="text-alarm">not heard of since {{ when(c.seen_at) }}</span></h2>
      <p class="mt-0.5 text-ink-2">{{ c.report.machine.processor }}, {{ c.report.machine.processors }} processors, {{ bytes(c.report.machine.memory_bytes) }}, Linux {{ c.report.machine.kernel }}, Entelon {{ c.report.machine.entelon }}</p>
      <table class="mt-3 w-full">
        <tbody>
          <tr v-for="x in c.report.checks" :key="x.name" class="border-t border-rule align-baseline">
            <td class="w-[86px] py-1.5 whitespace-nowrap"><component :is="marks[x.state]?.icon" class="mr-1.5 inline size-3.5 align-[-2px]" :class="x.state === 'good' ? 'text-ink-3' : 'text-alarm'" aria-hidden="true" />{{ marks[x.state]?.text }}</td>
            <td class="w-[230px] pr-4">{{ x.name }}</td>
            <td class="text-ink-2">{{ x.text }}<span v-if="x.remedy && x.state !== 'good'" class="block text-ink">{{ x.remedy }}</span></td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
</template>
