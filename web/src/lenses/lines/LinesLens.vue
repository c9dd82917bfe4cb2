<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { useLocalStorage } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { api, type SourceLine } from '../../api/client'
import ErrorNote from '../../components/ErrorNote.vue'
import SourceText from '../../components/SourceText.vue'
import WaitNote from '../../components/WaitNote.vue'
import { useHighlight } from '../../composables/useHighlight'
import { useKeys } from '../../composables/useKeys'
import { useMeasure } from '../../composables/useMeasure'
import { usePercent } from '../../composables/usePercent'
import { count } from '../../lib/format'
import SourceRules from './SourceRules.vue'
import type { LensEmits, LensProps } from '../registry'

/** The source of the function in focus, each line with what it costs and what it calls. */
const props = defineProps<LensProps>()
const emit = defineEmits<LensEmits>()
const { figure } = useMeasure()
const { of } = usePercent()
const query = useQuery({
  queryKey: ['lines', () => props.takeKey, () => props.range, () => props.focus],
  queryFn: () => api.lines(props.takeKey, { ...props.range, name: props.focus }),
  enabled: computed(() => props.focus !== ''),
  placeholderData: keepPreviousData,
})
const d = computed(() => query.data.value)
const pieces = useHighlight(
  computed(() => d.value?.source ?? []),
  computed(() => d.value?.file ?? ''),
)
const cost = computed(() => new Map((d.value?.lines ?? []).map((l) => [l.line, l])))
const begins = computed(() => new Map((d.value?.functions ?? []).map((f) => [f.line, f])))
// Without its source the lines that cost something stand alone.
const rows = computed<{ line: number; text?: string; at?: SourceLine }[]>(() => {
  if (!d.value) return []
  if (!d.value.source.length) return d.value.lines.map((l) => ({ line: l.line, at: l }))
  return d.value.source.map((text, i) => ({ line: i + 1, text, at: cost.value.get(i + 1) }))
})
// What would round to nothing is left to the tip of the row.
const worth = (v?: number) => (v && v >= 0.0005 * (d.value?.scope_total ?? 0) ? of(v, { scope: d.value!.scope_total, parent: d.value!.scope_total }) : '')
const grid = computed(() => ({ gridTemplateColumns: `52px 60px 62px ${d.value?.counted ? '92px ' : ''}minmax(0,1fr)` }))
const most = computed(() => Math.max(1, ...(d.value?.lines ?? []).map((l) => l.total)))
const scroller = ref<HTMLElement>()
const height = 20
const virtual = useVirtualizer(computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value ?? null, estimateSize: () => height, overscan: 30 })))
const reach = (line: number, align: 'start' | 'center' = 'center') => {
  const i = rows.value.findIndex((r) => r.line >= line)
  if (i >= 0) virtual.value.scrollToIndex(i, { align })
}
watch([() => d.value?.function.name, () => scroller.value], () => d.value && requestAnimationFrame(() => reach(Math.max(1, (d.value?.begin ?? 1) - 3), 'start')), { flush: 'post' })
const costly = computed(() => [...(d.value?.lines ?? [])].filter((l) => l.line).sort((a, b) => b.total - a.total))
const at = ref(-1)
function step(by: number) {
  const list = [...costly.value].slice(0, 40).sort((a, b) => a.line - b.line)
  if (!list.length) return
  at.value = (at.value + by + list.length) % list.length
  reach(list[at.value].line)
}
useKeys({ ArrowDown: () => step(1), ArrowUp: () => step(-1), p: () => props.focus && emit('pin', props.focus), Escape: () => emit('focus', '') })

