<script setup lang="ts">
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { useLocalStorage, useTimeoutFn } from '@vueuse/core'
import { PanelLeft, PanelRight } from 'lucide-vue-next'
import { computed, ref, shallowRef, watch, watchEffect } from 'vue'
import { useRoute } from 'vue-router'
import { api, ApiError, type Range, type ScopePart } from '../api/client'
import ErrorNote from '../components/ErrorNote.vue'
import FactsDialog from '../components/FactsDialog.vue'
import FunctionCard from '../components/FunctionCard.vue'
import HotIndex from '../components/HotIndex.vue'
import NotesDialog from '../components/NotesDialog.vue'
import ScopeLine from '../components/ScopeLine.vue'
import TakeReading from '../components/TakeReading.vue'
import TimeRibbon from '../components/TimeRibbon.vue'
import WaitNote from '../components/WaitNote.vue'
import { useAddress } from '../composables/useAddress'
import { useAgain } from '../composables/useAgain'
import { useFocus } from '../composables/useFocus'
import { useKeys } from '../composables/useKeys'
import { provideMeasure } from '../composables/useMeasure'
import { modes, providePercent } from '../composables/usePercent'
import { usePins } from '../composables/usePins'
import { useScope } from '../composables/useScope'
import LensBar from '../lenses/LensBar.vue'
import { lenses, type LensShown } from '../lenses/registry'
import ShareMenu from '../lenses/ShareMenu.vue'
import ScopeEditor from '../scope/ScopeEditor.vue'

const route = useRoute()
const key = computed(() => String(route.params.key))
const { text, change } = useAddress()
const [fold, group, merge, through, chosen] = ['fold', 'group', 'merge', 'through', 'measure'].map((n) => text(n))
const lens = text('lens', lenses[0].name)
const looking = computed(() => lenses.find((l) => l.name === lens.value) ?? lenses[0])
const mode = text('percent', 'scope')
const [rootNode, order, turned] = [text('root'), text('order', 'cost'), text('turn')]
const { text: scope, parts, time, read, replace, add, within, restrict, toggle } = useScope(key)
// The picture of the scope that probably comes next, while that is typed or dragged.
const shown = ref<LensShown>()
const ahead = async (scope: string) => shown.value?.ahead?.(scope)
const range = computed<Range>(() => ({ scope: scope.value || undefined, fold: fold.value || undefined, group: group.value || undefined, merge: merge.value === 'true' || undefined, through: through.value || undefined, measure: chosen.value || undefined }))
// The frames of a tree of another shape are numbered by themselves.
const shape = (c: Record<string, string | undefined>) => change({ ...c, root: undefined })

// Links from before the scope was one expression.
if (route.query.from || route.query.to) {
  void restrict(Number(route.query.from) || undefined, Number(route.query.to) || undefined)
  change({ from: undefined, to: undefined })
}

