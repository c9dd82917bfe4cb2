<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { computed, nextTick, onMounted, ref, watch } from 'vue'
import { api, type Range, type ScopeRead } from '../api/client'
import { tell } from '../composables/useNotices'
import { count, percent } from '../lib/format'

/** The scope as an expression to type, with what may come next and what is wrong, at the very character. */
const props = defineProps<{
  takeKey: string
  /** What of the take is looked at; with it, the editor says how much of that the expression would keep. */
  range?: Range
  text: string
  select?: string
  /** Fetches ahead what an expression would show. */
  ahead?: (text: string) => Promise<unknown>
}>()
const emit = defineEmits<{ close: []; apply: [text: string] }>()

const queries = useQueryClient()
const field = ref<HTMLInputElement>()
const typed = ref(props.text)
const caret = ref(props.text.length)
const settled = refDebounced(typed, 90)
const read = useQuery({ queryKey: ['scope', () => props.takeKey, settled], queryFn: () => api.scope(props.takeKey, settled.value), staleTime: Infinity })
const asked = computed(() => ({ text: typed.value, at: caret.value }))
const settledAsked = refDebounced(asked, 60)
const applied = ref(false) // then nobody needs proposals any more
watch(typed, () => (applied.value = false), { flush: 'sync' })
const proposals = useQuery({ enabled: computed(() => !applied.value), queryKey: ['complete', () => props.takeKey, settledAsked], queryFn: () => api.complete(props.takeKey, settledAsked.value.text, settledAsked.value.at), staleTime: Infinity })
const list = computed(() => proposals.data.value?.proposals ?? [])
const at = ref(-1)
watch(list, () => (at.value = -1))
const wrong = computed(() => (settled.value === typed.value && typed.value.trim() && read.data.value?.error ? read.data.value : undefined))

// An expression that is not at its end yet is no mistake.
const goesOn = computed(() => wrong.value && wrong.value.at >= [...typed.value].length)

// What it would keep is found out while it is read, so that both are there when it is applied.
const meant = computed(() => (settled.value === typed.value && typed.value.trim() && read.data.value && !read.data.value.error && read.data.value.text !== props.text ? read.data.value.text : ''))
const keeping = computed<Range>(() => ({ ...props.range, scope: meant.value }))
const kept = useQuery({ queryKey: ['kept', () => props.takeKey, keeping], queryFn: ({ signal }) => api.kept(props.takeKey, keeping.value, signal), enabled: computed(() => !!props.range && meant.value !== '' && !applied.value) })
watch([meant, kept.data], ([text, k]) => text && k && props.ahead?.(text))

function look() {
  caret.value = field.value?.selectionStart ?? typed.value.length
}
/** Takes a proposal; one who types faster than the server answers gets the one for what is written now. */
async function take(i: number) {
  look()
  const { text, at: place } = asked.value
  const fresh = settledAsked.value.text === text && settledAsked.value.at === place && !proposals.isPlaceholderData.value && proposals.data.value
  const p = (fresh ? list.value : (await api.complete(props.takeKey, text, place)).proposals)[i]
  if (!p || typed.value !== text) return
  const all = [...typed.value]
  const space = p.text === '(' ? '' : ' '
  const behind = all.slice(p.to).join('').replace(/^ /, '')
  const head = all.slice(0, p.from).join('') + p.text + space
  typed.value = head + behind
  void nextTick(() => {
    field.value?.focus()
    field.value?.setSelectionRange(head.length, head.length)
    look()
  })
}
const soon = 150 // ms
/**
 * What was asked while it was typed is not asked again, here or by the scope line. The
 * page changes when what it will show is there, unless that takes long: it is set
 * anew once then, and the server has the processors to itself.
 */
