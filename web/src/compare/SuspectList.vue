<script setup lang="ts">
import { computed } from 'vue'
import type { Comparison, Suspect } from '../api/client'
import { count, percent, signed } from '../lib/format'
import { useFigures } from './useFigures'

/** What explains the difference, the most of it first. */
const props = defineProps<{ d: Comparison; focus: string; chosen: number }>()
const emit = defineEmits<{ choose: [at: number] }>()
const { difference, factor } = useFigures()
const byNumber = computed(() => new Map(props.d.rows.map((r) => [r.number, r])))
const row = (n: number) => byNumber.value.get(n)
const own = ['own', 'interpreter', 'jit']
function caller(s: Suspect): string {
  const above = s.path.slice(0, -1).reverse()
  const at = above.find((n) => own.includes(row(n)?.kind ?? '')) ?? above[0]
  return at === undefined ? '' : (row(at)?.short ?? '')
}
const itself = (s: Suspect) => s.counts.some((c) => c.itself)
const times = (x: number) => (x >= 100 || Number.isInteger(x) ? count(x) : x.toFixed(1))
/** The calls that were counted; shares of the total have no number of calls. */
function calls(c: Suspect['counts'][number]): string {
  const change = c.baseline && c.candidate ? factor(c.candidate / c.baseline) : c.candidate ? 'new' : 'gone'
  return `${c.itself ? 'calls' : 'calls of ' + (row(c.function)?.short ?? '')}: ${props.d.scale === 'share' ? '' : `${times(c.baseline)} → ${times(c.candidate)}, `}${change}, counted`
}
const told = (s: Suspect) => s.estimate.verdict === 'slower' || s.estimate.verdict === 'faster'
const words: Record<string, (s: Suspect) => string> = {
  'own code': (s) => `its own code${s.enters ? ', ' + factor(s.enters) : ''}`,
  'called more often': (s) => (itself(s) ? `${factor(s.enters)}: it runs more often` : `all its parts, ${factor(s.enters)}: it runs more often, or has more to do`),
  'called less often': (s) => (itself(s) ? `${factor(s.enters)}: it runs less often` : `all its parts, ${factor(s.enters)}: it runs less often, or has less to do`),
  'more per call': (s) => `all its parts, ${factor(s.enters)}: each call does more`,
  'less per call': (s) => `all its parts, ${factor(s.enters)}: each call does less`,
  callees: (s) => `what it calls${s.enters ? ', ' + factor(s.enters) : ''}${row(s.via) ? ', mostly in ' + row(s.via)!.short : ''}`,
  new: () => 'new',
  gone: () => 'gone',
  moved: () => 'moved here from another caller',
  'inlined now': () => 'inlined into its caller now',
  'inlined no longer': () => 'inlined into its caller no longer',
  'done differently': (s) => `${factor(s.enters)}, done differently: ${row(s.via)?.state === 'gone' ? 'no longer by' : 'by'} ${row(s.via)?.short ?? ''}`,
  throughout: (s) => `everything by one factor, ${factor(s.enters)}`,
}
</script>

<template>
  <section class="flex h-full min-h-0 flex-col" aria-label="Suspects">
    <h2 class="label flex h-[30px] shrink-0 items-center border-b border-rule px-3">What explains the difference</h2>
    <div class="min-h-0 flex-1 overflow-y-auto">
      <button
        v-for="(s, i) in d.suspects"
        :key="i"
        data-test="suspect"
        class="block w-full border-b border-l-[3px] border-transparent border-b-rule px-2.5 pt-1.5 pb-2 text-left hover:bg-wash"
        :class="[i === chosen && 'bg-wash', s.path.length && row(s.path.at(-1)!)?.name === focus && '!border-l-focus bg-focus-wash']"
        :aria-pressed="i === chosen"
        @click="emit('choose', i)"
      >
        <span class="flex items-baseline gap-2">
          <b class="min-w-[48px] shrink-0 text-right text-[15px] font-medium" :class="!told(s) ? 'text-ink-3' : s.estimate.difference > 0 ? 'text-plum' : 'text-teal'">{{ signed(percent(s.share, 0), s.share) }}</b>
          <span class="code end-kept min-w-0 flex-1" :title="s.path.length ? row(s.path.at(-1)!)?.name : ''"><bdi dir="ltr">{{ s.path.length ? row(s.path.at(-1)!)?.short : 'the whole program' }}</bdi></span>
        </span>
        <span class="mt-1 block h-[3px] bg-rule"><span class="block h-full" :class="!told(s) ? 'bg-rule-strong' : s.estimate.difference > 0 ? 'bg-plum' : 'bg-teal'" :style="{ width: Math.min(100, Math.abs(s.share) * 100) + '%' }" /></span>
        <span class="mt-1 block text-[12px] leading-[16px] text-ink-2">{{ (words[s.why] ?? (() => s.why))(s) }}<template v-if="caller(s)">, under {{ caller(s) }}</template></span>
        <span v-for="c in s.counts" :key="c.function" data-test="calls" class="block text-[12px] leading-[16px] text-ink-2">{{ calls(c) }}</span>
        <span v-if="s.by_calls || s.by_each" data-test="split" class="block text-[12px] leading-[16px] text-ink-2"><span class="whitespace-nowrap">{{ difference(s.by_calls) }}</span> by the number of calls, <span class="whitespace-nowrap">{{ difference(s.by_each) }}</span> by the cost of a call</span>
        <span class="block text-[12px] leading-[16px]">{{ difference(s.estimate.difference) }} <span v-if="s.estimate.low !== s.estimate.high" class="label">{{ difference(s.estimate.low) }} to {{ difference(s.estimate.high) }}<template v-if="!told(s)">, not significant</template></span></span>
      </button>
      <p v-if="!d.suspects.length" class="p-4 text-ink-2">No difference is large enough to be a suspect.</p>
    </div>
    <p class="label shrink-0 border-t border-rule px-3 py-1">{{ d.calls_counted ? 'Shares of the difference; ranges where runs differ by themselves' : 'Shares of the difference, 95 % intervals' }}</p>
  </section>
</template>
