import { useLocalStorage } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { Settings } from '../api/client'
import { words } from '../lib/commandWords'

/** How a take is made, whoever is sampled. */
export type Terms = {
  exact: boolean // a command is run in the emulator, and everything it does is counted
  once: boolean // a single time, so that what varies by itself is not known
  memory: boolean // loads and stores are counted, too
  models: boolean // and caches and the prediction of branches modelled
  caches: string // as SIZE/WAYS/LINE, two of them; '' for this machine's
  inside: string // of an exact run, count only what calls of this function do
  after: number // calls of it that are skipped
  calls: number // calls of it that count; 0 for all that follow
  measures: string[]
  more: string // further measures, as words: tracepoint:sched:sched_process_fork function:slur.Route
  pace: 'rate' | 'budget'
  rate: number // samples a second
  budget: number // accepted slowdown in percent
  seconds: number // 0: until it ends
  keep: string // a scope expression, '' for all samples
  repeat: number
  enough: '' | 'sure' | 'decided' // when a row ends before all its takes are made
  within: number // percent
  most: number | '' // takes, or pairs, that such a row has at most; '' for what is usual
  enoughOf: string // the function that is to be known, '' for the whole
  bare: boolean
  work: number
  workFrom: string
  source: boolean
  workload: string // '' to find it from the command
  secrets: boolean // arguments that look like secrets are kept
}

export const plainTerms: Terms = { exact: false, once: false, memory: false, models: false, caches: '', inside: '', after: 0, calls: 0, measures: ['cpu'], more: '', pace: 'rate', rate: 997, budget: 1, seconds: 0, keep: '', repeat: 1, enough: '', within: 2, most: '', enoughOf: '', bare: false, work: 0, workFrom: '', source: false, workload: '', secrets: false }

// What Vue watches cannot be cloned by the browser's own means.
const copy = <T>(t: T): T => JSON.parse(JSON.stringify(t)) as T

// This machine's caches are known where the command runs.
const modelled = (caches: string) => (caches.trim() ? caches.trim().split(/[\s,]+/) : ['machine', 'machine'])

/** The terms on the page, and those that were used for each program before. */
export function useTakeTerms() {
  const kept = useLocalStorage<Record<string, Partial<Terms>>>('entelon-take-terms', {})
  const last = useLocalStorage<Partial<Terms>>('entelon-take-last-terms', {})
  const terms = ref<Terms>({ ...plainTerms, ...copy(last.value) })
  /** Puts the terms back that a program was sampled with the last time. */
  function recall(program: string) {
    const before = kept.value[program]
    if (before) terms.value = { ...plainTerms, ...copy(before) }
    return before !== undefined
  }
  function remember(program: string) {
    last.value = copy(terms.value)
    if (program) kept.value = { ...kept.value, [program]: copy(terms.value) }
  }
  const measures = computed(() => [...terms.value.measures, ...words(terms.value.more)])
  /** The settings of a take that follow; `launched` adds what only a command can have. */
  function settings(launched: boolean): Settings {
    const t = terms.value
    if (launched && t.exact) return { exact: true, once: t.once || undefined, memory: t.memory || undefined, caches: t.models ? modelled(t.caches) : undefined, ...(t.inside.trim() ? { inside: t.inside.trim(), after: t.after || undefined, calls: t.calls || undefined } : {}), rate_hz: t.rate, for_ns: Math.round(t.seconds * 1e9), work: t.work || undefined, workload: t.workload.trim() || undefined, keep_secrets: t.secrets || undefined }
    return {
      rate_hz: t.rate,
      budget: t.pace === 'budget' ? t.budget / 100 : undefined,
      for_ns: Math.round(t.seconds * 1e9),
      measures: measures.value,
      keep: t.keep || undefined,
      work: t.work || undefined,
      with_source: t.source || undefined,
      workload: t.workload.trim() || undefined,
      keep_secrets: t.secrets || undefined,
      ...(launched ? { bare_first: t.bare || undefined, bare_pairs: t.bare ? 5 : undefined, work_from: t.workFrom || undefined } : {}),
    }
  }
  /** How many takes follow each other, and when they end. */
  function row(): { repeat: number; until?: string } {
    const t = terms.value
    if (t.exact) return { repeat: 1 }
    if (!t.enough) return { repeat: t.repeat }
    return { repeat: t.most || 0, until: `${t.enoughOf.trim()} ${t.enough} ${t.within}%`.trim() }
  }
  return { terms, measures, recall, remember, settings, row }
}
