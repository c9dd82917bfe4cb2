<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { useLocalStorage } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ApiError, type Process, type Settings } from '../api/client'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import ErrorNote from '../components/ErrorNote.vue'
import { useCommands } from '../composables/useCommands'
import { useMe } from '../composables/useMe'
import { tell } from '../composables/useNotices'
import { useTakeTerms } from '../composables/useTakeTerms'
import CommandForm from '../newtake/CommandForm.vue'
import GroupChoice from '../newtake/GroupChoice.vue'
import ProcessChoice from '../newtake/ProcessChoice.vue'
import TakeTerms from '../newtake/TakeTerms.vue'

const router = useRouter()
const { query: meQuery, may } = useMe()
document.title = 'New take – Entelon'

const collectors = useQuery({ queryKey: ['collectors'], queryFn: api.collectors, staleTime: 0, refetchInterval: 5000 })
const here = computed(() => (collectors.data.value?.collectors ?? []).filter((c) => c.here))
const chosen = ref('')
const collector = computed({ get: () => (here.value.some((c) => c.name === chosen.value) ? chosen.value : (here.value[0]?.name ?? '')), set: (v) => (chosen.value = v) })

const kinds = [
  { value: 'process', text: 'A running process' },
  { value: 'command', text: 'A command' },
  { value: 'group', text: 'A control group' },
  { value: 'machine', text: 'The whole machine' },
] as const
const kind = useLocalStorage<string>('entelon-take-kind', 'process')
const picked = ref<Process[]>([])
const children = ref<boolean>()
const group = ref('')
const { known, command, programOf, remember: rememberCommand, settings: commandSettings, against } = useCommands()
const { terms, measures, recall, remember, settings: termSettings, row } = useTakeTerms()
function recalled(program: string) {
  if (recall(program)) tell(`The settings are those of the last take of ${program}.`)
}

const whom = computed<Settings | undefined>(() => {
  switch (kind.value) {
    case 'process':
      return picked.value.length ? { pids: picked.value.map((p) => p.pid), command: picked.value[0].command, ...(children.value === undefined ? {} : { children: children.value ? 'yes' : 'no' }) } : undefined
    case 'command':
      return programOf(command.value) ? commandSettings() : undefined
    case 'group':
      return group.value ? { control_group: group.value } : undefined
    default:
      return { whole_machine: true }
  }
})
const hasBaseline = computed(() => kind.value === 'command' && against().length > 0)
const program = computed(() => {
  switch (kind.value) {
    case 'process':
      return picked.value[0]?.name ?? ''
    case 'command':
      return programOf(command.value)
    case 'group':
      return group.value.split('/').at(-1) ?? ''
    default:
      return 'machine'
  }
})

const exact = computed(() => kind.value === 'command' && terms.value.exact)
const failed = ref<unknown>()
const busy = ref(false)
const ready = computed(() => collector.value && whom.value && (exact.value || measures.value.length > 0 && terms.value.rate >= 1) && (exact.value || terms.value.repeat <= 1 || kind.value === 'command' || terms.value.seconds > 0 || terms.value.enough))
async function start() {
  if (!ready.value || busy.value) return
  busy.value = true
  failed.value = undefined
  remember(program.value)
  if (kind.value === 'command') rememberCommand()
  try {
    const job = await api.addJob({ collector: collector.value, settings: { ...termSettings(kind.value === 'command'), ...whom.value }, ...row(), against: kind.value === 'command' && !exact.value ? against() : undefined })
    await router.push({ name: 'running', params: { id: job.id } })
  } catch (e) {
    failed.value = e
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="flex h-full flex-col" @submit.prevent="start">
    <header class="flex h-[52px] shrink-0 items-center gap-3 border-b border-rule px-6">
      <h1 class="text-[15.5px] font-medium">New take</h1>
      <span v-if="here.length > 1" class="flex items-baseline gap-1.5 text-ink-2">on <ChoiceMenu v-model="collector" :choices="here.map((c) => ({ value: c.name, text: c.name }))" name="Collector" plain /></span>
      <span v-else-if="here.length" class="text-ink-2">on {{ collector }}</span>
      <p v-if="failed" role="alert" class="ml-4 min-w-0 flex-1 text-right text-alarm">{{ (failed as Error).message }}<span v-if="failed instanceof ApiError && failed.remedy" class="block text-ink-2">{{ failed.remedy }}</span></p>
      <div v-else class="flex-1" />
      <button class="action !bg-ink !px-4 !text-paper disabled:opacity-40" :disabled="!ready || busy" data-test="start">{{ exact ? 'Start the exact run' : 'Start sampling' }}</button>
    </header>
    <ErrorNote v-if="collectors.isError.value" :error="collectors.error.value" :retry="() => collectors.refetch()" />
    <p v-else-if="meQuery.data.value && !may('collect')" class="p-8 text-ink-2">You may look{{ may('work') ? ' and work' : '' }}, but not collect. Ask somebody who manages people.</p>
    <div v-else-if="collectors.data.value && !here.length" class="max-w-[620px] p-8">
      <p class="text-[15px]">No collector is connected</p>
      <p class="mt-1 text-ink-2">On the machine that you want to look at, start <span class="code">entelon collector</span>. A new machine is added on the page <RouterLink to="/machines" class="word">Machines</RouterLink>.</p>
    </div>
    <div v-else class="flex min-h-0 flex-1">
      <div class="w-[300px] shrink-0 overflow-y-auto border-r border-rule px-6 py-4"><TakeTerms v-model="terms" :kind="kind" :baseline="hasBaseline" :collector="collector" :pid="kind === 'process' ? picked[0]?.pid : undefined" /></div>
      <div class="flex min-w-0 flex-1 flex-col">
        <div class="flex h-[44px] shrink-0 items-center border-b border-rule px-3" role="group" aria-label="Where from">
          <button v-for="k in kinds" :key="k.value" type="button" class="border border-r-0 border-rule-strong px-3 py-0.5 last:border-r" :class="kind === k.value ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="kind === k.value" @click="kind = k.value">{{ k.text }}</button>
        </div>
        <ProcessChoice v-if="kind === 'process'" v-model="picked" v-model:children="children" :collector="collector" @start="start" @program="recalled" />
        <CommandForm v-else-if="kind === 'command'" v-model="command" :known="known" :alone="exact" @program="recalled" />
        <GroupChoice v-else-if="kind === 'group'" v-model="group" :collector="collector" @program="recalled" />
        <p v-else class="max-w-[560px] px-6 py-5 text-ink-2">Everything that runs on {{ collector }} is sampled, of every user, Entelon included. Idle processors are left out.</p>
      </div>
    </div>
  </form>
</template>
