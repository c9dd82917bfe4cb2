<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, ref, toRef, watch } from 'vue'
import type { Event } from '../../api/client'
import ChoiceMenu from '../../components/ChoiceMenu.vue'
import ErrorNote from '../../components/ErrorNote.vue'
import WaitNote from '../../components/WaitNote.vue'
import { useAddress } from '../../composables/useAddress'
import { useKeys } from '../../composables/useKeys'
import { useScope } from '../../composables/useScope'
import { dark } from '../../composables/useTheme'
import { amount, count, seconds } from '../../lib/format'
import { inkOf } from '../../lib/palette'
import { quoted } from '../../lib/scopeText'
import { events } from '../questions'
import type { LensEmits, LensProps } from '../registry'
import SizeSteps from './SizeSteps.vue'
import TextSums from './TextSums.vue'
import TimeDensity from './TimeDensity.vue'
import { about, bounds, calledOf, toldOf } from './told'

/** What was recorded event by event: the longest or largest, how they are distributed, and the stack of each. */
const props = defineProps<LensProps>()
const emit = defineEmits<LensEmits>()
const { text } = useAddress()
const kind = text('events', '')
const sort = text('eventsort', 'amount')
const column = text('eventcolumn', '')
const by = text('eventby', '')
const scope = useScope(toRef(props, 'takeKey'))

const query = useQuery(computed(() => ({ ...events(props.takeKey, props.range, kind.value, sort.value, column.value), placeholderData: keepPreviousData })))
const data = computed(() => query.data.value)
const chosen = computed(() => data.value?.kinds.find((k) => k.name === data.value!.kind))
const counted = computed(() => data.value?.unit === 'count' && !data.value.column)
/** What amounts can be of: the kind's own, and every other number that is known of its events. */
const columns = computed(() => {
  const d = data.value
  if (!d) return []
  const numbers = d.columns.filter((c) => c.unit !== 'text' && c.unit !== 'address' && c.name !== 'processor')
  const kindsOwn = chosen.value?.unit === 'ns' ? 'duration' : chosen.value?.unit === 'bytes' ? 'bytes' : ''
  return [...(kindsOwn ? [{ value: '', text: kindsOwn }] : numbers.length ? [{ value: '', text: 'no number' }] : []), ...numbers.filter((c) => c.name !== kindsOwn).map((c) => ({ value: c.name, text: c.name }))]
})
const amountName = computed(() => data.value?.column || (data.value?.unit === 'ns' ? 'Duration' : 'Bytes'))
function pick(k: string) {
  kind.value = k
  column.value = ''
}
const figure = (v: number) => amount(v, data.value?.unit ?? 'count')
const name = (i: number) => data.value!.functions[i]
const swatch = (i: number) => {
  const ink = inkOf(name(i).kind, name(i).area, dark.value)
  return { background: ink.fill, borderColor: ink.edge }
}

const at = ref(-1) // the row that is chosen, by its sample
const current = computed(() => data.value?.rows.find((r) => r.sample === at.value))
watch(
  [() => props.takeKey, () => data.value?.kind],
  () => (at.value = -1),
)
const scroller = ref<HTMLElement>()
const height = 26
const virtual = useVirtualizer(computed(() => ({ count: data.value?.rows.length ?? 0, getScrollElement: () => scroller.value ?? null, estimateSize: () => height, overscan: 12 })))
const apart = computed(() => chosen.value?.apart ?? false)
const much = computed(() => (data.value?.columns.length ?? 0) > (apart.value ? 1 : 0))
const grid = computed(() => ({ gridTemplateColumns: `78px ${counted.value ? '' : '78px'} ${apart.value ? '' : '52px'} ${much.value ? 104 : 130}px minmax(0,1fr) ${much.value ? 'minmax(0,1.2fr)' : ''}` }))

function choose(r: Event) {
  at.value = r.sample
  if (r.place >= 0) emit('focus', name(r.place).name)
}
function walk(by: number) {
  const rows = data.value?.rows ?? []
  const i = Math.max(0, Math.min(rows.length - 1, rows.findIndex((r) => r.sample === at.value) + by))
  if (!rows[i]) return
  choose(rows[i])
  virtual.value.scrollToIndex(i)
}
useKeys({
  ArrowDown: () => walk(1),
  ArrowUp: () => walk(-1),
  p: () => props.focus && emit('pin', props.focus),
  Escape: () => (at.value >= 0 ? (at.value = -1) : emit('focus', '')),
})

function within(from: number, to: number) {
  const d = data.value!
  const measure = chosen.value?.column
  if (d.column) void scope.add(about(d.kind, ...bounds(d.column, d.unit, from, to)))
  else if (d.unit === 'bytes' && apart.value) void scope.add(about(d.kind, ...bounds('bytes', 'bytes', from, to)))
  else if (measure) void scope.add(...bounds(measure, d.unit, from, to))
}
</script>