const pattern = useLocalStorage('entelon-editor', '')
const setting = ref(false)
const ruling = ref(false)
const editor = (line: number) => (pattern.value && d.value?.found ? pattern.value.replaceAll('{file}', encodeURI(d.value.found)).replaceAll('{line}', String(line)) : '')
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Lines">
    <div class="flex h-[36px] shrink-0 items-center gap-3 border-b border-rule px-4">
      <span v-if="d && focus" class="code min-w-0 truncate" :title="d.found || d.file">{{ d.file || 'file unknown' }}</span>
      <span v-if="d && focus" class="label whitespace-nowrap">{{ count(d.lines.length) }} lines with a cost</span>
      <div class="flex-1" />
      <span v-if="d?.delivered && focus" class="label whitespace-nowrap">kept with the take</span>
      <button class="action !py-0.5" :aria-expanded="ruling" @click="ruling = !ruling">Source</button>
      <button class="action !py-0.5" :aria-expanded="setting" @click="setting = !setting">Editor</button>
    </div>
    <label v-if="setting" class="flex items-center gap-2 border-b border-rule bg-sheet px-4 py-1.5"><span class="label whitespace-nowrap">Open lines in your editor at this address</span><input v-model="pattern" class="field code min-w-0 flex-1" placeholder="editor://open?file={file}&line={line}" aria-label="Address of the editor" spellcheck="false" /></label>
    <SourceRules v-if="ruling" :key="program + d?.file" :program="program" :path="d?.file ?? ''" />
    <p v-if="!focus" class="p-6 text-ink-2">Pick a function to see its source and the cost of each line.</p>
    <ErrorNote v-else-if="query.isError.value" :error="query.error.value" :retry="() => query.refetch()" />
    <WaitNote v-else-if="!d" what="Reading the lines" />
    <template v-else>
      <p v-if="d.missing" class="border-b border-rule px-4 py-1.5 text-ink-2" data-test="no-source">{{ d.file ? `The source of ${d.file} is not shown: ${d.missing}.` : `No source is shown: ${d.missing}.` }} <template v-if="d.file">Set its location under Source, or use take with <span class="code">--with-source</span>.</template></p>
      <p v-if="cost.get(0)" class="border-b border-rule px-4 py-1.5 text-ink-2" data-test="no-line">Of {{ worth(cost.get(0)!.total) || 'a little' }} in this file no line is known: the code was generated at run time, or built without line information.</p>
      <div class="label grid shrink-0 gap-x-2 border-b border-rule-strong px-4 py-0.5" :style="grid"><span class="text-right">Line</span><span class="text-right">Self</span><span class="text-right">Total</span><span v-if="d.counted" class="text-right" title="How often the line was executed: of its instructions, the one that was executed most">Times</span><span>{{ d.source.length ? 'Source' : 'Calls' }}</span></div>
      <div ref="scroller" class="min-h-0 flex-1 overflow-auto bg-sheet">
        <div class="relative" :style="{ height: virtual.getTotalSize() + 'px' }">
          <div
            v-for="v in virtual.getVirtualItems()"
            :key="v.index"
            data-test="line"
            :data-line="rows[v.index].line"
            class="absolute inset-x-0 grid gap-x-2 border-l-[3px] border-transparent pr-4 pl-[13px] leading-[20px]"
            :class="begins.get(rows[v.index].line)?.name === focus && '!border-l-focus bg-focus-wash'"
            :style="{ ...grid, top: v.start + 'px', height: height + 'px' }"
            :title="rows[v.index].at ? `line ${rows[v.index].line}: self ${figure(rows[v.index].at!.self)}, total ${figure(rows[v.index].at!.total)}, ${d!.counted ? `executed ${count(rows[v.index].at!.times)} times` : `${count(rows[v.index].at!.samples)} samples`}` : undefined"
          >
            <span class="absolute inset-y-0 left-0 bg-bar-pale/40" :style="{ width: rows[v.index].at ? (30 * rows[v.index].at!.total) / most + '%' : '0' }" aria-hidden="true" />
            <a v-if="editor(rows[v.index].line)" class="relative text-right text-[11px] leading-[20px] text-ink-2 hover:underline" :href="editor(rows[v.index].line)">{{ rows[v.index].line || '?' }}</a>
            <span v-else class="relative text-right text-[11px] leading-[20px] text-ink-2">{{ rows[v.index].line || '?' }}</span>
            <span class="relative text-right">{{ worth(rows[v.index].at?.self) }}</span>
            <span class="relative text-right font-medium">{{ worth(rows[v.index].at?.total) }}</span>
            <span v-if="d.counted" class="relative text-right" data-test="times">{{ rows[v.index].at?.times ? count(rows[v.index].at!.times) : '' }}</span>
            <span class="relative flex min-w-0 gap-3">
              <SourceText v-if="d.source.length" :text="rows[v.index].text" :pieces="pieces[v.index]" />
              <span v-if="rows[v.index].at?.calls.length" class="label ml-auto flex min-w-0 shrink-0 gap-1.5 leading-[20px]"><button v-for="c in rows[v.index].at!.calls.slice(0, 2)" :key="c.function!.id" class="word max-w-[150px] truncate !leading-[15px]" :title="`calls ${c.function!.name}${c.calls ? ` ${count(c.calls)} times` : ''}: ${figure(c.value)}`" @click="emit('focus', c.function!.name)">{{ c.calls ? `${count(c.calls)} × ` : '' }}{{ c.function!.short }}</button></span>
            </span>
          </div>
        </div>
        <p v-if="!rows.length" class="p-6 text-ink-2">No lines are known: the program was built without line information, or no sample of it is in scope.</p>
      </div>
    </template>
  </section>
</template>
