<script setup lang="ts">
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { useElementSize } from '@vueuse/core'
import { ArrowDownUp, ChevronDown, ChevronUp, Search, X } from 'lucide-vue-next'
import { computed, nextTick, ref, shallowRef, watch } from 'vue'
import { api, type Range } from '../../api/client'
import ChoiceMenu from '../../components/ChoiceMenu.vue'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { useAddress } from '../../composables/useAddress'
import { useFocus } from '../../composables/useFocus'
import { useMeasure } from '../../composables/useMeasure'
import { useKeys } from '../../composables/useKeys'
import { usePercent } from '../../composables/usePercent'
import { dark } from '../../composables/useTheme'
import { count, kindText, percent } from '../../lib/format'
import { sized } from '../../lib/canvasSize'
import { Geometry, rowHeight, whole } from '../../lib/geometry'
import { paint } from './paint'
import ShapeMenu from './ShapeMenu.vue'
import { useDive } from './useDive'
import type { LensEmits, LensProps } from '../registry'

const props = defineProps<Partial<LensProps> & { takeKey: string; range: Range; bare?: boolean }>()
const { figure, exact } = useMeasure()
const { of } = usePercent()
const emit = defineEmits<LensEmits>()

const { text, number } = useAddress()
const root = number('root')
const order = text('order', 'cost')
const turned = text('turn')
const words = text('search')
const { focus, set: setFocus } = useFocus()

const queries = useQueryClient()
const canvas = ref<HTMLCanvasElement>()
const box = ref<HTMLElement>()
const { width, height } = useElementSize(box)
const pixels = computed(() => Math.max(100, Math.ceil(width.value / 64) * 64))
const up = computed(() => turned.value === 'up')

const question = computed(() => ({ ...props.range, root: root.value || undefined, order: order.value, pixels: Math.round(pixels.value * (devicePixelRatio || 1)) }))
const asking = (q: typeof question.value) => ({
  queryKey: ['flame', props.takeKey, q, (props.pins ?? []).join('\n')],
  queryFn: ({ signal }: { signal: AbortSignal }) => api.flame(props.takeKey, q, signal),
})
const flame = useQuery(computed(() => ({ ...asking(question.value), enabled: width.value > 0, placeholderData: keepPreviousData })))
/** Asks ahead for the picture of a scope that probably comes next. */
async function ahead(scope: string) {
  if (width.value) await queries.prefetchQuery(asking({ ...question.value, scope: scope || undefined }))
}
defineExpose({ ahead })
const geometry = shallowRef<Geometry>()
const walked = ref(-1)
const hovered = ref(-1)
const scroll = ref(0)
const { view, jump, move } = useDive(repaint)

// How an interpreter gets to the program is the same in every take: it is gathered in a strip.
const opened = ref(false)
const leading = computed(() => {
  const g = geometry.value
  if (!g || root.value || opened.value || props.bare) return 0
  let [i, rows] = [0, 0]
  for (;;) {
    const next = g.heaviestChild(i)
    if (next < 0 || g.flame.hidden[next] || g.flame.width[next] < 0.95 * g.flame.width[0]) return 0
    const f = g.flame.functions[g.flame.function[next]]
    if (f.runs !== 'native') return rows >= minGathered ? rows + 1 : 0 // and the row of all
    if (f.kind === 'own') return 0
    i = next
    rows++
  }
})
const minGathered = 3
const top = computed(() => leading.value * rowHeight)
watch(top, (now) => (scroll.value = Math.max(now, scroll.value)))

let keepNode = -1
watch(flame.data, (f) => {
  if (!f) return
  geometry.value = new Geometry(f)
  hovered.value = -1
  walked.value = keepNode >= 0 ? geometry.value.position(keepNode) : -1
  keepNode = -1
  scroll.value = top.value
  jump(whole)
  if (!flame.isPlaceholderData.value) emit('drawn', props.range)
}, { immediate: true })