<template>
  <section class="flex min-h-0 min-w-0 flex-1 flex-col" aria-label="Events">
    <ErrorNote v-if="query.error.value" :error="query.error.value" :retry="() => void query.refetch()" />
    <WaitNote v-else-if="!data" what="Sorting the events" />
    <div v-else-if="!data.kinds.length" class="max-w-[60ch] space-y-2 p-6 text-ink-2" data-test="no-events">
      <p>This take has samples only. Nothing in it was recorded event by event.</p>
      <p>Measure waiting, system calls or disk requests as well, and the longest or largest of them are listed here, each with its time, its thread and its stack:</p>
      <p class="code">entelon take -m cpu -m waiting -m syscalls -- COMMAND</p>
    </div>
    <template v-else>
      <div class="flex shrink-0 flex-wrap items-center gap-x-3 gap-y-1 border-b border-rule px-4 py-1">
        <div class="flex flex-wrap" role="group" aria-label="Kind of event">
          <button v-for="k in data.kinds" :key="k.name" data-test="event-kind" class="-ml-px border border-rule-strong px-2 py-0.5" :class="k.name === data.kind ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="k.name === data.kind" @click="pick(k.name)">
            {{ k.label }}<span v-if="k.events" class="pl-1.5 opacity-70">{{ count(k.events) }}</span>
          </button>
        </div>
        <ChoiceMenu v-if="columns.length > 1" :model-value="column" :choices="columns" name="Amounts are of" @update:model-value="column = $event" />
        <div v-if="!counted" class="flex" role="group" aria-label="Order">
          <button v-for="o in ['amount', 'time']" :key="o" class="-ml-px border border-rule-strong px-2 py-0.5" :class="sort === o ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="sort === o" @click="sort = o">{{ o === 'time' ? 'in order of time' : data.unit === 'ns' ? 'longest first' : 'largest first' }}</button>
        </div>
        <span class="label" data-test="event-sum">{{ count(data.all) }} rows in scope<template v-if="data.events > data.all"> for {{ count(data.events) }} events</template><template v-if="!counted">, {{ figure(data.total) }} together</template></span>
      </div>
      <p v-if="chosen && chosen.single && chosen.events > chosen.single" class="shrink-0 border-b border-rule px-4 py-1 text-ink-2" data-test="event-thinned"><template v-if="chosen.apart">{{ count(chosen.events - chosen.single) }} of {{ count(chosen.events) }} {{ chosen.short }}came too fast to be kept. They are missing here, but not in the measure's total.</template><template v-else>{{ count(chosen.events - chosen.single) }} of {{ count(chosen.events) }} came too fast for a row each and are added to the row before them.</template></p>
      <p v-if="chosen?.lost" class="shrink-0 border-b border-rule px-4 py-1 text-ink-2">{{ count(chosen.lost) }} more are missing: they came faster than they could be recorded.</p>
      <p v-if="!data.all" class="p-6 text-ink-2">No such event in this scope. Remove a condition above.</p>
      <template v-else>
        <div class="grid shrink-0 gap-6 border-b border-rule px-4 py-2" :style="{ gridTemplateColumns: `${counted ? '' : 'minmax(0,1fr)'} minmax(0,1fr) ${data.by.length ? 'minmax(0,1.3fr)' : counted ? 'minmax(0,1fr)' : ''}` }">
          <SizeSteps v-if="!counted" :data="data" @within="within" />
          <TimeDensity :over="data.over" :to="data.to_ns" :at="current?.at_ns" @within="(a, b) => void scope.restrict(a, b)" />
          <TextSums v-if="data.by.length" v-model="by" :data="data" @only="(c, t) => void scope.add(about(data!.kind, `${c} is ${quoted(t)}`))" />
        </div>
        <div class="flex min-h-0 flex-1 flex-col" role="grid" :aria-rowcount="data.rows.length" aria-label="Events">
          <div role="row" class="label grid shrink-0 gap-x-3 border-b border-rule-strong px-4 py-1" :style="grid">
            <span role="columnheader" class="text-right">At</span><span v-if="!counted" role="columnheader" class="text-right first-letter:uppercase">{{ amountName }}</span><span v-if="!apart" role="columnheader" class="text-right">Events</span><span role="columnheader">Thread</span><span role="columnheader">What, and where</span><span v-if="much" role="columnheader">What about</span>
          </div>
          <div ref="scroller" class="min-h-0 flex-1 overflow-y-auto">
            <div class="relative" :style="{ height: virtual.getTotalSize() + 'px' }">
              <div
                v-for="v in virtual.getVirtualItems()"
                :key="data.rows[v.index].sample"
                role="row"
                data-test="event"
                :aria-selected="data.rows[v.index].sample === at"
                class="absolute inset-x-0 grid cursor-pointer items-center gap-x-3 border-b border-l-[3px] border-transparent border-b-rule pr-4 pl-[13px]"
                :class="[data.rows[v.index].place >= 0 && name(data.rows[v.index].place).name === focus ? '!border-l-focus' : '', data.rows[v.index].sample === at ? 'bg-focus-wash' : 'hover:bg-wash']"
                :style="{ ...grid, top: v.start + 'px', height: height + 'px' }"
                @click="choose(data.rows[v.index])"
              >
                <span v-if="!counted" class="absolute bottom-0 left-0 h-[2px] bg-bar-pale" :style="{ width: data.max > 0 ? Math.max(0, (100 * data.rows[v.index].amount) / data.max) + '%' : 0 }" aria-hidden="true" />
                <span role="gridcell" class="text-right text-ink-2">{{ seconds(data.rows[v.index].at_ns, 4) }}</span>
                <span v-if="!counted" role="gridcell" class="text-right font-medium">{{ figure(data.rows[v.index].amount) }}</span>
                <span v-if="!apart" role="gridcell" class="text-right text-ink-2">{{ data.rows[v.index].events ? count(data.rows[v.index].events) : '' }}</span>
                <span role="gridcell" class="truncate text-ink-2" :title="`${data.rows[v.index].thread} ${data.rows[v.index].tid} in ${data.rows[v.index].process} ${data.rows[v.index].pid}`">{{ data.rows[v.index].thread }} {{ data.rows[v.index].tid }}</span>
                <span role="gridcell" class="flex min-w-0 items-center gap-1.5">
                  <span class="shrink-0">{{ calledOf(data, data.rows[v.index]) || name(data.rows[v.index].what).short }}</span>
                  <template v-if="data.rows[v.index].place >= 0 && data.rows[v.index].place !== data.rows[v.index].what"><span class="size-2.5 shrink-0 border" :style="swatch(data.rows[v.index].place)" aria-hidden="true" /><span class="code truncate" :title="name(data.rows[v.index].place).name">{{ name(data.rows[v.index].place).short }}</span></template>
                </span>
                <span v-if="much" role="gridcell" class="flex min-w-0 gap-3 overflow-hidden" data-test="event-about">
                  <span v-for="x in toldOf(data, data.rows[v.index])" :key="x.name" class="min-w-0 truncate" :class="x.text.length < 14 && 'shrink-0'" :title="`${x.label} ${x.text}`"><span class="text-ink-3">{{ x.label }}</span> {{ x.short }}</span>
                </span>
              </div>
            </div>
          </div>
          <p class="label shrink-0 border-t border-rule px-4 py-1">{{ count(data.rows.length) }} of {{ count(data.all) }} rows; totals and drawings are of all<span v-if="!current">. Pick one to see its stack.</span></p>
        </div>
        <div v-if="current" class="max-h-[38%] shrink-0 overflow-y-auto border-t border-rule-strong px-4 py-2" data-test="event-stack">
          <div class="flex items-baseline gap-3">
            <p class="font-medium">{{ counted ? '' : figure(current.amount) }} {{ name(current.what).short }}</p>
            <p class="label">{{ current.thread }} {{ current.tid }}, at {{ seconds(current.at_ns, 6) }}<template v-if="current.file">, {{ current.file.split('/').at(-1) }}:{{ current.line }}</template></p>
            <span class="flex-1" />
            <button class="text-ink-2 underline hover:text-ink" @click="void scope.add(`thread is ${quoted(current.thread)}`)">only this thread</button>
            <button v-if="current.place >= 0" class="text-ink-2 underline hover:text-ink" @click="void scope.add(`function is ${quoted(name(current.place).name)}`)">only this function</button>
          </div>
          <dl v-if="much" class="mt-1 flex flex-wrap gap-x-5 gap-y-0.5" data-test="event-told">
            <div v-for="x in toldOf(data, current)" :key="x.name" class="flex min-w-0 gap-1.5">
              <dt class="text-ink-3">{{ x.label || x.name }}</dt>
              <dd class="min-w-0 break-all"><button v-if="x.condition" class="text-left hover:underline" title="Only what happens in such events" @click="void scope.add(x.condition)">{{ x.text }}</button><template v-else>{{ x.text }}</template></dd>
            </div>
          </dl>
          <ol class="mt-1">
            <li v-for="(f, i) in current.stack.filter((f) => name(f).kind !== 'mark')" :key="i" class="flex items-center gap-1.5" :style="{ height: '20px' }">
              <span class="size-2.5 shrink-0 border" :style="swatch(f)" aria-hidden="true" />
              <button class="code truncate text-left hover:underline" :title="name(f).name" @click="emit('focus', name(f).name)">{{ name(f).short }}</button>
            </li>
            <li v-if="current.deeper" class="label">and {{ count(current.deeper) }} frames towards the root</li>
          </ol>
        </div>
      </template>
    </template>
  </section>
</template>
