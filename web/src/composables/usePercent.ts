import { computed, inject, provide, type ComputedRef, type InjectionKey, type Ref } from 'vue'
import { amount, percent } from '../lib/format'
import { useMeasure } from './useMeasure'

export type Mode = 'scope' | 'whole' | 'parent' | 'none'
export const modes: { value: Mode; text: string }[] = [
  { value: 'scope', text: '% of what is in scope' },
  { value: 'whole', text: '% of the whole take' },
  { value: 'parent', text: '% of the step above' },
  { value: 'none', text: 'plain figures' },
]

type Percent = { mode: ComputedRef<Mode>; scope: ComputedRef<number>; whole: ComputedRef<number> }
const key: InjectionKey<Percent> = Symbol('percent')

/** Says to all components below what 100 % is. */
export function providePercent(mode: Ref<string>, scope: ComputedRef<number>, whole: ComputedRef<number>) {
  provide(key, { mode: computed(() => (modes.some((m) => m.value === mode.value) ? (mode.value as Mode) : 'scope')), scope, whole })
}

/** How a value is written: as a share of what was chosen, or in its unit. */
export function usePercent() {
  const { measure } = useMeasure()
  const p = inject(key, { mode: computed<Mode>(() => 'scope'), scope: computed(() => 0), whole: computed(() => 0) })
  function of(value: number, o: { parent?: number; scope?: number; digits?: number } = {}): string {
    const scope = o.scope ?? p.scope.value
    switch (p.mode.value) {
      case 'none':
        return amount(value, measure.value.unit)
      case 'whole':
        return percent(value / (p.whole.value || 1), o.digits ?? 1)
      case 'parent':
        return percent(value / ((o.parent ?? scope) || 1), o.digits ?? 1)
    }
    return percent(value / (scope || 1), o.digits ?? 1)
  }
  return { mode: p.mode, of }
}
