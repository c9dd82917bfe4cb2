<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { ArrowLeftRight, Pin } from 'lucide-vue-next'
import { computed, ref } from 'vue'
import { api, ApiError, type Edge, type Hot, type Range, type Remark, type TakeDetail } from '../api/client'
import { useMeasure } from '../composables/useMeasure'
import { dark } from '../composables/useTheme'
import { count, kindText, percent } from '../lib/format'
import { inkOf } from '../lib/palette'
import BuildLine from './BuildLine.vue'
import ExactCount from './ExactCount.vue'
import FullName from './FullName.vue'
import OriginNote from './OriginNote.vue'
import OtherKind from './OtherKind.vue'
import TakeCard from './TakeCard.vue'

const props = defineProps<{ takeKey: string; range: Range; focus: string; pinned: boolean; detail: TakeDetail; notes?: Remark[]; alsoPinned?: { n: number; self: number }; hot?: Hot }>()
const emit = defineEmits<{ focus: [name: string]; pin: [name: string] }>()

const card = useQuery({
  queryKey: ['card', () => props.takeKey, () => props.range, () => props.focus],
  queryFn: ({ signal }) => api.card(props.takeKey, { ...props.range, name: props.focus }, signal),
  enabled: computed(() => props.focus !== ''),
})
// Shares in other builds are kept for whole takes; in a scope, or of another
// measure, they are added up when they are wanted.
const special = computed(() => !!props.range.scope || (!!props.range.measure && props.range.measure !== props.detail.measures[0]?.name))
const elsewhere = useQuery({
  queryKey: ['builds', () => props.takeKey, () => props.range.scope, () => props.range.measure, () => props.focus],
  queryFn: ({ signal }) => api.builds(props.takeKey, { scope: props.range.scope, measure: props.range.measure, name: props.focus }, signal),
  enabled: computed(() => props.focus !== '' && special.value && !!card.data.value),
})
const builds = computed(() => (special.value ? (elsewhere.data.value?.builds ?? []) : (card.data.value?.builds ?? [])))
const { measure, figure, exact } = useMeasure()
const d = computed(() => card.data.value)
const ofScope = (v: number) => v / (d.value?.scope_total || 1)

const faster = ref(50)
const together = ref(false)
const saved = computed(() => (d.value ? (ofScope(d.value.self + (together.value ? (props.alsoPinned?.self ?? 0) : 0)) * faster.value) / 100 : 0))

const sides = computed(() => [
  { name: 'Callers', none: 'None: the stack begins here.', edges: d.value?.callers ?? [] },
  { name: 'Callees', none: 'None: it calls nothing that is in the take.', edges: d.value?.callees ?? [] },
])
const shown = 6
const rest = (edges: Edge[]) => edges.slice(shown).reduce((n, e) => n + e.value, 0)

// The comparison to offer: the latest take of the build before this one, or of any other.
const other = computed(() => {
  const { take, siblings } = props.detail
  const others = siblings.filter((t) => t.build !== take.build && t.exact === take.exact && t.workload_id === take.workload_id)
  return others.find((t) => t.started_at < take.started_at) ?? others[0]
})
const comparison = computed(() => {
  if (!other.value) return undefined
  const older = other.value.started_at < props.detail.take.started_at
  // All takes of both builds: how sure a difference is follows from several.
  const { take, siblings } = props.detail
  const of = (build: string) => siblings.filter((t) => t.build === build && t.key !== take.key && t.workload_id === take.workload_id).slice(0, 30).map((t) => t.key)
  const [theirs, ours] = [of(other.value.build).join(','), [take.key, ...of(take.build)].join(',')]
  return { name: 'compare', query: { baseline: older ? theirs : ours, candidate: older ? ours : theirs, focus: props.focus } }
})
const swatch = computed(() => {
  if (!d.value) return {}
  const ink = inkOf(d.value.function.kind, d.value.function.area, dark.value)
  return { background: ink.fill, borderColor: ink.edge }
})
</script>