const detail = useQuery({ queryKey: ['take', key], queryFn: () => api.take(key.value) })
const measure = computed(() => detail.data.value?.measures.find((m) => m.name === chosen.value) ?? detail.data.value?.measures[0])
provideMeasure(
  measure,
  computed(() => detail.data.value?.take.exact ?? false),
)
// A take that was opened from another one may lack its measure.
watchEffect(() => {
  if (chosen.value && measure.value && measure.value.name !== chosen.value) change({ measure: undefined })
})
// The picture is asked for first. What stands around it follows when it is there
// and nothing else is asked for at once, so that neither waits for the other.
const around = shallowRef<Range>()
const drawn = shallowRef<Range>() // of which there is a picture
const rest = computed(() => (drawn.value === range.value ? 40 : 500)) // ms; a picture that takes longer does not hold up the rest
const { start: follow } = useTimeoutFn(() => (around.value = range.value), rest, { immediate: false })
watch([key, range, lens, drawn], () => {
  if (looking.value.draws) follow()
  else around.value = range.value
}, { immediate: true })
const hot = useQuery({ queryKey: ['hot', key, around], queryFn: ({ signal }) => api.hot(key.value, around.value ?? {}, signal), enabled: computed(() => !!around.value), placeholderData: keepPreviousData, retry: (n, e) => n < 2 && !(e instanceof ApiError && e.status === 400) })
providePercent(
  mode,
  computed(() => hot.data.value?.total ?? 0),
  computed(() => measure.value?.total ?? 0),
)
const { focus, set: setFocus, step } = useFocus()
// Who writes a link by hand writes the short name.
watch([focus, () => hot.data.value], ([name, h]) => {
  if (!name || !h || h.functions.some((f) => f.name === name)) return
  const same = h.functions.find((f) => f.short === name)
  if (same) setFocus(same.name)
})
// When all that is shown is there and nothing happens, what other lenses begin with
// is asked for ahead.
const queries = useQueryClient()
const { start: idle, stop: busy } = useTimeoutFn(() => {
  const about = { takeKey: key.value, range: range.value, focus: focus.value, address: (name: string) => String(route.query[name] ?? '') }
  for (const l of lenses) for (const q of l.begins?.(about) ?? []) void queries.prefetchQuery(q)
}, 300, { immediate: false })
watch([() => hot.data.value, focus, around, range, lens], () => {
  busy()
  if (hot.data.value && !hot.isPlaceholderData.value && around.value === range.value && looking.value.draws) idle()
})
const { pins, toggle: togglePin } = usePins(computed(() => detail.data.value?.take.program ?? ''))

const folded = useLocalStorage('entelon-reading-folded', false)
const indexOpen = useLocalStorage('entelon-index-open', true)
const cardOpen = useLocalStorage('entelon-card-open', true)
const factsOpen = ref(false)
const notesOpen = ref(false)
const notes = useQuery({ queryKey: ['notes', key], queryFn: () => api.notes(key.value) })
const editing = ref<{ select?: string }>()
const edit = (part?: ScopePart) => (editing.value = { select: part?.text })
function apply(expression: string) {
  scope.value = expression
  editing.value = undefined
}

watchEffect(() => {
  const t = detail.data.value?.take
  document.title = t ? `${t.program} ${t.build} – Entelon` : 'Entelon'
})
// What the pinned functions beside the focus cost themselves, for the what-if of several together.
const alsoPinned = computed(() => {
  const h = hot.data.value
  const at = h ? h.functions.flatMap((f, i) => (f.name !== focus.value && pins.value.includes(f.name) ? [i] : [])) : []
  return { n: at.length, self: at.reduce((n, i) => n + h!.self[i], 0) }
})
// No lens is blank for want of a choice.
const subject = computed(() => {
  const h = hot.data.value
  if (focus.value || !h || !looking.value.about?.((name) => String(route.query[name] ?? ''))) return focus.value
  const own = h.functions.findIndex((f, i) => f.kind === 'own' && h.self[i] > 0)
  return h.functions[Math.max(0, own)]?.name ?? ''
})
const repeat = useAgain()
const nextMode = () => (mode.value = modes[(modes.findIndex((m) => m.value === mode.value) + 1) % modes.length].value)
useKeys({
  r: () => void repeat(key.value, focus.value),
  v: () => (folded.value = !folded.value),
  n: () => (notesOpen.value = true),
  o: () => shape({ fold: fold.value === 'foreign' ? undefined : 'foreign' }),
  i: () => void toggle('not idle'),
  t: () => (through.value ? shape({ through: undefined }) : focus.value && shape({ through: focus.value })),
  '=': () => edit(),
  '%': nextMode,
  ',': () => step(-1),
  '.': () => step(1),
  ...Object.fromEntries(lenses.map((l, i) => [String(i + 1), () => (lens.value = l.name)])),
})
</script>

