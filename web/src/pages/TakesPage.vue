<script setup lang="ts">
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { refDebounced, useDropZone } from '@vueuse/core'
import { ArrowDown, ArrowUp, Pin, Trash2, TriangleAlert } from 'lucide-vue-next'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, type Take } from '../api/client'
import EmptyTakes from '../components/EmptyTakes.vue'
import ErrorNote from '../components/ErrorNote.vue'
import NewTake from '../components/NewTake.vue'
import UploadList from '../components/UploadList.vue'
import WaitNote from '../components/WaitNote.vue'
import { useAddress } from '../composables/useAddress'
import { useAgain } from '../composables/useAgain'
import { useKeys } from '../composables/useKeys'
import { tell } from '../composables/useNotices'
import { useUploads } from '../composables/useUploads'
import { count, duration, percent, when } from '../lib/format'

const router = useRouter()
const queries = useQueryClient()
const { text, change } = useAddress()
const search = text('search')
const program = text('program')
const series = text('series')
const workload = text('workload')
const sort = text('sort', 'started')
const order = text('order', 'down')
const { send } = useUploads()

// A take that is being removed is out of sight at once; the server is told
// when the time for second thoughts is over.
const leaving = ref(new Set<string>())

const asked = computed(() => ({ search: search.value, program: program.value, workload: workload.value || undefined, series: series.value || undefined, sort: sort.value, descending: order.value === 'down', limit: 1000 }))
const settled = refDebounced(asked, 120)
const takes = useQuery({ queryKey: ['takes', settled], queryFn: () => api.takes(settled.value), placeholderData: keepPreviousData })
// The sides of a row in which two commands were interleaved.
const sides = computed(() => {
  const of = (side: string) => rows.value.filter((t) => t.side === side).map((t) => t.key).join(',')
  return series.value && of('baseline') && of('candidate') ? { baseline: of('baseline'), candidate: of('candidate') } : undefined
})
const rows = computed(() => (takes.data.value?.takes ?? []).filter((t) => !leaving.value.has(t.key)))

const columns: { key: string; name: string; right?: boolean; first: string }[] = [
  { key: 'program', name: 'Program', first: 'up' },
  { key: 'build', name: 'Build', first: 'down' },
  { key: 'started', name: 'Started', first: 'down' },
  { key: 'duration', name: 'Duration', right: true, first: 'down' },
  { key: 'cpu', name: 'CPU time', right: true, first: 'down' },
  { key: 'samples', name: 'Samples', right: true, first: 'down' },
]
const grid = 'grid grid-cols-[28px_minmax(130px,1.2fr)_minmax(90px,1fr)_146px_82px_84px_80px_78px_minmax(120px,2fr)_30px] items-center gap-x-3'

function sortBy(c: (typeof columns)[number]) {
  if (sort.value === c.key) change({ order: order.value === 'down' ? 'up' : undefined })
  else change({ sort: c.key === 'started' ? undefined : c.key, order: c.first === 'down' ? undefined : c.first })
}

const chosen = ref<string[]>([])
function choose(key: string) {
  chosen.value = chosen.value.includes(key) ? chosen.value.filter((k) => k !== key) : [...chosen.value, key].slice(-2)
}
function compareChosen() {
  const started = (key: string) => rows.value.find((t) => t.key === key)?.started_at ?? ''
  const [baseline, candidate] = [...chosen.value].sort((a, b) => started(a).localeCompare(started(b)))
  void router.push({ name: 'compare', query: { baseline, candidate } })
}

function remove(t: Take) {
  leaving.value = new Set(leaving.value).add(t.key)
  chosen.value = chosen.value.filter((k) => k !== t.key)
  const timer = setTimeout(async () => {
    try {
      await api.removeTake(t.key)
    } catch (e) {
      tell((e as Error).message, { bad: true })
    }
    await queries.invalidateQueries({ queryKey: ['takes'] })
    void queries.invalidateQueries({ queryKey: ['programs'] })
    stay()
  }, 6000)
  const stay = () => {
    const s = new Set(leaving.value)
    s.delete(t.key)
    leaving.value = s
  }
  tell(`The take of ${t.program} ${t.build} is removed.`, {
    seconds: 6,
    undo: () => {
      clearTimeout(timer)
      stay()
    },
  })
}

const page = ref<HTMLElement>()
const { isOverDropZone } = useDropZone(page, { onDrop: (files) => files && send(files) })
const picker = ref<HTMLInputElement>()
function pick(e: Event) {
  const input = e.target as HTMLInputElement
  if (input.files) send(input.files)
  input.value = ''
}

const scroller = ref<HTMLElement>()
const rowHeight = 34
const virtual = useVirtualizer(computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value ?? null, estimateSize: () => rowHeight, overscan: 12 })))

const searchField = ref<HTMLInputElement>()
const again = useAgain()
useKeys({ r: () => void again(chosen.value.length === 1 ? chosen.value[0] : ''), '/': () => searchField.value?.focus() })
</script>