<template>
  <aside class="h-full overflow-y-auto px-4 py-3" aria-label="Card of the function in focus" data-test="card">
    <TakeCard v-if="!focus" :detail="detail" :hot="hot" />
    <div v-else-if="card.isError.value" role="alert">
      <p class="code break-all">{{ focus }}</p>
      <p class="mt-2">{{ (card.error.value as Error).message }}</p>
      <p class="text-ink-2">{{ card.error.value instanceof ApiError ? card.error.value.remedy : '' }}</p>
    </div>
    <template v-else-if="d">
      <div class="border-l-[3px] border-focus pl-2.5">
        <h2 class="code text-[15px] font-medium break-words">{{ d.function.short }}</h2>
        <FullName v-if="d.function.short !== d.function.name || d.linkage" :key="d.function.name" :name="d.function.name" :linkage="d.linkage" />
      </div>
      <p class="mt-2 flex items-center gap-1.5 text-ink-2"><span class="size-2.5 shrink-0 border" :style="swatch" aria-hidden="true" />{{ kindText(d.function.kind) }}<template v-if="d.function.runs !== 'native'">, {{ d.function.runs }}</template><template v-if="d.function.area !== d.function.name">, {{ d.function.area }}</template></p>
      <p v-if="d.file" class="code truncate text-[11.5px] text-ink-2" :title="`${d.file}:${d.line}`">{{ d.file.split('/').slice(-2).join('/') }}:{{ d.line }}</p>
      <div class="mt-2.5 flex flex-wrap gap-2">
        <RouterLink v-if="comparison" :to="comparison" class="action !py-0.5" data-test="follow"><ArrowLeftRight class="size-3.5" aria-hidden="true" />Compare with {{ other!.build }}</RouterLink>
        <button class="action !px-2 !py-0.5" :aria-pressed="pinned" @click="emit('pin', focus)"><Pin class="size-3.5" :fill="pinned ? 'currentColor' : 'none'" aria-hidden="true" />{{ pinned ? 'Pinned' : 'Pin' }}</button>
      </div>

      <div v-for="n in notes ?? []" :key="n.id" class="note mt-2 border-l-[3px] border-rule-strong pl-2" :title="`${n.who}`" v-html="n.html" />

      <table class="mt-3 w-full">
        <tbody>
          <tr class="border-y border-rule">
            <td class="label py-1.5">Self</td>
            <td class="text-right text-[16px]">{{ percent(ofScope(d.self)) }}</td>
            <td class="text-right">{{ figure(d.self) }}</td>
            <td class="label text-right" title="95 % interval of the share, from the number of samples"><template v-if="!d.counted">{{ (100 * d.self_low).toFixed(1) }}–{{ percent(d.self_high) }}</template></td>
          </tr>
          <tr class="border-b border-rule">
            <td class="label py-1.5">Total</td>
            <td class="text-right text-[16px]">{{ percent(ofScope(d.total)) }}</td>
            <td class="text-right">{{ figure(d.total) }}</td>
            <td class="label text-right" title="95 % interval of the share, from the number of samples"><template v-if="!d.counted">{{ (100 * d.total_low).toFixed(1) }}–{{ percent(d.total_high) }}</template></td>
          </tr>
          <tr v-if="d.calls_counted" class="border-b border-rule" data-test="card-calls">
            <td class="label py-1.5">Calls</td>
            <td class="text-right text-[16px]">{{ count(d.calls) }}</td>
            <td colspan="2" class="label text-right"><template v-if="d.calls">{{ figure(Math.round(d.self / d.calls)) }} self, {{ figure(Math.round(d.total / d.calls)) }} in total a call</template></td>
          </tr>
        </tbody>
      </table>
      <p v-if="exact" class="label mt-1">Counted in an exact run, the same each time, unless the take says that it varies.</p>
      <p v-else class="label mt-1">{{ count(d.self_samples) }} and {{ count(d.total_samples) }} samples; {{ d.counted ? 'every event is counted, including those between samples' : '95 % intervals' }}</p>

      <section v-for="s in sides" :key="s.name" class="mt-3.5" :aria-label="s.name">
        <h3 class="label mb-1 flex border-b border-rule pb-0.5"><span class="flex-1">{{ s.name }}</span><span>of its total</span></h3>
        <p v-if="!s.edges.length" class="label">{{ s.none }}</p>
        <component
          :is="e.function ? 'button' : 'div'"
          v-for="e in s.edges.slice(0, shown)"
          :key="e.function?.id ?? 0"
          class="relative block w-full py-[2px] text-left"
          :class="e.function && 'hover:bg-wash'"
          :title="e.function?.name"
          @click="e.function && emit('focus', e.function.name)"
        >
          <span class="flex gap-2"><span class="code min-w-0 flex-1 truncate">{{ e.function?.short ?? 'the start of the stack' }}</span><span v-if="d.calls_counted && e.calls" class="text-ink-2">{{ count(e.calls) }} ×</span><span>{{ percent(e.value / (d.total || 1)) }}</span></span>
          <span class="block h-[2px] bg-bar-pale" :style="{ width: (100 * e.value) / (d.total || 1) + '%' }" aria-hidden="true" />
        </component>
        <p v-if="s.edges.length > shown" class="label">and {{ s.edges.length - shown }} more, {{ percent(rest(s.edges) / (d.total || 1)) }}</p>
      </section>

      <OtherKind :detail="detail" :name="focus" :share="ofScope(d.self)" :whole="!range.scope && ['cpu', 'instructions'].includes(measure.name)" />
      <ExactCount v-if="!exact && !takeKey.startsWith('job-')" :take-key="takeKey" :name="focus" @focus="emit('focus', $event)" />

      <section v-if="measure.name === 'cpu'" class="mt-3.5" aria-label="What if it were faster">
        <h3 class="label mb-1 border-b border-rule pb-0.5">What if</h3>
        <input v-model.number="faster" type="range" min="0" max="100" step="5" class="accent-ink w-full" aria-label="How much less time its own code would take, in percent" />
        <label v-if="alsoPinned?.n" class="flex items-center gap-1.5"><input v-model="together" type="checkbox" class="accent-ink" />and in the {{ alsoPinned.n === 1 ? 'other pinned one' : `${alsoPinned.n} other pinned ones` }}</label>
        <p>{{ faster }} % less in {{ together && alsoPinned?.n ? 'their' : 'its' }} own code: the program takes <b class="font-medium">{{ percent(saved) }}</b> less.</p>
        <p class="label">An estimate, from CPU time alone.</p>
      </section>

      <section v-if="builds.length > 1" class="mt-3.5" aria-label="In other builds">
        <h3 class="label mb-1 border-b border-rule pb-0.5">{{ special ? 'Total share by build, newest takes, in this scope' : 'Total share by build, median of takes' }}</h3>
        <BuildLine :builds="builds" :now="detail.take.build" />
      </section>

      <OriginNote v-if="!exact" :card="d" @focus="emit('focus', $event)" />
    </template>
  </aside>
</template>
