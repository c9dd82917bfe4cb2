<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { Search } from 'lucide-vue-next'
import { computed, ref, watch } from 'vue'
import { api, type Process } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import { useMe } from '../composables/useMe'
import { count } from '../lib/format'
import { familyOf, names } from './family'

const props = defineProps<{ collector: string }>()
const emit = defineEmits<{ start: []; program: [name: string] }>()
const picked = defineModel<Process[]>({ required: true })
// Whether children that run already are sampled, too; undefined where there are none.
const children = defineModel<boolean | undefined>('children')
const { may } = useMe()
const needle = ref('')
const processes = useQuery({
  queryKey: ['processes', computed(() => props.collector)],
  queryFn: () => api.processes(props.collector),
  enabled: computed(() => props.collector !== '' && may('collect')),
  staleTime: 0,
  refetchInterval: 4000,
})
const all = computed(() => processes.data.value?.processes ?? [])
const list = computed(() => {
  const n = needle.value.toLowerCase()
  return all.value.filter((p) => !n || `${p.pid} ${p.name} ${p.owner} ${p.command.join(' ')}`.toLowerCase().includes(n))
})
watch(all, () => (picked.value = picked.value.filter((x) => all.value.some((p) => p.pid === x.pid))))
const has = (p: Process) => picked.value.some((x) => x.pid === p.pid)
function pick(p: Process) {
  picked.value = has(p) ? picked.value.filter((x) => x.pid !== p.pid) : [...picked.value, p]
  if (picked.value.length === 1) emit('program', picked.value[0].name)
}
const family = computed(() => familyOf(all.value, picked.value))
watch(
  () => [picked.value.map((p) => p.pid).join(), family.value.children.length > 0].join(),
  () => (children.value = family.value.children.length ? family.value.idle : undefined),
)
const age = (s: number) => (s < 90 ? `${Math.round(s)} s` : s < 5400 ? `${Math.round(s / 60)} min` : s < 129600 ? `${Math.round(s / 3600)} h` : `${Math.round(s / 86400)} d`)
const grid = 'grid grid-cols-[64px_minmax(120px,1fr)_76px_52px_64px_84px_minmax(120px,2fr)] items-center gap-x-3 px-3'
</script>

<template>
  <ErrorNote v-if="processes.isError.value" :error="processes.error.value" :retry="() => processes.refetch()" />
  <div class="flex h-[36px] shrink-0 items-center border-b border-rule px-3">
    <label class="field flex items-center gap-1.5 !py-0.5"><Search class="size-3.5 text-ink-3" aria-hidden="true" /><input v-model="needle" class="w-56 bg-transparent outline-none placeholder:text-ink-3" placeholder="Find a process" aria-label="Find a process" @keydown.enter.prevent="list.length === 1 && pick(list[0])" /></label>
    <span class="label ml-auto">{{ picked.length ? `${picked.length} chosen` : 'Click to choose, double click to start at once' }}; CPU now in processors</span>
  </div>
  <label v-if="family.children.length" class="flex h-[34px] shrink-0 items-center gap-2 border-b border-rule bg-wash px-3" data-test="children">
    <input v-model="children" type="checkbox" class="accent-ink" />
    <span>Also sample {{ family.children.length === 1 ? 'the child' : `the ${count(family.children.length)} children` }} already running: {{ names(family.children) }}</span>
    <span class="label ml-auto">{{ family.idle ? 'They do the work. ' : '' }}Processes started later are always sampled.</span>
  </label>
  <div class="label h-[26px] shrink-0 border-b border-rule" :class="grid"><span class="text-right">Number</span><span>Name</span><span>Owner</span><span class="text-right">Age</span><span class="text-right">CPU now</span><span>Runtime</span><span>Command</span></div>
  <div class="min-h-0 flex-1 overflow-y-auto" role="listbox" aria-label="Processes" aria-multiselectable="true">
    <button v-for="p in list.slice(0, 500)" :key="p.pid" type="button" role="option" :aria-selected="has(p)" class="w-full border-b border-l-[3px] border-transparent border-b-rule py-[5px] text-left hover:bg-wash" :class="[grid, has(p) && '!border-l-ink bg-wash font-medium']" data-test="process" @click="pick(p)" @dblclick="picked = [p]; emit('start')">
      <span class="text-right">{{ p.pid }}</span><span class="truncate">{{ p.name }}</span><span class="truncate text-ink-2">{{ p.owner }}</span><span class="text-right text-ink-2">{{ age(p.age_s) }}</span><span class="text-right">{{ p.cpu >= 0.005 ? p.cpu.toFixed(2) : '–' }}</span><span class="text-ink-2">{{ p.runtime }}</span><span class="code truncate text-ink-2" :title="p.command.join(' ')">{{ p.command.join(' ') }}</span>
    </button>
    <p v-if="processes.data.value && !list.length" class="p-4 text-ink-2">No process matches by name, owner or command.</p>
    <p v-if="list.length > 500" class="label p-3">and {{ count(list.length - 500) }} more; search to narrow the list</p>
  </div>
</template>
