<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { useLocalStorage } from '@vueuse/core'
import { Search } from 'lucide-vue-next'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, ApiError, type Process, type Settings } from '../api/client'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import ErrorNote from '../components/ErrorNote.vue'
import { useMe } from '../composables/useMe'
import { words } from '../composables/commandWords'
import { count } from '../format'

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
  { value: 'machine', text: 'The whole machine' },
] as const
const kind = useLocalStorage<string>('entelon-take-kind', 'process')
const measures = [
  { name: 'cpu', text: 'CPU time', note: 'samples, some 10 µs each' },
  { name: 'waiting', text: 'Waiting', note: 'every wait, some 5 µs each' },
  { name: 'syscalls', text: 'System calls', note: 'every call, some 5 µs each' },
  { name: 'faults', text: 'Page faults', note: 'every fault, some 3 µs each' },
  { name: 'disk', text: 'Disk requests', note: 'every request' },
  { name: 'allocations', text: 'Allocations', note: "of the C library, some 5 µs each" },
]
const seconds = useLocalStorage('entelon-take-seconds', 0)
const rate = useLocalStorage('entelon-take-rate', 997)
const measured = useLocalStorage<string[]>('entelon-take-measures', ['cpu'])

const needle = ref('')
const processes = useQuery({
  queryKey: ['processes', collector],
  queryFn: () => api.processes(collector.value),
  enabled: computed(() => collector.value !== '' && kind.value === 'process' && may('collect')),
  staleTime: 0,
  refetchInterval: 4000,
})
const list = computed(() => {
  const n = needle.value.toLowerCase()
  return (processes.data.value?.processes ?? []).filter((p) => !n || `${p.pid} ${p.name} ${p.owner} ${p.command.join(' ')}`.toLowerCase().includes(n))
})
const picked = ref<number[]>([])
watch(list, () => (picked.value = picked.value.filter((pid) => processes.data.value?.processes.some((p) => p.pid === pid))))
const pick = (p: Process) => (picked.value = picked.value.includes(p.pid) ? picked.value.filter((x) => x !== p.pid) : [...picked.value, p.pid])

// Remembered by program: the last word of its path.
const commands = useLocalStorage<Record<string, { line: string; dir: string; env: string; user: string }>>('entelon-take-commands', {})
const line = ref(Object.values(commands.value).at(-1)?.line ?? '')
const dir = ref(Object.values(commands.value).at(-1)?.dir ?? '')
const env = ref(Object.values(commands.value).at(-1)?.env ?? '')
const user = ref(Object.values(commands.value).at(-1)?.user ?? '')
const parsed = computed(() => words(line.value))
const programOf = (argv: string[]) => argv[0]?.split('/').at(-1) ?? ''
const known = computed(() => Object.entries(commands.value).map(([name, c]) => ({ value: name, text: name, note: c.line })))
const recalled = computed({
  get: () => '',
  set: (name) => {
    const c = commands.value[name]
    if (c) [line.value, dir.value, env.value, user.value] = [c.line, c.dir, c.env, c.user]
  },
})

const failed = ref<unknown>()
const busy = ref(false)
const ready = computed(
  () => collector.value && measured.value.length > 0 && rate.value >= 1 && (kind.value === 'process' ? picked.value.length > 0 : kind.value === 'command' ? parsed.value.length > 0 : seconds.value > 0),
)
async function start() {
  if (!ready.value || busy.value) return
  busy.value = true
  failed.value = undefined
  const settings: Settings = { rate_hz: rate.value, for_ns: seconds.value * 1e9, measures: measured.value }
  if (kind.value === 'process') {
    settings.pids = picked.value
    settings.command = processes.data.value?.processes.find((p) => p.pid === picked.value[0])?.command
  }
  else if (kind.value === 'machine') settings.whole_machine = true
  else {
    Object.assign(settings, { command: parsed.value, dir: dir.value, env: words(env.value), user: user.value || undefined })
    const { [programOf(parsed.value)]: _old, ...others } = commands.value
    commands.value = { ...others, [programOf(parsed.value)]: { line: line.value, dir: dir.value, env: env.value, user: user.value } }
  }
  try {
    const job = await api.addJob({ collector: collector.value, settings })
    await router.push({ name: 'running', params: { id: job.id } })
  } catch (e) {
    failed.value = e
  } finally {
    busy.value = false
  }
}
const age = (s: number) => (s < 90 ? `${Math.round(s)} s` : s < 5400 ? `${Math.round(s / 60)} min` : s < 129600 ? `${Math.round(s / 3600)} h` : `${Math.round(s / 86400)} d`)
const grid = 'grid grid-cols-[64px_minmax(120px,1fr)_76px_52px_64px_84px_minmax(120px,2fr)] items-center gap-x-3 px-3'
</script>