// Search: the server counts, over all frames and not only those drawn.
const found = useQuery({
  queryKey: ['search', () => props.takeKey, () => props.range, root, words],
  queryFn: ({ signal }) => api.search(props.takeKey, { ...props.range, text: words.value, root: root.value || undefined }, signal),
  enabled: computed(() => words.value !== ''),
  placeholderData: keepPreviousData,
})
const matches = computed(() => (words.value && found.data.value ? new Set(found.data.value.functions) : null))

const label = (i: number): string => {
  const f = flame.data.value!
  if (f.hidden[i]) return `${count(f.hidden[i])} ${f.deep[i] ? 'deeper' : 'thin'}, ${percent(f.width[i] / f.total)}`
  if (f.node[i] === 0) return 'all'
  return f.functions[f.function[i]].short
}

const pinned = computed(() => new Set(props.pins ?? []))
let queued = false
function repaint() {
  if (queued) return
  queued = true
  requestAnimationFrame(() => {
    queued = false
    const el = canvas.value
    const g = geometry.value
    if (!el || !g || !width.value) return
    paint(sized(el, width.value, height.value), g, view.value, { width: width.value, height: height.value }, scroll.value, {
      dark: dark.value, up: up.value, focus: focus.value, walked: walked.value, hovered: hovered.value, pins: pinned.value, matches: matches.value, label,
    })
  })
}
watch([width, height, dark, up, focus, walked, hovered, matches, pinned, scroll], repaint)
document.fonts.ready.then(repaint)

const furthest = computed(() => Math.max(top.value, (geometry.value?.rows ?? 0) * rowHeight - height.value))
function wheel(e: WheelEvent) {
  scroll.value = Math.min(furthest.value, Math.max(top.value, scroll.value + (up.value ? -e.deltaY : e.deltaY)))
}
function openLeading() {
  opened.value = true
  scroll.value = 0
}
function reveal(i: number) {
  const g = geometry.value!
  const y = g.flame.depth[i] * rowHeight
  if (y < top.value) openLeading()
  if (y < scroll.value) scroll.value = y
  else if (y + rowHeight > scroll.value + height.value) scroll.value = Math.min(furthest.value, y + rowHeight - height.value)
}

function under(e: MouseEvent): number {
  const g = geometry.value
  if (!g) return -1
  const r = canvas.value!.getBoundingClientRect()
  const y = up.value ? r.bottom - e.clientY : e.clientY - r.top
  const share = view.value.left + ((e.clientX - r.left) / r.width) * (view.value.right - view.value.left)
  return g.at(share * g.span, Math.floor((y + scroll.value) / rowHeight))
}

function nameOf(i: number): string {
  const f = flame.data.value!
  return f.hidden[i] || f.node[i] === 0 ? '' : f.functions[f.function[i]].name
}

function click(e: MouseEvent) {
  const i = under(e)
  walked.value = i
  if (i >= 0 && nameOf(i)) setFocus(nameOf(i))
}

function dive(i: number) {
  const g = geometry.value
  if (!g || i <= 0) return
  const f = g.flame
  const target = f.hidden[i] ? g.parent[i] : i
  if (target <= 0) return
  keepNode = f.node[target]
  // The server lays the part out while the picture moves to it.
  void queries.prefetchQuery(asking({ ...question.value, root: f.node[target] }))
  move({ left: f.x[target] / g.span, right: (f.x[target] + f.width[target]) / g.span }, () => (root.value = f.node[target]))
}

function climb(to?: number) {
  const f = flame.data.value
  if (!f || !root.value) return
  keepNode = f.root
  root.value = to ?? f.path[f.path.length - 1]?.node ?? 0
}

function walk(direction: 'in' | 'out' | 1 | -1) {
  const g = geometry.value
  if (!g) return
  let i = walked.value
  if (i < 0) {
    i = 0
    if (focus.value) i = Math.max(0, g.flame.node.findIndex((_, k) => nameOf(k) === focus.value))
  } else if (direction === 'in') i = g.heaviestChild(i)
  else if (direction === 'out') i = g.parent[i]
  else i = g.beside(i, direction)
  if (i < 0) return
  walked.value = i
  reveal(i)
  if (nameOf(i)) setFocus(nameOf(i))
}

