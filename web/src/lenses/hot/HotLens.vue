<script setup lang="ts">
import { keepPreviousData, useQueries, useQuery } from '@tanstack/vue-query'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { useLocalStorage } from '@vueuse/core'
import { ArrowDown, ChevronDown, ChevronRight, Pin } from 'lucide-vue-next'
import { computed, ref, watch } from 'vue'
import { api, type Edge, type Hot } from '../../api/client'
import ChoiceMenu from '../../components/ChoiceMenu.vue'
import { useAddress } from '../../composables/useAddress'
import { useKeys } from '../../composables/useKeys'
import { useMeasure } from '../../composables/useMeasure'
import { usePercent } from '../../composables/usePercent'
import { dark } from '../../composables/useTheme'
import { count, kindText, percent } from '../../lib/format'
import { inkOf } from '../../lib/palette'
import { halfWidth } from '../../lib/interval'
import type { LensEmits, LensProps } from '../registry'

/** The index in full width: every function in scope, with its callers in place. */
const props = defineProps<LensProps & { hot: Hot }>()
const emit = defineEmits<LensEmits>()
const { figure, measure, exact } = useMeasure()
const { of } = usePercent()
const { text } = useAddress()
const sort = text('by', 'self')
const filter = text('filter')
const group = text('rows')

const place = (f: Hot['functions'][number]) => (f.file ? `${f.file.split('/').at(-1)}:${f.line}` : '')
const columns = [
  { key: 'self', text: 'Self', width: '76px', right: true, cell: (h: Hot, i: number) => figure(h.self[i]) },
  { key: 'selfshare', text: 'Self share', width: '76px', right: true, cell: (h: Hot, i: number) => of(h.self[i]) },
  { key: 'total', text: 'Total', width: '76px', right: true, cell: (h: Hot, i: number) => figure(h.sum_total[i]) },
  { key: 'totalshare', text: 'Total share', width: '80px', right: true, cell: (h: Hot, i: number) => of(h.sum_total[i]) },
  { key: 'samples', text: 'Samples', width: '108px', right: true, cell: (h: Hot, i: number) => samples(h, i) },
  { key: 'calls', text: 'Calls', width: '84px', right: true, cell: (h: Hot, i: number) => (h.calls[i] ? count(h.calls[i]) : '') },
  { key: 'each', text: 'Self a call', width: '84px', right: true, cell: (h: Hot, i: number) => (h.calls[i] ? figure(Math.round(h.self[i] / h.calls[i])) : '') },
  { key: 'module', text: 'Module', width: 'minmax(86px,0.7fr)', cell: (h: Hot, i: number) => h.functions[i].module.split('/').at(-1) ?? '' },
  { key: 'kind', text: 'Whose code', width: '110px', cell: (h: Hot, i: number) => kindText(h.functions[i].kind) },
  { key: 'file', text: 'File', width: 'minmax(84px,1fr)', cell: (h: Hot, i: number) => place(h.functions[i]) },
]
const shown = useLocalStorage<string[]>('entelon-hot-columns-shown', ['self', 'selfshare', 'total', 'totalshare', 'samples', 'calls', 'each', 'module', 'file'])
// An exact run has calls and no samples, all else has it the other way round.
const offered = computed(() => columns.filter((c) => (exact.value ? c.key !== 'samples' && (props.hot.calls.length || !['calls', 'each'].includes(c.key)) : !['calls', 'each'].includes(c.key))))
const visible = computed(() => offered.value.filter((c) => shown.value.includes(c.key)))
// Counts of instructions have more digits than times.
const wide = (c: (typeof columns)[number]) => (!exact.value ? c.width : ['self', 'total', 'each'].includes(c.key) ? '92px' : c.key === 'selfshare' ? '62px' : c.key === 'totalshare' ? '70px' : c.width)
const grid = computed(() => ({ gridTemplateColumns: `minmax(160px,1.4fr) ${visible.value.map(wide).join(' ')}` }))
const choosing = ref(false)
const groups = [
  { value: '', text: 'not grouped' },
  { value: 'module', text: 'by module' },
  { value: 'kind', text: 'by whose code' },
  { value: 'file', text: 'by file' },
  { value: 'thread', text: 'by thread' },
]

function samples(h: Hot, i: number): string {
  const n = h.self_samples[i]
  if (measure.value.counted) return count(n)
  return `${count(n)} ±${percent(halfWidth(n, h.samples))}`
}