<template>
  <form class="flex h-full flex-col" @submit.prevent="start">
    <header class="flex h-[52px] shrink-0 items-center gap-3 border-b border-rule px-6">
      <h1 class="text-[15.5px] font-medium">New take</h1>
      <span v-if="here.length > 1" class="flex items-baseline gap-1.5 text-ink-2">on <ChoiceMenu v-model="collector" :choices="here.map((c) => ({ value: c.name, text: c.name }))" name="Collector" plain /></span>
      <span v-else-if="here.length" class="text-ink-2">on {{ collector }}</span>
      <div class="flex-1" />
      <button class="action !bg-ink !px-4 !text-paper disabled:opacity-40" :disabled="!ready || busy" data-test="start">Start sampling</button>
    </header>
    <ErrorNote v-if="collectors.isError.value" :error="collectors.error.value" :retry="() => collectors.refetch()" />
    <p v-else-if="meQuery.data.value && !may('collect')" class="p-8 text-ink-2">You may look{{ may('work') ? ' and work' : '' }}, but not collect. Ask somebody who manages people.</p>
    <div v-else-if="collectors.data.value && !here.length" class="max-w-[620px] p-8">
      <p class="text-[15px]">No collector is there</p>
      <p class="mt-1 text-ink-2">Start one on the machine that you want to look at, with a token that has the role collect:</p>
      <pre class="code mt-3 border border-rule bg-sheet p-3">ENTELON_TOKEN=… entelon collector --to {{ 'http://this-server' }}</pre>
    </div>
    <div v-else class="flex min-h-0 flex-1">
      <div class="w-[300px] shrink-0 overflow-y-auto border-r border-rule px-6 py-4">
        <h2 class="label mb-1">What to add up</h2>
        <label v-for="m in measures" :key="m.name" class="flex items-baseline gap-2 py-[3px]">
          <input v-model="measured" type="checkbox" :value="m.name" class="accent-ink translate-y-[1px]" /><span class="flex-1">{{ m.text }}</span><span class="label">{{ m.note }}</span>
        </label>
        <h2 class="label mt-5 mb-1">How often, for CPU time</h2>
        <label class="flex items-center gap-2"><input v-model.number="rate" type="number" min="1" max="50000" class="field w-[90px]" aria-label="Samples a second" /> samples a second</label>
        <h2 class="label mt-5 mb-1">For how long</h2>
        <label class="flex items-center gap-2"><input v-model.number="seconds" type="number" min="0" max="86400" class="field w-[90px]" aria-label="Seconds" /> s<span class="label">{{ seconds ? '' : kind === 'machine' ? 'needed for a machine' : 'until it ends, or you stop it' }}</span></label>
        <p v-if="failed" role="alert" class="mt-5 text-alarm">{{ (failed as Error).message }}<span v-if="failed instanceof ApiError && failed.remedy" class="block text-ink-2">{{ failed.remedy }}</span></p>
      </div>
      <div class="flex min-w-0 flex-1 flex-col">
        <div class="flex h-[44px] shrink-0 items-center gap-3 border-b border-rule px-3">
          <div class="flex" role="group" aria-label="Where from">
            <button v-for="k in kinds" :key="k.value" type="button" class="border border-r-0 border-rule-strong px-3 py-0.5 last:border-r" :class="kind === k.value ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="kind === k.value" @click="kind = k.value">{{ k.text }}</button>
          </div>
          <div class="flex-1" />
          <label v-if="kind === 'process'" class="field flex items-center gap-1.5 !py-0.5"><Search class="size-3.5 text-ink-3" aria-hidden="true" /><input v-model="needle" class="w-48 bg-transparent outline-none placeholder:text-ink-3" placeholder="Find a process" aria-label="Find a process" @keydown.enter.prevent="list.length === 1 && pick(list[0])" /></label>
        </div>
        <template v-if="kind === 'process'">
          <ErrorNote v-if="processes.isError.value" :error="processes.error.value" :retry="() => processes.refetch()" />
          <div class="label h-[26px] shrink-0 border-b border-rule" :class="grid"><span class="text-right">Number</span><span>Name</span><span>Owner</span><span class="text-right">Age</span><span class="text-right">CPU now</span><span>Runtime</span><span>Command</span></div>
          <div class="min-h-0 flex-1 overflow-y-auto" role="listbox" aria-label="Processes" aria-multiselectable="true">
            <button v-for="p in list.slice(0, 500)" :key="p.pid" type="button" role="option" :aria-selected="picked.includes(p.pid)" class="w-full border-b border-l-[3px] border-transparent border-b-rule py-[5px] text-left hover:bg-wash" :class="[grid, picked.includes(p.pid) && '!border-l-ink bg-wash font-medium']" data-test="process" @click="pick(p)" @dblclick="picked = [p.pid]; start()">
              <span class="text-right">{{ p.pid }}</span><span class="truncate">{{ p.name }}</span><span class="truncate text-ink-2">{{ p.owner }}</span><span class="text-right text-ink-2">{{ age(p.age_s) }}</span><span class="text-right">{{ p.cpu >= 0.005 ? p.cpu.toFixed(2) : '–' }}</span><span class="text-ink-2">{{ p.runtime }}</span><span class="code truncate text-ink-2" :title="p.command.join(' ')">{{ p.command.join(' ') }}</span>
            </button>
            <p v-if="processes.data.value && !list.length" class="p-4 text-ink-2">No process has this in its name, owner or command.</p>
            <p v-if="list.length > 500" class="label p-3">and {{ count(list.length - 500) }} more; find one by name</p>
          </div>
          <p class="label shrink-0 border-t border-rule px-3 py-1">{{ picked.length ? `${picked.length} chosen` : 'Click to choose, double click to start at once' }}; CPU now in processors</p>
        </template>
        <div v-else-if="kind === 'command'" class="max-w-[720px] overflow-y-auto px-6 py-5">
          <div v-if="known.length" class="mb-4 flex items-center gap-2"><span class="label">As before:</span><ChoiceMenu v-model="recalled" :choices="known" name="A command from before" /></div>
          <label class="block"><span class="label">Command, its words apart by blanks, with quotes around what belongs together</span><input v-model="line" class="field code mt-0.5 w-full !py-1.5" placeholder="/srv/bin/engraved --scores 200" spellcheck="false" /></label>
          <p v-if="parsed.length" class="label mt-1">{{ parsed.length }} words: <span v-for="(w, i) in parsed" :key="i" class="code mr-1 border border-rule bg-wash px-1">{{ w }}</span></p>
          <div class="mt-4 grid grid-cols-2 gap-4">
            <label class="block"><span class="label">Directory</span><input v-model="dir" class="field code mt-0.5 w-full" spellcheck="false" /></label>
            <label class="block"><span class="label">User, if not the collector's own</span><input v-model="user" class="field mt-0.5 w-full" spellcheck="false" /></label>
          </div>
          <label class="mt-4 block"><span class="label">Environment, as NAME=VALUE words</span><input v-model="env" class="field code mt-0.5 w-full" placeholder="WORKERS=4" spellcheck="false" /></label>
          <p class="label mt-4">It is started as it stands here, without a shell, and ends with the take.</p>
        </div>
        <p v-else class="max-w-[560px] px-6 py-5 text-ink-2">Everything that runs on {{ collector }} is sampled, whoever it belongs to, Entelon included. Idle processors are left out.</p>
      </div>
    </div>
  </form>
</template>