async function apply() {
  const text = typed.value
  applied.value = true
  const shown = props.ahead?.(text.trim()) // mostly it is written as the server would
  let out: ScopeRead | undefined
  try {
    out = text.trim() ? await queries.fetchQuery({ queryKey: ['scope', props.takeKey, text], queryFn: () => api.scope(props.takeKey, text), staleTime: Infinity }) : undefined
  } catch (e) {
    applied.value = false
    tell((e as Error).message, { bad: true })
    return
  }
  if (out?.error || typed.value !== text) {
    applied.value = false
    return
  }
  if (out) queries.setQueryData(['scope', props.takeKey, out.text], out)
  await Promise.race([!out || out.text === text.trim() ? shown : props.ahead?.(out.text), new Promise((r) => setTimeout(r, soon))])
  if (typed.value === text) emit('apply', out?.text ?? '')
}
function key(e: KeyboardEvent) {
  const n = list.value.length
  if (e.key === 'ArrowDown' && n) at.value = (at.value + 1) % n
  else if (e.key === 'ArrowUp' && n) at.value = (at.value - 1 + n) % n
  else if (e.key === 'Tab' && !e.shiftKey && typed.value) void take(Math.max(0, at.value))
  else if (e.key === 'Enter' && at.value >= 0) void take(at.value)
  else if (e.key === 'Enter') void apply()
  else if (e.key === 'Escape') emit('close')
  else return
  e.preventDefault()
}
onMounted(() => {
  field.value?.focus()
  const i = props.select ? typed.value.indexOf(props.select) : -1
  if (i >= 0) field.value?.setSelectionRange(i, i + props.select!.length)
  else field.value?.setSelectionRange(typed.value.length, typed.value.length)
  look()
})
</script>

<template>
  <!-- It lies on what is below, so that nothing moves when it comes and goes. -->
  <div class="relative z-30 h-0" data-test="scope-editor"><div class="absolute inset-x-0 top-0 border-b border-rule-strong bg-sheet px-4 py-2 shadow-[0_10px_14px_-8px_rgb(0_0_0/0.3)]">
    <div class="flex items-center gap-2">
      <span class="label">Only samples where</span>
      <input
        ref="field"
        v-model="typed"
        class="code min-w-0 flex-1 border-b bg-transparent py-0.5 !text-[13.5px] outline-none"
        :class="wrong && !goesOn ? 'border-alarm' : 'border-rule-strong focus:border-ink'"
        role="combobox"
        aria-label="Scope expression"
        aria-autocomplete="list"
        aria-controls="scope-proposals"
        :aria-expanded="list.length > 0"
        :aria-activedescendant="at >= 0 ? `scope-proposal-${at}` : undefined"
        :aria-invalid="!!wrong"
        spellcheck="false"
        autocomplete="off"
        placeholder="thread is worker-* and function is slur.Route and not idle"
        @keydown="key"
        @keyup="look"
        @click="look"
        @input="look"
      />
      <span v-if="meant && kept.data.value" class="whitespace-nowrap text-ink-2" role="status" data-test="would-keep"><template v-if="kept.data.value.samples">keeps {{ percent(kept.data.value.total / kept.data.value.of_total) }} · {{ count(kept.data.value.samples) }} of {{ count(kept.data.value.of_samples) }} samples</template><template v-else>keeps nothing</template></span>
      <button class="action !py-0.5" :disabled="!!wrong" @click="apply">Apply</button>
      <button class="action !py-0.5" @click="emit('close')">Close</button>
    </div>
    <p v-if="wrong" role="alert" class="mt-1">
      <span class="code mr-2 text-[13.5px] whitespace-pre"><span class="text-ink-3">{{ [...typed].slice(Math.max(0, wrong.at - 12), wrong.at).join('') }}</span><span class="border-b-2" :class="goesOn ? 'border-ink-2' : 'border-alarm text-alarm'">{{ [...typed].slice(wrong.at, wrong.at + 8).join('') || '␣' }}</span></span>
      <span :class="goesOn ? 'text-ink-2' : 'text-alarm'">{{ wrong.error }}.</span>
      <button v-if="wrong.correction" class="word ml-2" data-test="correction" @click="typed = wrong.correction; field?.focus()">Write <span class="code">{{ wrong.correction }}</span></button>
    </p>
    <template v-else><p v-for="a in read.data.value?.absent ?? []" :key="a" class="mt-1 text-ink-2">{{ a }}</p></template>
    <ul v-if="list.length" id="scope-proposals" role="listbox" aria-label="What may come next" class="mt-1.5 flex flex-wrap gap-x-1 gap-y-1">
      <li v-for="(p, i) in list" :id="`scope-proposal-${i}`" :key="p.text" role="option" :aria-selected="i === at" class="code max-w-[360px] cursor-pointer truncate border px-1.5 py-px" :class="i === at ? 'border-ink bg-wash' : 'border-rule text-ink-2 hover:text-ink'" @mousedown.prevent="take(i)">{{ p.text }}<span v-if="p.samples" class="label ml-1.5">{{ count(p.samples) }}</span></li>
    </ul>
  </div></div>
</template>