// Lists can have tens of thousands of functions, so what is reactive is read
// once and not for each of them.
const keyOf = (h: Hot, by: string): number[] | string[] => {
  switch (by) {
    case 'total':
    case 'totalshare':
      return h.sum_total
    case 'samples':
      return h.self_samples
    case 'calls':
      if (h.calls.length) return h.calls
      break
    case 'each':
      if (h.calls.length) return h.self.map((v, i) => (h.calls[i] ? v / h.calls[i] : 0))
      break
    case 'name':
      return h.functions.map((f) => f.short)
    case 'module':
    case 'kind':
    case 'file':
      return h.functions.map((_, i) => columns.find((c) => c.key === by)!.cell(h, i))
  }
  return h.self
}
function orderOf(h: Hot): number[] {
  const self = h.self
  const list = self.map((_, i) => i)
  const keys = keyOf(h, sort.value)
  if (keys === self) return list // they come in this order
  const up = typeof keys[0] === 'string' ? 1 : -1
  return list.sort((a, b) => (keys[a] === keys[b] ? self[b] - self[a] || a - b : keys[a] < keys[b] ? -up : up))
}
const order = computed(() => orderOf(props.hot))

const closed = ref(new Set<string>()) // of threads, the first but the others: those that are opened

// By thread: what each has, and the functions of those that are opened.
const threads = useQuery({
  queryKey: ['threads', () => props.takeKey, () => props.range],
  queryFn: () => api.threads(props.takeKey, props.range),
  enabled: computed(() => group.value === 'thread'),
  placeholderData: keepPreviousData,
})
const headOf = (t: { name: string; tid: number }) => `${t.name}, ${t.tid}`
const openThreads = computed(() => (group.value === 'thread' ? (threads.data.value?.threads ?? []).filter((t, i) => closed.value.has(headOf(t)) !== (i === 0)) : []))
const byThread = useQueries({
  queries: computed(() =>
    openThreads.value.map((t) => {
      const scope = [props.range.scope && `(${props.range.scope})`, `thread is ${t.tid}`].filter(Boolean).join(' and ')
      return { queryKey: ['hot', props.takeKey, { ...props.range, scope }], queryFn: () => api.hot(props.takeKey, { ...props.range, scope }), shallow: true }
    }),
  ),
  combine: (results) => results.map((r) => r.data),
})

type Row = { key: string; at?: number; h?: Hot; pinned?: boolean; edge?: Edge; of?: number; head?: string; open?: boolean; first?: boolean; self?: number; total?: number; n?: number; text?: string }
const opened = ref('')
const card = useQuery({
  queryKey: ['card', () => props.takeKey, () => props.range, opened],
  queryFn: () => api.card(props.takeKey, { ...props.range, name: opened.value }),
  enabled: computed(() => opened.value !== ''),
})
const groupOf = (i: number): string => (group.value === 'module' ? props.hot.functions[i].module || 'unknown' : group.value === 'kind' ? kindText(props.hot.functions[i].kind) : props.hot.functions[i].file || 'file unknown')
const rows = computed<Row[]>(() => {
  const needle = filter.value.toLowerCase()
  const { functions, self } = props.hot
  const pins = new Set(props.pins)
  const fits = (i: number) => !needle || functions[i].name.toLowerCase().includes(needle)
  const isPinned = (i: number) => pins.size > 0 && pins.has(functions[i].name)
  const open = opened.value
  const out: Row[] = []
  const put = (i: number, pinned: boolean) => {
    out.push({ key: `${pinned ? 'p' : 'f'}${i}`, at: i, pinned })
    if (!open || functions[i].name !== open) return
    const d = card.data.value
    if (!d || d.function.name !== opened.value) out.push({ key: 'wait', text: 'Asking for its callers …' })
    else if (!d.callers.length) out.push({ key: 'none', text: 'Nobody calls it: the stack begins here.' })
    else d.callers.slice(0, 40).forEach((e, k) => out.push({ key: `c${k}`, edge: e, of: d.total }))
  }
  order.value.filter(isPinned).forEach((i) => put(i, true))
  const list = order.value.filter(fits)
  if (group.value === 'thread') {
    for (const [n, t] of (threads.data.value?.threads ?? []).entries()) {
      const head = headOf(t)
      const k = openThreads.value.indexOf(t)
      const h = k >= 0 ? byThread.value[k] : undefined
      out.push({ key: `g${head}`, head, self: t.value, n: h?.functions.length, open: k >= 0, first: n === 0 })
      if (k < 0) continue
      if (!h) out.push({ key: `w${head}`, text: 'Adding up its functions …' })
      else for (const i of orderOf(h)) if (!needle || h.functions[i].name.toLowerCase().includes(needle)) out.push({ key: `t${t.tid} ${i}`, at: i, h })
    }
    return out
  }
  if (!group.value) {
    for (const i of list) if (!isPinned(i)) put(i, false)
    return out
  }
  const by = new Map<string, number[]>()
  const sum = new Map<string, number>()
  for (const i of list) {
    const head = groupOf(i)
    const is = by.get(head)
    if (is) is.push(i)
    else by.set(head, [i])
    sum.set(head, (sum.get(head) ?? 0) + self[i])
  }
  for (const [head, is] of [...by].sort((a, b) => sum.get(b[0])! - sum.get(a[0])!)) {
    out.push({ key: `g${head}`, head, self: sum.get(head)!, n: is.length, open: !closed.value.has(head) })
    if (!closed.value.has(head)) for (const i of is) if (!isPinned(i)) put(i, false)
  }
  return out
})

