import { keepPreviousData, useQueries, useQuery } from '@tanstack/vue-query'
import { computed, shallowRef, watch, type Ref } from 'vue'
import type { Lanes } from '../../api/client'
import { lanes as asking } from '../questions'
import type { LensProps } from '../registry'
import type { Drawn } from './describe'
import { fetched, type Line, type View } from './layout'

/** Which lanes there are; how long the take is comes with them. */
export function useLanes(props: LensProps) {
  return useQuery(computed(() => ({ ...asking(props.takeKey, props.range, { begin: 0, end: 1, parts: 1, first: 0, count: 0, open: '', bare: false }), placeholderData: keepPreviousData })))
}

const block = 24 // lanes that are asked for at a time

/** The rows of the lanes that are shown, over more time than is in view, so that moving about does not ask anew each time. */
export function useRows(props: LensProps, data: Ref<Lanes | undefined>, of: { view: Ref<View>; whole: Ref<View>; width: Ref<number>; open: Ref<Set<number>>; shown: Ref<Line[]>; depths: Map<number, number> }) {
  const parts = computed(() => Math.min(4000, Math.ceil(of.width.value / 64) * 64 * 4))
  const blocks = computed(() => [...new Set(of.shown.value.filter((l) => l.lane >= 0).map((l) => Math.floor(l.lane / block)))])
  const stretch = computed(() => fetched(of.view.value, of.whole.value.to))
  const rows = useQueries({
    queries: computed(() => {
      const lanes = data.value?.lanes
      if (!lanes || of.view.value.to <= of.view.value.from) return []
      return blocks.value.map((b) => {
        const ids = lanes.slice(b * block, (b + 1) * block).map((l) => l.id).filter((id) => of.open.value.has(id))
        return asking(props.takeKey, props.range, { begin: stretch.value.from, end: stretch.value.to, parts: parts.value, first: b * block, count: block, open: ids.join(','), bare: true })
      })
    }),
  })
  // What came last of each block is drawn until what was asked for comes.
  const got = shallowRef(new Map<number, Lanes>())
  watch(rows, (all) => {
    const next = new Map(got.value)
    all.forEach((q, i) => q.data && next.set(blocks.value[i], q.data))
    got.value = next
    for (const d of next.values())
      d.rows.forEach((r, i) => {
        const id = data.value?.lanes[d.first + i]?.id
        if (id === undefined || !r.bars.length) return
        let deepest = 0
        for (let k = 2; k < r.bars.length; k += 6) deepest = Math.max(deepest, r.bars[k] + 1)
        of.depths.set(id, deepest)
      })
  })
  watch([() => props.takeKey, () => props.range.scope], () => (got.value = new Map()))

  function drawn(line: Line): Drawn | undefined {
    const d = got.value.get(Math.floor(line.lane / block))
    const row = d?.rows[line.lane - d.first]
    return d && row && { row, begin: d.from_ns, functions: d.functions, names: d.span_names }
  }
  return { got, drawn, busy: computed(() => rows.value.some((r) => r.isFetching)), failed: computed(() => rows.value.find((r) => r.error)?.error ?? null) }
}
