<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, type Comparison, type CompareRow } from '../api/client'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import { useMe } from '../composables/useMe'
import { tell } from '../composables/useNotices'

/** What a function was called before, and what people say about that. */
const props = defineProps<{ d: Comparison; row: CompareRow }>()
const queries = useQueryClient()
const { may } = useMe()
const program = computed(() => props.d.candidate.takes[0].take.program)
const key = computed(() => ['matches', program.value])
const said = useQuery({ queryKey: key, queryFn: () => api.matches(program.value), staleTime: 30_000 })
const mine = computed(() => (said.data.value?.matches ?? []).find((m) => m.candidate === props.row.name || m.baseline === props.row.name))

async function say(baseline: string, candidate: string, how: '' | 'together' | 'apart', text: string, back: '' | 'together' | 'apart') {
  try {
    queries.setQueryData(key.value, await api.setMatch(program.value, baseline, candidate, how))
    await Promise.all(['compare', 'mirror', 'compare-lines'].map((k) => queries.invalidateQueries({ queryKey: [k] })))
    tell(text, { seconds: 8, undo: () => void say(baseline, candidate, back, 'Undone.', how) })
  } catch (e) {
    tell((e as Error).message, { bad: true })
  }
}
const part = () => say(props.row.was, props.row.name, props.row.by_hand ? '' : 'apart', 'They count as two functions now.', props.row.by_hand ? 'together' : '')
const forget = () => say(mine.value!.baseline, mine.value!.candidate, '', 'The automatic match is back.', mine.value!.how as 'together' | 'apart')

// A new function may be an old one by another name, and the other way round.
const others = computed(() => {
  const want = props.row.state === 'new' ? 'gone' : 'new'
  const list = props.d.rows.filter((r) => r.state === want).slice(0, 200)
  return [{ value: '', text: props.row.state === 'new' ? 'it was …' : 'it is now …' }, ...list.map((r) => ({ value: r.name, text: r.short, note: r.module.split('/').at(-1) }))]
})
function choose(name: string) {
  if (!name) return
  const [was, is] = props.row.state === 'new' ? [name, props.row.name] : [props.row.name, name]
  void say(was, is, 'together', 'They count as one function now.', '')
}
</script>

<template>
  <div v-if="row.was" class="mt-1.5 text-ink-2">
    In {{ d.baseline.name }} it was <span class="code break-words">{{ row.was }}</span>: {{ row.because }}.
    <button v-if="may('work')" class="word" data-test="apart" @click="part">They are not the same</button>
  </div>
  <div v-else-if="may('work') && (row.state === 'new' || row.state === 'gone') && others.length > 1" class="mt-1.5" data-test="together">
    <ChoiceMenu :model-value="''" :choices="others" :name="row.state === 'new' ? 'What it was before' : 'What it is now'" plain @update:model-value="choose" />
  </div>
  <p v-if="mine?.how === 'apart'" class="label mt-1">{{ mine.who }} said that it is not {{ mine.candidate === row.name ? mine.baseline : mine.candidate }}. <button v-if="may('work')" class="word" @click="forget">Match automatically</button></p>
</template>
