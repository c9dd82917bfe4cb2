<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { api, type TakeDetail } from '../api/client'
import { useMe } from '../composables/useMe'
import { tell } from '../composables/useNotices'
import WorkloadOf from './WorkloadOf.vue'
import UsageChart from './UsageChart.vue'
import { bytes, count, duration, percent, seconds, when } from '../lib/format'

const props = defineProps<{ open: boolean; detail: TakeDetail }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()

const note = ref('')
watch(() => [props.open, props.detail.take.note], () => (note.value = props.detail.take.note), { immediate: true })

const { may } = useMe()
async function setPinned(pinned: boolean) {
  try {
    await api.setPinned(props.detail.take.key, pinned)
    await queries.invalidateQueries({ queryKey: ['take', props.detail.take.key] })
    void queries.invalidateQueries({ queryKey: ['takes'] })
  } catch (e) {
    tell((e as Error).message, { bad: true })
  }
}

async function keepNote() {
  if (note.value === props.detail.take.note) return
  const before = props.detail.take.note
  const key = props.detail.take.key
  const put = async (text: string) => {
    await api.setNote(key, text)
    await queries.invalidateQueries({ queryKey: ['take', key] })
    void queries.invalidateQueries({ queryKey: ['takes'] })
  }
  try {
    await put(note.value)
    emit('close') // what can be undone is behind the dialog
    tell('The note was kept.', { undo: () => void put(before) })
  } catch (e) {
    tell((e as Error).message, { bad: true })
  }
}

const endings: Record<string, string> = { exit: 'the end of the program', time: 'the time that was set', user: 'the user', error: 'an error' }

const facts = computed<[string, string][]>(() => {
  const { take: t, settings: s, machine: m, facts: f } = props.detail
  return [
    ['Command', s.command.join(' ') || `process ${s.pid}`],
    ...(s.masked ? [['Masked', `${count(s.masked)} of its arguments and variables, which look like secrets`] as [string, string]] : []),
    ['Directory', s.dir],
    ['Started', when(t.started_at)],
    ['Lasted', `${seconds(t.duration_ns)}, ended by ${endings[f.ended_by] ?? f.ended_by}`],
    ...(f.exact
      ? [['Exact run', `${count(f.exact.processes)} ${f.exact.processes === 1 ? 'process' : 'processes'}, ${f.exact.runs < 2 ? 'run once, so that what varies by itself is not known' : f.exact.varying ? `run twice; the counts of ${count(f.exact.varying)} ${f.exact.varying === 1 ? 'function' : 'functions'} differed` : 'run twice, the same to the last instruction'}`] as [string, string]]
      : [['CPU time', `${seconds(t.cpu_ns)} by the kernel's count`] as [string, string]]),
    ...(s.inside ? [['Part', `counted only inside ${s.inside}${s.after ? `, after ${count(s.after)} of its calls` : ''}${s.calls ? `, for ${count(s.calls)} of them` : ''}`] as [string, string]] : []),
    ...(s.caches?.length === 2 ? [['Models', `caches of ${s.caches[0]} and ${s.caches[1]} (bytes/ways/line), branches by a counter of two bits for each of 4096 places`] as [string, string]] : []),
    ...(f.exact?.varied ?? []).slice(0, 5).map((v): [string, string] => ['Varies by itself', `${v.function}: ${count(v.instructions[0])} to ${count(v.instructions[1])} instructions of its own, ${count(v.calls[0])} to ${count(v.calls[1])} calls`]),
    ...(s.keep ? [['Kept only', `${s.keep}; ${count(f.left_out ?? 0)} samples were left out`] as [string, string]] : []),
    ...(f.exact ? [] : [['Samples', `${count(t.samples)} at ${count(t.rate_hz)} a second of CPU time${s.event ? ` (${s.event}${f.by_processors ? ' of each processor' : ''})` : ''}`] as [string, string], ['Lost', count(t.lost)] as [string, string]]),
    ...(f.counted ?? []).map((c): [string, string] => [
      'Every event',
      `${c.measure}: ${count(c.events)}, of which ${count(c.singly)} have a sample of their own${c.intervals ? ` and ${count(c.intervals)} are kept from beginning to end` : ''}${c.lost ? `; partial: ${count(c.lost)} more are missing` : ''}`,
    ]),
    ...(f.own_cpu_ns ? [['Counting', `${seconds(f.own_cpu_ns)} of the CPU time was Entelon's own, in the program's threads; it is not among the samples`] as [string, string]] : []),
    ...(f.exact ? [] : [['Whole stacks', `${percent(t.complete_share, 2)} of ${count(f.user_stacks)}, by ${s.unwind}`] as [string, string]]),
    ...(f.cut_off ?? []).map((c): [string, string] => ['Cut off', `${count(c.stacks)}: ${c.reason}`]),
    ...(f.interpreted_stacks ? [['Interpreted', `${count(f.interpreted_stacks)} stacks have functions of an interpreter; ${f.torn_stacks ? count(f.torn_stacks) + ' more were' : 'none were'} hit while it changed them`] as [string, string]] : []),
    ...(f.runtime_set ? [['Runtime', f.runtime_set] as [string, string]] : []),
    ...(s.stack_bytes ? [['Stack copied', `${bytes(s.stack_bytes)} with each sample, and more of deeper ones where the system allows it`] as [string, string]] : []),
    ...(props.detail.bare ? [['Without sampling', props.detail.bare] as [string, string]] : []),
    ...(f.work ? [['Work', `${count(f.work)} units, ${duration(t.cpu_ns / f.work)} of CPU time each`] as [string, string]] : []),
    ...(s.turns ? [['Series', `take ${s.turn} of ${s.turns}`] as [string, string]] : []),
    ...(f.counters?.length ? [['Counted', f.counters.map((c) => `${count(c.value)} ${c.name}${c.estimated ? ' (estimated)' : ''}`).join(', ')] as [string, string]] : []),
    ...(f.not_counted?.length ? [['Not counted', `${f.not_counted.join(', ')}: not on this machine`] as [string, string]] : []),
    ...(f.usage ? [['Most memory', bytes(f.usage.most_resident_bytes)] as [string, string]] : []),
    ...(f.exact ? [] : [['Collector', `${seconds(f.collector_cpu_ns)} CPU of its own`] as [string, string]]),
    ['Build ID', t.build_id || 'none in the binary'],
    ['Threads', count(props.detail.threads.length)],
    ['Machine', `${m.host}, kernel ${m.kernel}, ${m.processors} processors`],
    ['File', bytes(t.size)],
  ]
})
</script>