<template>
  <div ref="page" class="relative flex h-full flex-col px-6 pt-4">
    <header class="mb-3 flex items-center gap-3">
      <h1 class="text-[22px] font-medium">Takes</h1>
      <input ref="searchField" v-model="search" class="field ml-3 w-72" placeholder="Search program, build, note, command" aria-label="Search takes" />
      <span v-if="program" class="flex items-center gap-1.5 text-ink-2">of {{ program }} <button class="word" @click="program = ''">all programs</button></span>
      <span v-if="workload" class="flex min-w-0 items-center gap-1.5 text-ink-2"><span class="truncate">of the workload {{ rows[0]?.workload }}</span> <button class="word whitespace-nowrap" @click="workload = ''">all workloads</button></span>
      <span v-if="series" class="flex items-center gap-1.5 text-ink-2">of one row <RouterLink v-if="sides" class="word" :to="{ name: 'compare', query: sides }">compare its sides</RouterLink> <button class="word" @click="series = ''">all takes</button></span>
      <span class="label">{{ count(takes.data.value?.count ?? 0) }} takes</span>
      <div class="flex-1" />
      <NewTake />
      <button class="action" :disabled="chosen.length !== 2" title="Choose two takes" @click="compareChosen">Compare two</button>
      <button class="action" @click="picker?.click()">Add a file</button>
      <input ref="picker" type="file" accept=".take" multiple class="hidden" aria-label="Take files" @change="pick" />
    </header>
    <UploadList />
    <ErrorNote v-if="takes.isError.value" :error="takes.error.value" :retry="() => takes.refetch()" />
    <WaitNote v-else-if="takes.isPending.value" what="Loading the takes" />
    <template v-else-if="rows.length || search || program || series || workload">
      <div role="table" aria-label="Takes" class="flex min-h-0 flex-1 flex-col">
        <div role="row" :class="grid" class="!items-end border-b border-rule-strong pr-3 pb-1.5">
          <span />
          <span v-for="c in columns" :key="c.key" role="columnheader" :class="c.right && 'text-right'" :aria-sort="sort === c.key ? (order === 'down' ? 'descending' : 'ascending') : 'none'">
            <button class="label inline-flex items-center gap-1 hover:text-ink" :class="sort === c.key && '!text-ink'" @click="sortBy(c)">
              {{ c.name }}<component :is="order === 'down' ? ArrowDown : ArrowUp" v-if="sort === c.key" class="size-3" aria-hidden="true" />
            </button>
          </span>
          <span role="columnheader" class="label text-right">Whole stacks</span>
          <span role="columnheader" class="label">Note</span>
          <span />
        </div>
        <div ref="scroller" class="min-h-0 flex-1 overflow-y-auto">
          <div class="relative" :style="{ height: virtual.getTotalSize() + 'px' }">
            <div
              v-for="v in virtual.getVirtualItems()"
              :key="rows[v.index].key"
              role="row"
              :class="[grid, chosen.includes(rows[v.index].key) && 'bg-wash']"
              class="group absolute inset-x-0 border-b border-rule pr-3 hover:bg-wash"
              :style="{ top: v.start + 'px', height: rowHeight + 'px' }"
            >
              <input
                type="checkbox"
                class="accent-ink ml-1"
                :checked="chosen.includes(rows[v.index].key)"
                :aria-label="`Choose ${rows[v.index].program} ${rows[v.index].build} to compare`"
                @change="choose(rows[v.index].key)"
              />
              <RouterLink :to="{ name: 'take', params: { key: rows[v.index].key } }" class="truncate font-medium hover:underline">{{ rows[v.index].program }}</RouterLink>
              <RouterLink :to="{ name: 'take', params: { key: rows[v.index].key } }" class="truncate hover:underline">{{ rows[v.index].build }}</RouterLink>
              <span class="text-ink-2">{{ when(rows[v.index].started_at) }}</span>
              <span class="text-right">{{ duration(rows[v.index].duration_ns) }}</span>
              <span class="text-right">{{ rows[v.index].exact ? '–' : duration(rows[v.index].cpu_ns) }}</span>
              <span class="text-right">{{ rows[v.index].exact ? 'exact' : count(rows[v.index].samples) }}</span>
              <span class="text-right text-ink-2">{{ percent(rows[v.index].complete_share) }}</span>
              <span class="flex min-w-0 items-center gap-2 text-ink-2">
                <span v-if="rows[v.index].warnings" class="flex shrink-0 items-center gap-1 text-alarm"><TriangleAlert class="size-3.5" aria-hidden="true" />{{ rows[v.index].warnings }}<span class="sr-only"> warnings</span></span>
                <button v-if="rows[v.index].turns" class="word shrink-0 whitespace-nowrap" title="Show the takes of this row" @click="series = rows[v.index].series">{{ rows[v.index].turn }} of {{ rows[v.index].turns }}</button>
                <span v-if="rows[v.index].broken" class="truncate text-alarm" :title="rows[v.index].broken">{{ rows[v.index].broken }}</span>
                <Pin v-if="rows[v.index].pinned" class="size-3.5 shrink-0" aria-label="Kept when old takes are removed" />
                <span class="truncate">{{ rows[v.index].note }}</span>
              </span>
              <button class="text-ink-3 opacity-0 group-hover:opacity-100 hover:text-ink focus-visible:opacity-100" :aria-label="`Remove the take of ${rows[v.index].program} ${rows[v.index].build}`" @click="remove(rows[v.index])"><Trash2 class="size-4" /></button>
            </div>
          </div>
          <p v-if="!rows.length" class="p-6 text-ink-2">No take matches. <button class="word" @click="change({ search: undefined, program: undefined, series: undefined })">Show all</button></p>
        </div>
      </div>
    </template>
    <EmptyTakes v-else />
    <div v-if="isOverDropZone" class="pointer-events-none absolute inset-3 z-20 flex items-center justify-center border-2 border-dashed border-ink-2 bg-paper/85 text-[17px]">Drop the .take files to add them</div>
  </div>
</template>
