<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api } from '../api/client'
import ChoiceMenu from '../components/ChoiceMenu.vue'
import type { Terms } from '../composables/useTakeTerms'
import MeasureField from './MeasureField.vue'

const props = defineProps<{ kind: string; collector: string; pid?: number; baseline: boolean }>()
const terms = defineModel<Terms>({ required: true })
const known = useQuery({ queryKey: ['measures'], queryFn: api.measures })
const plain = computed(() => (known.data.value?.measures ?? []).filter((m) => m.plain))
const others = computed(() => (known.data.value?.measures ?? []).filter((m) => m.form !== m.word))
const ends = computed(() => [
  { value: '', text: 'when all are made' },
  { value: 'sure', text: 'when enough is known' },
  ...(props.baseline || terms.value.enough === 'decided' ? [{ value: 'decided', text: 'when the difference is decided' }] : []),
])
const exact = computed(() => props.kind === 'command' && terms.value.exact)
/** How many takes, or pairs, are made where nothing else is said. */
const usual = computed(() => (props.baseline ? 20 : 30))
</script>

<template>
  <section v-if="kind === 'command'" class="mb-4" aria-label="How it is measured">
    <div class="flex" role="group" aria-label="Samples or an exact run">
      <button v-for="k in [false, true]" :key="String(k)" type="button" class="border border-r-0 border-rule-strong px-3 py-0.5 last:border-r" :class="terms.exact === k ? 'bg-ink text-paper' : 'bg-sheet text-ink-2'" :aria-pressed="terms.exact === k" :data-test="k ? 'exact' : 'samples'" @click="terms.exact = k">{{ k ? 'Exact run' : 'Samples' }}</button>
    </div>
    <template v-if="exact">
      <p class="mt-2 text-ink-2">An emulator runs the command and counts every instruction and every call. The numbers are the same each time, on a busy machine too. A run takes several times as long as the program alone, and 50 times or more for floating-point work.</p>
      <label class="mt-2 flex items-baseline gap-2"><input v-model="terms.once" type="checkbox" class="accent-ink translate-y-[1px]" data-test="once" /><span>Run it only once<span class="label block">otherwise it runs twice, to show what varies from run to run</span></span></label>
      <label class="mt-2 flex items-baseline gap-2"><input v-model="terms.memory" type="checkbox" class="accent-ink translate-y-[1px]" /><span>Count loads and stores<span class="label block">two to three times as slow</span></span></label>
      <label class="mt-2 flex items-baseline gap-2"><input v-model="terms.models" type="checkbox" class="accent-ink translate-y-[1px]" /><span>Model caches and branches<span class="label block">simple models; two to five times as slow</span></span></label>
      <label v-if="terms.models" class="mt-1 block pl-[21px]"><span class="label">Caches, as SIZE/WAYS/LINE</span><input v-model="terms.caches" class="field code mt-0.5 w-full" placeholder="this machine's" spellcheck="false" title="Two of them: 32K/8/64, 1M/16/64" aria-label="Sizes of both caches" /></label>
      <label class="mt-2 block"><span class="label">Count only inside a function</span><input v-model="terms.inside" class="field code mt-0.5 w-full" placeholder="all of the run" spellcheck="false" aria-label="Count only inside this function" /></label>
      <template v-if="terms.inside.trim()">
        <label class="mt-1.5 flex items-center gap-2">after <input v-model.number="terms.after" type="number" min="0" class="field w-[84px]" aria-label="Calls to skip" /> of its calls</label>
        <label class="mt-1.5 flex items-center gap-2">for <input v-model.number="terms.calls" type="number" min="0" class="field w-[84px]" aria-label="Calls to count" /> of them<span class="label">{{ terms.calls ? '' : 'all that follow' }}</span></label>
      </template>
    </template>
  </section>
  <section v-if="!exact" aria-label="What to measure">
    <h2 class="label mb-1">What to measure</h2>
    <label v-for="m in plain" :key="m.word" :title="m.means" class="flex items-baseline gap-2 py-[3px]">
      <input v-model="terms.measures" type="checkbox" :value="m.word" class="accent-ink translate-y-[1px]" /><span class="flex-1">{{ m.title }}</span><span class="label">{{ m.note }}</span>
    </label>
    <div class="mt-1"><span class="label" :title="others.map((m) => `${m.form}: ${m.means}`).join('\n')">Others: a function, a tracepoint, a custom allocator</span><MeasureField v-model="terms.more" :collector="collector" :pid="pid" :title="others.map((m) => `${m.form}: ${m.means}`).join('\n')" /></div>
  </section>
  <section v-if="!exact" class="mt-4" aria-label="How often">
    <h2 class="label mb-1">How often, for CPU time</h2>
    <label class="flex items-center gap-2 py-0.5"><input v-model="terms.pace" type="radio" value="rate" class="accent-ink" aria-label="By rate" /><input v-model.number="terms.rate" type="number" min="1" max="50000" class="field w-[84px]" aria-label="Samples a second" @focus="terms.pace = 'rate'" /> samples a second</label>
    <label class="flex items-center gap-2 py-0.5"><input v-model="terms.pace" type="radio" value="budget" class="accent-ink" aria-label="By slowdown" /><input v-model.number="terms.budget" type="number" min="0.01" max="100" step="any" class="field w-[84px]" aria-label="Accepted slowdown in percent" @focus="terms.pace = 'budget'" /> % slower at most</label>
  </section>
  <section class="mt-4" aria-label="For how long">
    <h2 class="label mb-1">For how long</h2>
    <label class="flex items-center gap-2"><input v-model.number="terms.seconds" type="number" min="0" max="86400" step="any" class="field w-[84px]" aria-label="Seconds" /> s<span class="label">{{ terms.seconds ? '' : kind === 'machine' || kind === 'group' ? 'until you stop it' : 'until it ends, or you stop it' }}</span></label>
    <template v-if="!exact">
      <label v-if="terms.enough" class="mt-1.5 flex items-center gap-2"><input v-model.number="terms.most" type="number" min="3" max="100" :placeholder="String(usual)" class="field w-[84px]" aria-label="Takes at most" /> {{ baseline ? 'pairs' : 'takes' }} at most</label>
      <label v-else class="mt-1.5 flex items-center gap-2"><input v-model.number="terms.repeat" type="number" min="1" max="100" class="field w-[84px]" aria-label="Takes in a row" /> {{ terms.repeat === 1 ? 'take' : 'takes in a row' }}<span v-if="terms.repeat > 1 && kind !== 'command' && !terms.seconds" class="label text-alarm">each needs a time</span></label>
      <div class="mt-1.5 flex items-baseline gap-1.5">ending <ChoiceMenu v-model="terms.enough" :choices="ends" name="When the row ends" plain /></div>
      <template v-if="terms.enough">
        <label class="mt-1.5 flex items-center gap-2"><input v-model.number="terms.within" type="number" min="0.1" max="50" step="any" class="field w-[84px]" aria-label="Within percent" /> % {{ terms.enough === 'sure' ? 'either way' : 'is a change that matters' }}</label>
        <label class="mt-1.5 block"><span class="label">{{ terms.enough === 'sure' ? 'known of' : 'decided for' }} a function, or the whole</span><input v-model="terms.enoughOf" class="field code mt-0.5 w-full" :placeholder="kind === 'command' ? 'the whole' : 'slur.Route'" spellcheck="false" aria-label="Function to be sure of" /></label>
        <p v-if="terms.enough === 'decided' && !baseline" class="label mt-0.5 text-alarm">needs a baseline, beside the command</p>
        <p v-else-if="kind !== 'command' && !terms.enoughOf.trim()" class="label mt-0.5 text-alarm">how long a take lasts says nothing about the whole; name a function</p>
      </template>
    </template>
  </section>
  <section v-if="!exact" class="mt-4" aria-label="Which samples to keep">
    <h2 class="label mb-1">Which samples to keep</h2>
    <input v-model="terms.keep" class="field code w-full" placeholder="all of them" spellcheck="false" aria-label="Which samples to keep" />
    <p class="label mt-0.5">such as: thread is worker-* and not code is kernel</p>
  </section>
  <section class="mt-4" aria-label="Workload">
    <h2 class="label mb-1">Workload</h2>
    <input v-model="terms.workload" class="field w-full" maxlength="200" placeholder="found from the command" aria-label="Workload" />
    <p class="label mt-0.5">only takes of one workload are measured against each other</p>
    <label class="mt-1.5 flex items-baseline gap-2"><input v-model="terms.secrets" type="checkbox" class="accent-ink translate-y-[1px]" /><span>Keep arguments that look like secrets<span class="label block">otherwise they are masked in the take</span></span></label>
  </section>
  <section v-if="!exact" class="mt-4" aria-label="Source">
    <label class="flex items-baseline gap-2"><input v-model="terms.source" type="checkbox" class="accent-ink translate-y-[1px]" /><span>Keep the program's source with the take<span class="label block">for the Lines lens, even where the source is not at hand</span></span></label>
  </section>
  <section class="mt-4" aria-label="Units of work">
    <h2 class="label mb-1">Units of work, for a cost per unit</h2>
    <label class="flex items-center gap-2"><input v-model.number="terms.work" type="number" min="0" step="any" class="field w-[84px]" aria-label="Units of work" /><span class="label">{{ terms.work ? '' : 'unknown' }}</span></label>
    <template v-if="kind === 'command' && !exact">
      <label class="mt-1.5 block"><span class="label">or a number from its output, in brackets</span><input v-model="terms.workFrom" class="field code mt-0.5 w-full" placeholder="^([0-9]+) scores" spellcheck="false" aria-label="Units of work from the output" /></label>
      <label class="mt-3 flex items-baseline gap-2"><input v-model="terms.bare" type="checkbox" class="accent-ink translate-y-[1px]" /><span>Also run it without sampling<span class="label block">five times, alternating with sampled runs; the take then says what sampling costs</span></span></label>
    </template>
  </section>
</template>
