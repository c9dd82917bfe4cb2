import { inject, provide, type ComputedRef, type InjectionKey } from 'vue'
import type { Comparison, Estimate } from '../api/client'
import { amount, percent, signed } from '../lib/format'

const key: InjectionKey<ComputedRef<Comparison | undefined>> = Symbol('comparison')

/** Says to all components below what their figures are figures of. */
export function provideComparison(d: ComputedRef<Comparison | undefined>) {
  provide(key, d)
}

/** How figures of a comparison are written. */
export function useFigures(own?: ComputedRef<Comparison | undefined>) {
  const d = own ?? inject(key)!
  const unit = () => d.value?.measure.unit ?? 'ns'
  const shares = () => d.value?.unit === 'share'
  const figure = (v: number) => (shares() ? percent(v, 2) : amount(v, unit()))
  /** A difference of shares is in points, not in percent. */
  const difference = (v: number) => signed(shares() ? (100 * v).toFixed(2).replace('-', '−') + '\u00a0points' : figure(v), v)
  const factor = (r: number) => (r === 0 ? '' : '×' + (r < 10 ? r.toFixed(2) : r.toFixed(0)))
  /** A ratio as a change with its interval, where there is one to see: "+75 % (+52 to +101)". */
  function change(e: Estimate): string {
    if (!e.baseline) return ''
    const p = (r: number) => signed((100 * (r - 1)).toFixed(Math.abs(r - 1) < 0.0995 ? 1 : 0).replace('-', '−'), r - 1)
    return `${p(e.ratio)}\u00a0%` + (e.ratio_high && p(e.ratio_low) !== p(e.ratio_high) ? ` (${p(e.ratio_low)} to ${p(e.ratio_high)})` : '')
  }
  return { figure, difference, factor, change, shares }
}

/** A verdict in the words of what is measured: bytes are not slower. */
export function verdictText(verdict: string, unit: string): string {
  if (unit === 'ns') return verdict
  return verdict === 'slower' ? 'costlier' : verdict === 'faster' ? 'cheaper' : verdict
}
