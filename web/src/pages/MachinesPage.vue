<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'
import { CircleAlert, CircleCheck, CircleX } from 'lucide-vue-next'
import { api } from '../api/client'
import AddCollector from '../components/AddCollector.vue'
import ErrorNote from '../components/ErrorNote.vue'
import WaitNote from '../components/WaitNote.vue'
import { useMe } from '../composables/useMe'
import { tell } from '../composables/useNotices'
import { bytes, when } from '../lib/format'

document.title = 'Machines – Entelon'
const collectors = useQuery({ queryKey: ['collectors'], queryFn: api.collectors, staleTime: 0, refetchInterval: 10_000 })
const { me } = useMe()
const adding = ref(false)
const removing = ref('')
async function remove(name: string) {
  try {
    await api.removeCollector(name)
    tell(`${name} was removed. Its key no longer lets it in.`)
  } catch (e) {
    tell((e as Error).message, { bad: true })
  }
  removing.value = ''
  await collectors.refetch()
}
const marks: Record<string, { icon: typeof CircleCheck; text: string }> = {
  good: { icon: CircleCheck, text: 'good' },
  part: { icon: CircleAlert, text: 'in part' },
  bad: { icon: CircleX, text: 'no' },
}
</script>

<template>
  <div class="h-full overflow-y-auto">
    <header class="flex h-[52px] items-center border-b border-rule px-6"><h1 class="flex-1 text-[15.5px] font-medium">Machines</h1><button v-if="me?.owner" class="action" data-test="add-machine" @click="adding = true">Add a machine</button></header>
    <AddCollector :open="adding" @close="adding = false" />
    <ErrorNote v-if="collectors.isError.value" :error="collectors.error.value" :retry="() => collectors.refetch()" />
    <WaitNote v-else-if="!collectors.data.value" what="Loading the machines" />
    <div v-else-if="!collectors.data.value.collectors.length" class="max-w-[620px] p-8">
      <p class="text-[15px]">No machines yet</p>
      <p class="mt-1 text-ink-2">{{ me?.owner ? 'Add the machine that you want to look at.' : 'Ask somebody who manages people to add the machine that you want to look at.' }}</p>
    </div>
    <section v-for="c in collectors.data.value?.collectors" :key="c.name" class="max-w-[1040px] border-b border-rule px-6 py-5" :aria-label="c.name">
      <h2 class="flex items-baseline gap-3"><span class="text-[17px] font-medium">{{ c.name }}</span><span v-if="c.here" class="text-ink-2">Collector connected</span><span v-else-if="!c.enrolled" class="text-alarm">Not enrolled: it was added before collectors had keys. Add it again.</span><span v-else-if="!c.seen_at" class="text-ink-2">Enrolled, never connected</span><span v-else class="text-alarm">Last seen {{ when(c.seen_at) }}</span>
        <span class="flex-1" />
        <template v-if="me?.owner"><button v-if="removing !== c.name" class="word text-ink-2" @click="removing = c.name">remove</button><span v-else class="flex items-baseline gap-3">Remove {{ c.name }}? Takes in progress end with what has arrived.<button class="word text-alarm" data-test="remove-machine" @click="remove(c.name)">remove</button><button class="word" @click="removing = ''">keep</button></span></template></h2>
      <p v-if="c.report.allows.length" class="mt-0.5" :title="`Enrolled ${when(c.enrolled_at)} by ${c.enrolled_by}`">Allows: <span class="text-ink-2">{{ c.report.allows.join(' ') }}</span></p>
      <p v-if="c.seen_at" class="mt-0.5 text-ink-2" data-test="processor">{{ c.report.machine.processor }}, {{ c.report.machine.processors }} processors, {{ bytes(c.report.machine.memory_bytes) }}, Linux {{ c.report.machine.kernel }}, Entelon {{ c.report.machine.entelon }}</p>
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
