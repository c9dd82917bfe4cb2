import { useDebounceFn } from '@vueuse/core'
import { computed, ref, watch, type Ref } from 'vue'
import type { ScopePart } from '../../api/client'
import { useAddress } from '../../composables/useAddress'
import { moved, type View, zoomed } from './layout'

/** Which part of the time one looks at. It stands in the address, which waits while it moves. */
export function useView(take: Ref<string>, duration: Ref<number | undefined>, time: Ref<ScopePart | undefined>) {
  const { text, change } = useAddress()
  const stands = text('when') // "from-to" in nanoseconds
  const view = ref<View>({ from: 0, to: 0 })
  const whole = computed<View>(() => ({ from: 0, to: Math.max(1, duration.value ?? 1) }))
  function begin() {
    const [from, to] = stands.value.split('-').map(Number)
    const t = time.value
    if (to > from) view.value = { from, to: Math.min(to, whole.value.to) }
    else if (t && (t.from_ns || t.to_ns)) view.value = { from: t.from_ns ?? 0, to: t.to_ns || whole.value.to }
    else view.value = { ...whole.value }
  }
  watch([take, () => duration.value !== undefined], () => duration.value !== undefined && begin(), { immediate: true })
  const note = useDebounceFn((v: View) => change({ when: v.from === 0 && v.to === whole.value.to ? undefined : `${v.from}-${v.to}` }), 250)
  function look(v: View) {
    view.value = v
    void note(v)
  }
  const span = () => view.value.to - view.value.from
  return {
    view,
    whole,
    look,
    zoom: (factor: number, about: number) => look(zoomed(view.value, factor, about, whole.value.to)),
    /** Moves by a share of what is in view. */
    pan: (share: number) => look(moved(view.value, share * span(), whole.value.to)),
    /** Brings a time into view. */
    reach(at: number) {
      if (at < view.value.from || at > view.value.to) look(moved(view.value, at - (view.value.from + view.value.to) / 2, whole.value.to))
    },
  }
}
