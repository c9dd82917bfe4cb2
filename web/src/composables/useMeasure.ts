import { computed, inject, provide, type ComputedRef, type InjectionKey } from 'vue'
import type { Measure } from '../api/client'
import { amount } from '../lib/format'

const key: InjectionKey<ComputedRef<Measure>> = Symbol('measure')
const exactKey: InjectionKey<ComputedRef<boolean>> = Symbol('exact')
const plain: Measure = { name: 'cpu', label: 'CPU time', unit: 'ns', counted: false, total: 0 }

/** Says to all components below which measure their figures are of, and whether a take's rows are counts of an exact run and no samples. */
export function provideMeasure(measure: ComputedRef<Measure | undefined>, exact = computed(() => false)) {
  provide(exactKey, exact)
  provide(
    key,
    computed(() => measure.value ?? plain),
  )
}

/** The measure that figures are of, and how a value of it is written. */
export function useMeasure() {
  const measure = inject(
    key,
    computed(() => plain),
  )
  const exact = inject(
    exactKey,
    computed(() => false),
  )
  return { measure, exact, figure: (v: number) => amount(v, measure.value.unit) }
}