<template>
  <ErrorNote v-if="detail.isError.value" :error="detail.error.value" :retry="() => detail.refetch()" />
  <WaitNote v-else-if="!detail.data.value" what="Opening the take" />
  <div v-else class="flex h-full flex-col">
    <ScopeLine :detail="detail.data.value" :hot="hot.data.value" :range="range" :parts="parts" :focus="focus" :mode="mode" @shape="shape" @edit="edit" @remove="replace($event)" @add="add" @measure="chosen = $event" @again="repeat(key, focus)" :notes="(notes.data.value?.notes ?? []).filter((n) => !n.function || n.function === focus).length" @notes="notesOpen = true" @facts="factsOpen = true" />
    <ScopeEditor v-if="editing" :key="editing.select" :take-key="key" :range="range" :text="scope" :ahead="ahead" :select="editing.select" @apply="apply" @close="editing = undefined" />
    <ErrorNote v-if="hot.isError.value" :error="hot.error.value" :retry="() => hot.refetch()" />
    <p v-for="a in read?.absent ?? []" v-show="!editing" :key="a" class="border-b border-rule px-4 py-1 text-ink-2">{{ a }}</p>
    <TakeReading v-model:folded="folded" :parts="hot.data.value?.reading ?? []" :warnings="detail.data.value.warnings" :focus="focus" @focus="setFocus" />
    <LensBar v-model:mode="mode" :lens="looking.name" @lens="lens = $event"><ShareMenu :first="looking.shares" :take-key="key" :range="range" :focus="focus" :root="Number(rootNode) || 0" :order="order" :up="turned === 'up'" :name="`${detail.data.value.take.program}-${detail.data.value.take.build}`" /></LensBar>
    <p v-if="subject !== focus" class="shrink-0 border-b border-rule px-4 py-1 text-ink-2" data-test="unchosen">No function is in focus; this is the costliest of the program's own: <button class="word code" @click="setFocus(subject)">{{ hot.data.value?.functions.find((f) => f.name === subject)?.short }}</button></p>
    <div class="flex min-h-0 flex-1">
      <div v-if="!looking.list" class="relative shrink-0 border-r border-rule" :class="indexOpen ? 'w-[272px]' : 'w-[26px]'">
        <button class="absolute top-[9px] -right-[13px] z-10 border border-rule bg-paper p-[2px] text-ink-3 hover:text-ink" :aria-label="indexOpen ? 'Close the list of functions' : 'Open the list of functions'" @click="indexOpen = !indexOpen"><PanelLeft class="size-3.5" /></button>
        <HotIndex v-if="indexOpen && hot.data.value" :hot="hot.data.value" :focus="focus" :pins="pins" class="pr-2" @focus="setFocus" @pin="togglePin" />
      </div>
      <component :is="looking.view" v-if="!looking.list || hot.data.value" ref="shown" :key="`${key} ${lens}`" :take-key="key" :program="detail.data.value.take.program" :range="range" :hot="hot.data.value" :focus="subject" :pins="pins" :class="!looking.list && 'pl-2'" @focus="setFocus" @pin="togglePin" @shape="shape" @drawn="drawn = $event" />
      <div class="relative shrink-0 border-l border-rule" :class="cardOpen ? 'w-[280px]' : 'w-[26px]'">
        <button class="absolute top-[9px] -left-[13px] z-10 border border-rule bg-paper p-[2px] text-ink-3 hover:text-ink" :aria-label="cardOpen ? 'Close the card' : 'Open the card'" @click="cardOpen = !cardOpen"><PanelRight class="size-3.5" /></button>
        <FunctionCard v-if="cardOpen" :take-key="key" :range="around ?? range" :focus="focus" :pinned="pins.includes(focus)" :also-pinned="alsoPinned" :notes="(notes.data.value?.notes ?? []).filter((n) => n.function === focus)" :detail="detail.data.value" :hot="hot.data.value" @focus="setFocus" @pin="togglePin" />
      </div>
    </div>
    <TimeRibbon v-if="!detail.data.value?.take.exact" :take-key="key" :range="{ from: time?.from_ns, to: time?.to_ns }" :measure="chosen" @range="restrict($event.from, $event.to)" @likely="within($event.from, $event.to).then(ahead)" />
    <NotesDialog :open="notesOpen" :take-key="key" :focus="focus" :notes="notes.data.value?.notes ?? []" @close="notesOpen = false" />
    <FactsDialog :open="factsOpen" :detail="detail.data.value" @close="factsOpen = false" />
  </div>
</template>
