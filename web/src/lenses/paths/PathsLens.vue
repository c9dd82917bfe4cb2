<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { ChevronDown, ChevronRight } from 'lucide-vue-next'
import { computed, ref, shallowReactive, watch } from 'vue'
import type { PathRow, PathSteps } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { useAddress } from '../../composables/useAddress'
import { useKeys } from '../../composables/useKeys'
import { useMeasure } from '../../composables/useMeasure'
import { usePercent } from '../../composables/usePercent'
import { dark } from '../../composables/useTheme'
import { count } from '../../lib/format'
import { inkOf } from '../../lib/palette'
import { pathSteps } from '../questions'
import type { LensEmits, LensProps } from '../registry'

/** The tree as rows, from the roots or from the leaves. */
const props = defineProps<LensProps>()
const emit = defineEmits<LensEmits>()
const { figure, exact } = useMeasure()
const { of } = usePercent()
const { text } = useAddress()
const start = text('paths', 'roots')
const queries = useQueryClient()

type Step = { row: PathRow; depth: number; parent?: Step; path: string; key: string; open: boolean; steps?: Step[]; hidden?: { n: number; value: number } }
const state = shallowReactive<{ steps: Step[]; total: number; spread: number; heaviest: number[]; hidden?: { n: number; value: number }; ready: boolean; error?: unknown }>({ steps: [], total: 0, spread: 0, heaviest: [], ready: false })
const version = ref(0) // of the steps, which are plain objects

async function ask(parent?: Step) {
  const out = await queries.fetchQuery(pathSteps(props.takeKey, props.range, start.value === 'leaves' ? { start: 'leaves', path: parent?.path ?? '' } : { node: parent?.row.node ?? 0, heaviest: !parent }))
  return { out, ...stepsOf(out, parent) }
}
function stepsOf(out: PathSteps, parent?: Step) {
  const steps = out.rows.map<Step>((row) => {
    const path = start.value === 'leaves' ? [parent?.path, row.function.id].filter((x) => x !== undefined && x !== '').join(',') : ''
    return { row, depth: (parent?.depth ?? -1) + 1, parent, path, key: start.value === 'leaves' ? `l${path}` : `r${row.node}`, open: false }
  })
  return { steps, hidden: out.hidden ? { n: out.hidden, value: out.hidden_value } : undefined }
}
async function unfold(s: Step) {
  if (!s.row.more) return
  if (!s.steps) {
    const { steps, hidden } = await ask(s)
    s.steps = steps
    s.hidden = hidden
  }
  s.open = true
  version.value++
}
function fold(s: Step) {
  s.open = false
  version.value++
}
let asked = 0
async function begin() {
  const mine = ++asked
  state.error = undefined
  try {
    const { out, steps, hidden } = await ask()
    if (mine !== asked) return
    Object.assign(state, { steps, hidden, total: out.total, spread: out.spread, heaviest: out.heaviest ?? [], ready: true })
    version.value++
    // The heaviest path is opened up to the point where the cost spreads out.
    let level = steps
    if (start.value === 'leaves') {
      if (level[0]) await unfold(level[0])
      return
    }
    for (const [i, node] of (out.heaviest ?? []).entries()) {
      const s = level.find((x) => x.row.node === node)
      if (!s || !s.row.more) break
      Object.assign(s, stepsOf(out.steps![i], s), { open: true })
      level = s.steps!
    }
    version.value++
  } catch (e) {
    if (mine === asked) state.error = e
  }
}
watch([() => props.takeKey, () => props.range, start], () => void begin(), { immediate: true })

