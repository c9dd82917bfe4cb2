import { computed, inject, provide, type ComputedRef, type InjectionKey } from 'vue'
import type { Measure } from '../api/client'
import { amount } from '../lib/format'

const key: InjectionKey<ComputedRef<Measure>> = Symbol('measure')
const plain: Measure = { name: 'cpu', label: 'CPU time', unit: 'ns', counted: false, total: 0 }

/** Says to all components below which measure their figures are of. */
export function provideMeasure(measure: ComputedRef<Measure | undefined>) {
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
  return { measure, figure: (v: number) => amount(v, measure.value.unit) }
}