const scroller = ref<HTMLElement>()
const height = 30
const virtual = useVirtualizer(computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value ?? null, estimateSize: () => height, overscan: 4 })))
const at = (k: number) => (rows.value[k].h ?? props.hot).functions[rows.value[k].at!]
const swatch = (f: Hot['functions'][number]) => {
  const ink = inkOf(f.kind, f.area, dark.value)
  return { background: ink.fill, borderColor: ink.edge }
}
let mine = ''
function choose(name: string) {
  mine = name
  emit('focus', name)
}
watch([() => props.focus, scroller], ([name]) => {
  if (!name || name === mine || !scroller.value) return
  const i = rows.value.findIndex((r) => r.at !== undefined && (r.h ?? props.hot).functions[r.at].name === name)
  if (i >= 0) requestAnimationFrame(() => virtual.value.scrollToIndex(i, { align: 'center' }))
}, { flush: 'post' })
function walk(by: number) {
  const functions = rows.value.map((r, k) => [r, k] as const).filter(([r]) => r.at !== undefined)
  const now = functions.findIndex(([r]) => (r.h ?? props.hot).functions[r.at!].name === props.focus)
  const next = functions[Math.min(functions.length - 1, Math.max(0, now + by))]
  if (!next) return
  choose((next[0].h ?? props.hot).functions[next[0].at!].name)
  virtual.value.scrollToIndex(next[1])
}
const field = ref<HTMLInputElement>()
useKeys({
  '/': () => field.value?.select(),
  ArrowDown: () => walk(1),
  ArrowUp: () => walk(-1),
  ArrowRight: () => (opened.value = props.focus),
  ArrowLeft: () => (opened.value = ''),
  Enter: () => (opened.value = opened.value === props.focus ? '' : props.focus),
  p: () => props.focus && emit('pin', props.focus),
  Escape: () => (filter.value ? (filter.value = '') : emit('focus', '')),
})
function toggleGroup(head: string) {
  const s = new Set(closed.value)
  if (!s.delete(head)) s.add(head)
  closed.value = s
}
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Hot functions in full">
    <div class="flex h-[36px] shrink-0 items-center gap-3 border-b border-rule px-4">
      <input ref="field" v-model="filter" class="field w-56 !py-0.5" placeholder="Find a function" aria-label="Find a function" @keydown.escape="filter = ''" />
      <ChoiceMenu v-model="group" :choices="groups" name="Grouping" />
      <span class="label">{{ count(hot.functions.length) }} functions; self costs sum to {{ figure(hot.total) }}</span>
      <div class="flex-1" />
      <div class="relative">
        <button class="action !py-0.5" :aria-expanded="choosing" @click="choosing = !choosing">Columns</button>
        <div v-if="choosing" class="absolute right-0 z-20 mt-1 border border-rule-strong bg-sheet p-2 shadow-md" @keydown.escape="choosing = false">
          <label v-for="c in offered" :key="c.key" class="flex items-center gap-2 px-1 py-0.5 whitespace-nowrap"><input v-model="shown" type="checkbox" :value="c.key" class="accent-ink" />{{ c.text }}</label>
        </div>
      </div>
    </div>
    <div role="table" aria-label="Functions by cost" class="flex min-h-0 flex-1 flex-col">
      <div role="row" class="grid shrink-0 items-end gap-x-3 border-b border-rule-strong px-4 py-1" :style="grid">
        <span role="columnheader"><button class="label hover:text-ink" :class="sort === 'name' && '!text-ink'" @click="sort = 'name'">Function</button></span>
        <span v-for="c in visible" :key="c.key" role="columnheader" :class="c.right && 'text-right'" :aria-sort="sort === c.key ? 'descending' : 'none'"><button class="label inline-flex items-center gap-1 hover:text-ink" :class="sort === c.key && '!text-ink'" @click="sort = c.key">{{ c.text }}<ArrowDown v-if="sort === c.key" class="size-3" aria-hidden="true" /></button></span>
      </div>
      <div ref="scroller" class="min-h-0 flex-1 overflow-y-auto">
        <div class="relative" :style="{ height: virtual.getTotalSize() + 'px' }">
          <template v-for="v in virtual.getVirtualItems()" :key="rows[v.index].key">
            <div v-if="rows[v.index].at !== undefined" role="row" data-test="hot-full" class="group absolute inset-x-0 grid cursor-pointer items-center gap-x-3 border-b border-l-[3px] border-transparent border-b-rule pr-4 pl-[13px]" :class="[at(v.index).name === focus ? '!border-l-focus bg-focus-wash' : rows[v.index].pinned ? 'bg-wash' : 'hover:bg-wash']" :style="{ ...grid, top: v.start + 'px', height: height + 'px' }" :title="at(v.index).name" @click="choose(at(v.index).name)">
              <span role="cell" class="flex min-w-0 items-center gap-1.5">
                <button class="text-ink-3 hover:text-ink" :aria-label="opened === at(v.index).name ? 'Hide its callers' : 'Show its callers'" :aria-expanded="opened === at(v.index).name" @click.stop="opened = opened === at(v.index).name ? '' : at(v.index).name"><component :is="opened === at(v.index).name ? ChevronDown : ChevronRight" class="size-3.5" /></button>
                <span class="size-2.5 shrink-0 border" :style="swatch(at(v.index))" aria-hidden="true" />
                <span class="code end-kept min-w-0 flex-1"><bdi dir="ltr">{{ at(v.index).short }}</bdi></span>
                <button class="text-ink-3 hover:text-ink" :class="rows[v.index].pinned ? '' : 'opacity-0 group-hover:opacity-100 focus-visible:opacity-100'" :aria-label="rows[v.index].pinned ? 'Unpin' : 'Pin'" @click.stop="emit('pin', at(v.index).name)"><Pin class="size-3.5" :fill="rows[v.index].pinned ? 'currentColor' : 'none'" /></button>
              </span>
              <span v-for="c in visible" :key="c.key" role="cell" class="truncate" :class="c.right ? 'text-right' : 'text-ink-2'">{{ c.cell(rows[v.index].h ?? hot, rows[v.index].at!) }}</span>
            </div>
            <button v-else-if="rows[v.index].head !== undefined" :data-test="group === 'thread' ? 'thread' : 'group'" class="absolute inset-x-0 flex items-center gap-2 border-b border-rule-strong bg-paper px-4 text-left" :style="{ top: v.start + 'px', height: height + 'px' }" :aria-expanded="rows[v.index].open" @click="toggleGroup(rows[v.index].head!)">
              <component :is="rows[v.index].open ? ChevronDown : ChevronRight" class="size-3.5 text-ink-3" aria-hidden="true" /><b class="min-w-0 truncate font-medium">{{ rows[v.index].head }}</b><span v-if="rows[v.index].n !== undefined" class="label">{{ count(rows[v.index].n!) }} functions</span><span class="ml-auto">{{ figure(rows[v.index].self!) }} · {{ of(rows[v.index].self!) }} self</span>
            </button>
            <button v-else-if="rows[v.index].edge" class="absolute inset-x-0 flex items-center gap-3 border-b border-rule/50 bg-sheet pr-4 pl-12 text-left hover:bg-wash" data-test="caller" :style="{ top: v.start + 'px', height: height + 'px' }" :disabled="!rows[v.index].edge!.function" @click="rows[v.index].edge!.function && choose(rows[v.index].edge!.function!.name)">
              <span class="label w-16 shrink-0">called by</span><span class="code min-w-0 truncate" :title="rows[v.index].edge!.function?.name">{{ rows[v.index].edge!.function?.short ?? 'the start of the stack' }}</span>
              <span class="h-[3px] shrink-0 bg-bar-pale" :style="{ width: (120 * rows[v.index].edge!.value) / (rows[v.index].of || 1) + 'px' }" aria-hidden="true" />
              <span class="ml-auto whitespace-nowrap">{{ percent(rows[v.index].edge!.value / (rows[v.index].of || 1)) }} of its total · {{ figure(rows[v.index].edge!.value) }}<template v-if="rows[v.index].edge!.calls"> · {{ count(rows[v.index].edge!.calls) }} {{ rows[v.index].edge!.calls === 1 ? 'call' : 'calls' }}</template></span>
            </button>
            <p v-else class="label absolute inset-x-0 border-b border-rule/50 bg-sheet py-1.5 pl-12" :style="{ top: v.start + 'px', height: height + 'px' }">{{ rows[v.index].text }}</p>
          </template>
        </div>
        <p v-if="!rows.length" class="p-6 text-ink-2">No function in scope matches. <button v-if="filter" class="word" @click="filter = ''">Show all</button></p>
      </div>
    </div>
  </section>
</template>