type Line = { step?: Step; hidden?: { n: number; value: number }; depth: number; key: string }
const lines = computed<Line[]>(() => {
  void version.value
  const out: Line[] = []
  const add = (steps: Step[], hidden: Step['hidden'], depth: number, key: string) => {
    for (const s of steps) {
      out.push({ step: s, depth, key: s.key })
      if (s.open && s.steps) add(s.steps, s.hidden, depth + 1, s.key)
    }
    if (hidden) out.push({ hidden, depth, key: `h${key}` })
  }
  add(state.steps, state.hidden, 0, 'top')
  return out
})
// Counts of instructions have more digits than times.
const grid = computed(() => ({ gridTemplateColumns: exact.value ? 'minmax(0,1fr) 100px 60px 92px 84px' : 'minmax(0,1fr) 68px 60px 68px 60px' }))
const at = ref('')
const scroller = ref<HTMLElement>()
const height = 28
const virtual = useVirtualizer(computed(() => ({ count: lines.value.length, getScrollElement: () => scroller.value ?? null, estimateSize: () => height, overscan: 16 })))
const swatch = (s: Step) => {
  const ink = inkOf(s.row.function.kind, s.row.function.area, dark.value)
  return { background: ink.fill, borderColor: ink.edge }
}
function choose(s: Step) {
  at.value = s.key
  emit('focus', s.row.function.name)
}
const here = () => lines.value.findIndex((l) => l.step?.key === at.value)
function walk(by: number) {
  const list = lines.value
  let i = here()
  if (i < 0) i = list.findIndex((l) => l.step?.row.function.name === props.focus) - (by > 0 ? 1 : -1)
  for (i += by; i >= 0 && i < list.length && !list[i].step; i += by);
  if (!list[i]?.step) return
  choose(list[i].step!)
  virtual.value.scrollToIndex(i)
}
function current(): Step | undefined {
  return lines.value[here()]?.step
}
useKeys({
  ArrowDown: () => walk(1),
  ArrowUp: () => walk(-1),
  ArrowRight: () => {
    const s = current()
    if (s) s.open ? walk(1) : void unfold(s)
  },
  ArrowLeft: () => {
    const s = current()
    if (s?.open) fold(s)
    else if (s?.parent) choose(s.parent)
  },
  Enter: () => {
    const s = current()
    if (s) s.open ? fold(s) : void unfold(s)
  },
  u: () => (start.value = start.value === 'leaves' ? 'roots' : 'leaves'),
  p: () => props.focus && emit('pin', props.focus),
  Escape: () => emit('focus', ''),
})
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Paths">
    <div class="flex h-[36px] shrink-0 items-center gap-3 border-b border-rule px-4">
      <div class="flex" role="group" aria-label="Where paths begin">
        <button v-for="k in ['roots', 'leaves']" :key="k" class="border border-rule-strong px-2 py-0.5 first:border-r-0" :class="start === k ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="start === k" @click="start = k">from the {{ k }}</button>
      </div>
      <span class="label">{{ start === 'roots' ? 'What is called, from where each thread begins; the heaviest path is open' : 'What costs something itself, and by whom it was called' }}</span>
    </div>
    <ErrorNote v-if="state.error" :error="state.error" :retry="begin" />
    <WaitNote v-else-if="!state.ready" what="Following the paths" />
    <div v-else role="treegrid" aria-label="Paths by cost" class="flex min-h-0 flex-1 flex-col">
      <div role="row" class="label grid shrink-0 gap-x-3 border-b border-rule-strong px-4 py-1" :style="grid"><span role="columnheader">Function</span><span role="columnheader" class="text-right">{{ start === 'roots' ? 'Total' : 'Cost' }}</span><span role="columnheader" class="text-right">Share</span><span role="columnheader" class="text-right">{{ start === 'roots' ? 'Self' : '' }}</span><span role="columnheader" class="text-right">{{ exact ? 'Calls' : 'Samples' }}</span></div>
      <div ref="scroller" class="min-h-0 flex-1 overflow-y-auto">
        <div class="relative" :style="{ height: virtual.getTotalSize() + 'px' }">
          <template v-for="v in virtual.getVirtualItems()" :key="lines[v.index].key">
            <div
              v-if="lines[v.index].step"
              role="row"
              data-test="path"
              :aria-level="lines[v.index].depth + 1"
              :aria-expanded="lines[v.index].step!.row.more ? lines[v.index].step!.open : undefined"
              class="absolute inset-x-0 grid cursor-pointer items-center gap-x-3 border-b border-l-[3px] border-transparent border-b-rule pr-4 pl-[13px]"
              :class="[lines[v.index].step!.row.function.name === focus ? '!border-l-focus' : '', lines[v.index].step!.key === at ? 'bg-focus-wash' : 'hover:bg-wash']"
              :style="{ ...grid, top: v.start + 'px', height: height + 'px' }"
              :title="lines[v.index].step!.row.function.name"
              @click="choose(lines[v.index].step!)"
              @dblclick="lines[v.index].step!.open ? fold(lines[v.index].step!) : unfold(lines[v.index].step!)"
            >
              <span class="absolute bottom-0 left-0 h-[2px] bg-bar-pale" :style="{ width: (100 * lines[v.index].step!.row.total) / (state.total || 1) + '%' }" aria-hidden="true" />
              <span role="gridcell" class="flex min-w-0 items-center gap-1.5" :style="{ paddingLeft: Math.min(lines[v.index].depth, 30) * 9 + 'px' }">
                <button class="shrink-0 text-ink-3 hover:text-ink" :class="!lines[v.index].step!.row.more && 'invisible'" :aria-label="lines[v.index].step!.open ? 'Close' : 'Open'" @click.stop="lines[v.index].step!.open ? fold(lines[v.index].step!) : unfold(lines[v.index].step!)"><component :is="lines[v.index].step!.open ? ChevronDown : ChevronRight" class="size-3.5" /></button>
                <span class="size-2.5 shrink-0 border" :style="swatch(lines[v.index].step!)" aria-hidden="true" />
                <span class="code truncate">{{ lines[v.index].step!.row.function.short }}</span>
                <span v-if="start === 'roots' && state.spread === lines[v.index].step!.row.node" class="ml-2 shrink-0 border border-ink-2 px-1 text-[11px] text-ink-2" data-test="spread">spreads out here</span>
              </span>
              <span role="gridcell" class="text-right">{{ figure(lines[v.index].step!.row.total) }}</span>
              <span role="gridcell" class="text-right font-medium">{{ of(lines[v.index].step!.row.total, { parent: lines[v.index].step!.parent?.row.total, scope: state.total }) }}</span>
              <span role="gridcell" class="text-right text-ink-2">{{ start === 'roots' && lines[v.index].step!.row.self ? figure(lines[v.index].step!.row.self) : '' }}</span>
              <span role="gridcell" class="text-right text-ink-2">{{ exact ? (lines[v.index].step!.row.calls ? count(lines[v.index].step!.row.calls) : '') : count(lines[v.index].step!.row.samples) }}</span>
            </div>
            <p v-else class="label absolute inset-x-0 border-b border-rule py-1" :style="{ top: v.start + 'px', height: height + 'px', paddingLeft: 40 + Math.min(lines[v.index].depth, 30) * 9 + 'px' }">and {{ count(lines[v.index].hidden!.n) }} more with {{ figure(lines[v.index].hidden!.value) }}</p>
          </template>
        </div>
        <p v-if="!lines.length" class="p-6 text-ink-2">No samples in this scope. Remove a condition above.</p>
      </div>
    </div>
  </section>
</template>
