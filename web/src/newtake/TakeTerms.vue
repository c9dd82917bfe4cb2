<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api } from '../api/client'
import type { Terms } from '../composables/useTakeTerms'
import MeasureField from './MeasureField.vue'

defineProps<{ kind: string; collector: string; pid?: number }>()
const terms = defineModel<Terms>({ required: true })
const known = useQuery({ queryKey: ['measures'], queryFn: api.measures })
const plain = computed(() => (known.data.value?.measures ?? []).filter((m) => m.plain))
const others = computed(() => (known.data.value?.measures ?? []).filter((m) => m.form !== m.word))
</script>

<template>
  <section aria-label="What to add up">
    <h2 class="label mb-1">What to add up</h2>
    <label v-for="m in plain" :key="m.word" :title="m.means" class="flex items-baseline gap-2 py-[3px]">
      <input v-model="terms.measures" type="checkbox" :value="m.word" class="accent-ink translate-y-[1px]" /><span class="flex-1">{{ m.title }}</span><span class="label">{{ m.note }}</span>
    </label>
    <div class="mt-1"><span class="label" :title="others.map((m) => `${m.form}: ${m.means}`).join('\n')">Others: a function, a tracepoint, an allocator of its own</span><MeasureField v-model="terms.more" :collector="collector" :pid="pid" :title="others.map((m) => `${m.form}: ${m.means}`).join('\n')" /></div>
  </section>
  <section class="mt-4" aria-label="How often">
    <h2 class="label mb-1">How often, for CPU time</h2>
    <label class="flex items-center gap-2 py-0.5"><input v-model="terms.pace" type="radio" value="rate" class="accent-ink" aria-label="By rate" /><input v-model.number="terms.rate" type="number" min="1" max="50000" class="field w-[84px]" aria-label="Samples a second" @focus="terms.pace = 'rate'" /> samples a second</label>
    <label class="flex items-center gap-2 py-0.5"><input v-model="terms.pace" type="radio" value="budget" class="accent-ink" aria-label="By slowdown" /><input v-model.number="terms.budget" type="number" min="0.01" max="100" step="any" class="field w-[84px]" aria-label="Accepted slowdown in percent" @focus="terms.pace = 'budget'" /> % slower at most</label>
  </section>
  <section class="mt-4" aria-label="For how long">
    <h2 class="label mb-1">For how long</h2>
    <label class="flex items-center gap-2"><input v-model.number="terms.seconds" type="number" min="0" max="86400" step="any" class="field w-[84px]" aria-label="Seconds" /> s<span class="label">{{ terms.seconds ? '' : kind === 'machine' || kind === 'group' ? 'until you stop it' : 'until it ends, or you stop it' }}</span></label>
    <label class="mt-1.5 flex items-center gap-2"><input v-model.number="terms.repeat" type="number" min="1" max="100" class="field w-[84px]" aria-label="Takes in a row" /> {{ terms.repeat === 1 ? 'take' : 'takes in a row' }}<span v-if="terms.repeat > 1 && kind !== 'command' && !terms.seconds" class="label text-alarm">each needs a time</span></label>
  </section>
  <section class="mt-4" aria-label="Which samples to keep">
    <h2 class="label mb-1">Which samples to keep</h2>
    <input v-model="terms.keep" class="field code w-full" placeholder="all of them" spellcheck="false" aria-label="Which samples to keep" />
    <p class="label mt-0.5">such as: thread is worker-* and not code is kernel</p>
  </section>
  <section class="mt-4" aria-label="Workload">
    <h2 class="label mb-1">What it does, by a name</h2>
    <input v-model="terms.workload" class="field w-full" maxlength="200" placeholder="found from the command" aria-label="Workload" />
    <p class="label mt-0.5">only takes of one workload are measured against each other</p>
    <label class="mt-1.5 flex items-baseline gap-2"><input v-model="terms.secrets" type="checkbox" class="accent-ink translate-y-[1px]" /><span>Keep arguments that look like secrets<span class="label block">else they are masked in the take</span></span></label>
  </section>
  <section class="mt-4" aria-label="Source">
    <label class="flex items-baseline gap-2"><input v-model="terms.source" type="checkbox" class="accent-ink translate-y-[1px]" /><span>Keep the program's source with the take<span class="label block">for the lens Lines, also where the source is not</span></span></label>
  </section>
  <section class="mt-4" aria-label="Units of work">
    <h2 class="label mb-1">Units of work, for the cost of one</h2>
    <label class="flex items-center gap-2"><input v-model.number="terms.work" type="number" min="0" step="any" class="field w-[84px]" aria-label="Units of work" /><span class="label">{{ terms.work ? '' : 'unknown' }}</span></label>
    <template v-if="kind === 'command'">
      <label class="mt-1.5 block"><span class="label">or a number in its output, in brackets</span><input v-model="terms.workFrom" class="field code mt-0.5 w-full" placeholder="^([0-9]+) scores" spellcheck="false" aria-label="Units of work from the output" /></label>
      <label class="mt-3 flex items-baseline gap-2"><input v-model="terms.bare" type="checkbox" class="accent-ink translate-y-[1px]" /><span>Run it without sampling, too<span class="label block">five times, alternating with sampled runs; the take then says what sampling costs</span></span></label>
    </template>
  </section>
</template>