<template>
  <Dialog :open="open" class="relative z-30" @close="emit('close')">
    <div class="fixed inset-0 bg-ink/25 dark:bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 flex items-center justify-center p-6">
      <DialogPanel class="max-h-full w-[680px] overflow-auto border border-rule-strong bg-sheet p-6">
        <DialogTitle class="mb-3 text-[17px] font-medium">Facts of this take</DialogTitle>
        <dl class="grid grid-cols-[110px_1fr]">
          <dt class="label border-b border-rule py-1.5">Workload</dt>
          <dd class="border-b border-rule py-1 break-words" data-test="workload-of"><WorkloadOf :take="detail.take" /></dd>
          <template v-for="[k, v] in facts" :key="k">
            <dt class="label border-b border-rule py-1.5">{{ k }}</dt>
            <dd class="border-b border-rule py-1 break-words">{{ v }}</dd>
          </template>
        </dl>
        <UsageChart v-if="detail.facts.usage" :usage="detail.facts.usage" />
        <label class="mt-4 block"><span class="label">Note</span>
          <textarea v-model="note" rows="2" class="field mt-1 block w-full" aria-label="Note" @keydown.stop />
        </label>
        <label v-if="may('work')" class="mt-3 flex items-center gap-2"><input type="checkbox" class="accent-ink" :checked="detail.take.pinned" data-test="keep" @change="setPinned(($event.target as HTMLInputElement).checked)" />Keep this take when old ones are removed</label>
        <div class="mt-4 flex justify-end gap-2">
          <a :href="api.fileAddress(detail.take.key)" class="action" download>Download the file</a>
          <button class="action" :disabled="note === detail.take.note" @click="keepNote">Keep the note</button>
          <button class="action" @click="emit('close')">Close</button>
        </div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