// Steps through the frames that match, in the order in which one reads.
function stepMatch(by: 1 | -1) {
  const g = geometry.value
  const set = matches.value
  if (!g || !set?.size) return
  const n = g.flame.node.length
  for (let k = 1; k <= n; k++) {
    const i = (((walked.value + by * k) % n) + n) % n
    if (!g.flame.hidden[i] && g.flame.node[i] && set.has(g.flame.functions[g.flame.function[i]].id)) {
      walked.value = i
      reveal(i)
      setFocus(nameOf(i))
      return
    }
  }
}

const field = ref<HTMLInputElement>()
function escape() {
  if (words.value) words.value = ''
  else if (root.value) climb(0)
  else if (focus.value) setFocus('')
}
function leaveField(e: KeyboardEvent) {
  if (e.key === 'Escape') {
    words.value = ''
    field.value?.blur()
  } else if (e.key === 'Enter') {
    field.value?.blur()
    void nextTick(() => stepMatch(1))
  }
}

useKeys({
  '/': () => field.value?.select(),
  Enter: () => dive(walked.value),
  Backspace: () => climb(),
  Escape: escape,
  ArrowDown: () => walk(up.value ? 'out' : 'in'),
  ArrowUp: () => walk(up.value ? 'in' : 'out'),
  ArrowLeft: () => walk(-1),
  ArrowRight: () => walk(1),
  m: () => stepMatch(1),
  M: () => stepMatch(-1),
  u: () => (turned.value = up.value ? '' : 'up'),
  p: () => focus.value && emit('pin', focus.value),
})

