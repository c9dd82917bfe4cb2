<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { Plus, RotateCcw, X } from 'lucide-vue-next'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import type { Hot, Range, ScopePart, TakeDetail } from '../api/client'
import { useMe } from '../composables/useMe'
import { useMeasure } from '../composables/useMeasure'
import { amount, bytes, count, seconds, when } from '../lib/format'
import { phrase } from '../scope/phrases'
import ChoiceMenu from './ChoiceMenu.vue'

const props = defineProps<{ detail: TakeDetail; hot?: Hot; range: Range; parts: ScopePart[]; focus: string; mode: string; notes: number }>()
const emit = defineEmits<{ facts: []; notes: []; measure: [name: string]; again: []; shape: [change: Partial<Record<'fold' | 'group' | 'merge' | 'through', string | undefined>>]; edit: [part?: ScopePart]; remove: [part: ScopePart]; add: [condition: string] }>()
const router = useRouter()

// The words of the sentence are controls: another build, another take of it.
const builds = computed(() => {
  const seen = new Map<string, { value: string; text: string }>()
  for (const t of props.detail.siblings) if (!seen.has(t.build)) seen.set(t.build, { value: t.build, text: t.build })
  return [...seen.values()]
})
const takes = computed(() =>
  props.detail.siblings.filter((t) => t.build === props.detail.take.build).map((t) => ({ value: t.key, text: when(t.started_at), note: t.exact ? 'exact run' : `${count(t.samples)} samples` })),
)
const { measure } = useMeasure()
const { may } = useMe()
const capital = (s: string) => s.charAt(0).toUpperCase() + s.slice(1)
const measures = computed(() => props.detail.measures.map((m) => ({ value: m.name, text: capital(m.label) })))
const chosen = computed({ get: () => measure.value.name, set: (m) => m && emit('measure', m) })
const hundred = computed(() => (props.mode === 'whole' ? measure.value.total : (props.hot?.total ?? 0)))
const whole = computed(() => {
  const total = hundred.value
  switch (measure.value.unit) {
    case 'ns':
      return seconds(total) + (measure.value.name === 'cpu' ? ' CPU' : '')
    case 'bytes':
      return bytes(total)
    default:
      return measure.value.counted ? `${count(total)} ${measure.value.label}` : count(total)
  }
})
const outside = computed(() => (measure.value.total && props.hot ? measure.value.total - props.hot.total : 0))
function open(key: string | undefined) {
  if (key && key !== props.detail.take.key) {
    // Node numbers and times belong to one take; the focus goes along.
    const { root: _root, scope: _scope, ...query } = router.currentRoute.value.query
    void router.push({ name: 'take', params: { key }, query })
  }
}
const build = computed({
  get: () => props.detail.take.build,
  set: (b) => open(props.detail.siblings.find((t) => t.build === b)?.key),
})
const take = computed({ get: () => props.detail.take.key, set: open })
const short = (name: string) => name.split('/').at(-1) ?? name
const quote = (name: string) => (/^(\(\*[\w.]+\)|[^\s,()<>="!])+$/.test(name) ? name : JSON.stringify(name))
const additions = computed(() => [
  ...(props.focus ? [{ text: `passing through ${short(props.focus)}`, condition: `function is ${quote(props.focus)}` }, { text: `not passing through ${short(props.focus)}`, condition: `function is not ${quote(props.focus)}` }] : []),
  { text: 'idle left out', condition: 'not idle' },
  { text: 'own code only', condition: 'code is own' },
  { text: 'without the kernel', condition: 'code is not kernel' },
  ...[...new Set(props.detail.threads.map((t) => t.name))].slice(0, 6).map((n) => ({ text: `threads ${n}`, condition: `thread is ${quote(n)}` })),
])
const shapes = computed(() => {
  const out: { text: string; off: () => void; name: string }[] = []
  const { fold, group, merge, through } = props.range
  if (fold) out.push({ name: 'Unfold', text: fold === 'runtime' ? 'the runtime folded' : 'foreign code folded', off: () => emit('shape', { fold: undefined }) })
  if (merge) out.push({ name: 'Show the recursion', text: 'recursion merged', off: () => emit('shape', { merge: undefined }) })
  if (group) out.push({ name: 'Undo the grouping', text: `by ${group}`, off: () => emit('shape', { group: undefined }) })
  if (through) out.push({ name: 'Show all stacks', text: `from ${short(through)} on`, off: () => emit('shape', { through: undefined }) })
  return out
})
</script>

<template>
  <header class="flex min-h-[52px] shrink-0 items-center gap-3 border-b border-rule bg-paper px-4 py-1" aria-label="Scope">
    <h1 class="flex min-w-0 flex-1 flex-wrap items-baseline gap-x-1.5 text-[15.5px]" data-test="sentence">
      <ChoiceMenu v-if="measures.length > 1" v-model="chosen" :choices="measures" name="Measure" plain class="font-medium" />
      <span v-else class="text-ink-2">{{ capital(measure.label) }}</span>
      <span class="text-ink-2">of</span>
      <RouterLink :to="{ name: 'takes', query: { program: detail.take.program } }" class="word font-medium">{{ detail.take.program }}</RouterLink>
      <span class="text-ink-2">build</span>
      <ChoiceMenu v-model="build" :choices="builds" name="Build" plain class="font-medium" />
      <span class="text-ink-2">taken</span>
      <ChoiceMenu v-model="take" :choices="takes" name="Take" plain />
      <span v-for="p in parts" :key="p.text" class="flex max-w-full items-baseline gap-1" data-test="condition">
        <span v-if="phrase(p).lead" class="text-ink-2 whitespace-nowrap">{{ phrase(p).lead }}</span>
        <button class="word max-w-[360px] truncate" :title="`${p.text}; click to change it`" @click="emit('edit', p)">{{ phrase(p).word }}</button>
        <button class="self-center text-ink-3 hover:text-ink" :aria-label="`Remove: ${p.text}`" @click="emit('remove', p)"><X class="size-3.5" /></button>
      </span>
      <span v-for="s in shapes" :key="s.text" class="flex items-baseline gap-1">
        <span class="text-ink-2">with</span> {{ s.text }}
        <button class="self-center text-ink-3 hover:text-ink" :aria-label="s.name" @click="s.off()"><X class="size-3.5" /></button>
      </span>
      <Menu as="span" class="relative self-center">
        <MenuButton class="flex items-center text-ink-3 hover:text-ink" aria-label="Add a condition" title="Add a condition (= to type one)"><Plus class="size-4" /></MenuButton>
        <MenuItems class="absolute left-0 z-20 mt-1 min-w-56 border border-rule-strong bg-sheet py-1 text-[13px] whitespace-nowrap shadow-md outline-none">
          <MenuItem v-for="a in additions" :key="a.condition" v-slot="{ active }"><button class="block w-full max-w-[420px] truncate px-3 py-1 text-left" :class="active && 'bg-wash'" @click="emit('add', a.condition)">{{ a.text }}</button></MenuItem>
          <MenuItem v-slot="{ active }"><button class="block w-full border-t border-rule px-3 py-1 text-left" :class="active && 'bg-wash'" @click="emit('edit')">an expression …</button></MenuItem>
        </MenuItems>
      </Menu>
    </h1>
    <button v-if="may('collect')" class="action !py-0.5" title="Take again with the same settings (r)" @click="emit('again')"><RotateCcw class="size-3.5" aria-hidden="true" />Again</button>
    <button class="action !py-0.5" title="Notes on the take and on the function in focus (n)" @click="emit('notes')">Notes<template v-if="notes"> {{ notes }}</template></button>
    <button class="action !py-0.5" @click="emit('facts')">Facts</button>
    <p v-if="hot" class="border-l border-rule-strong pl-3 text-right leading-tight whitespace-nowrap" data-test="whole">
      <b class="font-medium">100 % = {{ whole }}</b> ·
      <b v-if="measure.lost" class="font-medium text-alarm" data-test="partial" title="They came faster than they could be recorded, and are missing from the total">partial: {{ count(measure.lost) }} events are missing</b>
      <template v-else>{{ measure.counted ? 'every event counted' : `${count(hot.samples)} samples` }}</template>
      <span v-if="outside > 0" class="label block">{{ amount(outside, measure.unit) }} left out</span>
    </p>
  </header>
</template>