// What the line below the flame says: the frame under the pointer, else that
// which the keyboard is on, else how to begin.
const told = computed(() => {
  const f = flame.data.value
  const i = hovered.value >= 0 ? hovered.value : walked.value
  if (!f || i < 0 || i >= f.node.length) return null
  const fn = f.functions[f.function[i]]
  return {
    hidden: f.hidden[i],
    name: f.hidden[i] ? `${count(f.hidden[i])} frames ${f.deep[i] ? 'below the last row; dive in to see them' : 'too thin to draw'}, called from ${f.node[i] ? fn.short : 'the start'}` : f.node[i] === 0 ? 'Everything in scope' : fn.short,
    full: f.hidden[i] ? '' : fn.name,
    kind: f.hidden[i] || f.node[i] === 0 ? '' : kindText(fn.kind) + (fn.runs === 'native' ? '' : ', ' + fn.runs),
    inlined: f.inlined[i] === 1,
    pinned: !f.hidden[i] && pinned.value.has(fn.name),
    share: of(f.width[i], { scope: f.total, parent: geometry.value && geometry.value.parent[i] >= 0 ? f.width[geometry.value.parent[i]] : undefined, digits: 2 }),
    total: figure(f.width[i]),
    self: figure(f.self[i]),
    samples: exact.value ? (f.calls[i] ? `${count(f.calls[i])} ${f.calls[i] === 1 ? 'call' : 'calls'}` : '') : `${count(f.count[i])} samples`,
  }
})
const orders = [
  { value: 'cost', text: 'the costliest first' },
  { value: 'name', text: 'by name' },
  { value: 'first', text: 'as first seen' },
]
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Flame">
    <div class="flex h-[36px] shrink-0 items-center gap-2 border-b border-rule px-3">
      <label class="field flex items-center gap-1.5 !py-0.5">
        <Search class="size-3.5 text-ink-3" aria-hidden="true" />
        <input ref="field" v-model="words" class="w-44 bg-transparent outline-none placeholder:text-ink-3" placeholder="Search frames" aria-label="Search frames" @keydown="leaveField" />
        <button v-if="words" aria-label="End the search" class="text-ink-3 hover:text-ink" @click="words = ''"><X class="size-3.5" /></button>
      </label>
      <template v-if="words && found.data.value">
        <span class="whitespace-nowrap" role="status" data-test="found" :data-searched="found.isFetching.value ? '' : words">
          <template v-if="found.data.value.nodes">{{ count(found.data.value.nodes) }} frames cover {{ percent(found.data.value.value / (flame.data.value?.total || 1)) }}</template>
          <template v-else>no frame matches</template>
        </span>
        <button class="text-ink-2 hover:text-ink disabled:opacity-40" aria-label="Previous match" :disabled="!found.data.value.nodes" @click="stepMatch(-1)"><ChevronUp class="size-4" /></button>
        <button class="text-ink-2 hover:text-ink disabled:opacity-40" aria-label="Next match" :disabled="!found.data.value.nodes" @click="stepMatch(1)"><ChevronDown class="size-4" /></button>
      </template>
      <div class="flex-1" />
      <ChoiceMenu v-model="order" :choices="orders" name="Order of siblings" />
      <ShapeMenu v-if="!bare" :range="range" :focus="focus" @shape="emit('shape', $event)" />
      <button class="action !px-2 !py-0.5" :aria-pressed="up" @click="turned = up ? '' : 'up'"><ArrowDownUp class="size-3.5" aria-hidden="true" /><span :class="words && 'sr-only'">{{ up ? 'grows up' : 'grows down' }}</span></button>
    </div>
    <div v-if="flame.data.value?.path.length" class="shrink-0 border-b border-rule" aria-label="Frames above">
      <button
        v-for="(s, k) in flame.data.value.path.slice(-6)"
        :key="s.node"
        class="block h-[18px] w-full truncate border-b border-rule/60 bg-wash px-2 text-left text-[11px] leading-[17px] text-ink-2 hover:text-ink"
        :title="`Climb to ${flame.data.value.functions[s.function].name || 'all'}`"
        @click="climb(s.node)"
      >
        <template v-if="k === 0 && flame.data.value.path.length > 6">{{ flame.data.value.path.length + flame.data.value.above - 5 }} frames above, up to </template>
        {{ s.node === 0 ? 'all' : flame.data.value.functions[s.function].short }} <span class="text-ink-3">{{ percent(s.total / flame.data.value.total) }}</span>
      </button>
    </div>
    <ErrorNote v-if="flame.isError.value" :error="flame.error.value" :retry="() => flame.refetch()" />
    <button v-if="leading" class="label shrink-0 truncate border-rule bg-wash px-2 py-[1px] text-left hover:text-ink" :class="up ? 'order-last border-t' : 'border-b'" title="Show these frames" data-test="leading" @click="openLeading">{{ count(leading - 1) }} frames of the interpreter's start-up, the same in every take: show them</button>
    <div ref="box" class="relative min-h-0 flex-1 overflow-hidden bg-sheet">
      <WaitNote v-if="flame.isPending.value || flame.isPlaceholderData.value" class="absolute z-10" what="Drawing the flame graph" />
      <canvas
        ref="canvas"
        tabindex="0"
        role="img"
        :aria-label="`Flame graph. ${told ? told.name + ', ' + told.share : 'The arrow keys move between frames, Enter dives.'}`"
        data-test="flame"
        :data-frames="flame.data.value?.node.length"
        :data-root="flame.data.value?.root"
        :data-total="flame.data.value?.total"
        class="absolute inset-0 size-full outline-none"
        @mousemove="hovered = under($event)"
        @mouseleave="hovered = -1"
        @click="click"
        @dblclick="dive(under($event))"
        @wheel.prevent="wheel"
      />
      <p v-if="flame.data.value && !flame.data.value.samples" class="absolute inset-0 p-8 text-ink-2">No samples in this scope. Widen the time range or remove a condition above.</p>
    </div>
    <div class="flex h-[38px] shrink-0 items-center gap-4 border-t border-rule px-3" data-test="told">
      <template v-if="told">
        <span class="code min-w-0 flex-1 truncate" :title="told.full" :data-name="told.full">{{ told.name }}</span>
        <span class="label min-w-0 shrink truncate"><template v-if="told.pinned">pinned, </template><template v-if="told.inlined">inlined, </template>{{ told.kind }}</span>
        <span class="whitespace-nowrap"><b class="font-medium">{{ told.share }}</b> · {{ told.total }}<template v-if="!told.hidden"> · self {{ told.self }}</template><template v-if="told.samples"> · {{ told.samples }}</template></span>
      </template>
      <span v-else class="label truncate">Click a frame to follow its function, double click to dive, point at one to read it. ? shows the keys.</span>
    </div>
  </section>
</template>
