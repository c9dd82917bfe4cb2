import { useElementSize, useEventListener } from '@vueuse/core'
import { computed, ref, watch, type Ref } from 'vue'

type Size = { width: number; height: number }

/** How much further in than its own size a drawing can be looked at. */
const nearest = 4
/** By how much one step zooms. */
const step = 1.3

/**
 * A drawing in a box: it fits its room when it opens, and can be zoomed about a point and
 * moved. `viewBox` is for the SVG, which fills the box.
 */
export function useZoom(box: Ref<HTMLElement | undefined>, drawing: Ref<Size | undefined>) {
  const room = useElementSize(box)
  const scale = ref(1) // pixels for each unit of the drawing
  const centre = ref({ x: 0, y: 0 }) // in units of the drawing
  const fitted = ref(true)
  const whole = computed(() => {
    const d = drawing.value
    if (!d || !room.width.value || !room.height.value) return 1
    return Math.min(1.25, room.width.value / d.width, room.height.value / d.height)
  })
  function fit() {
    const d = drawing.value
    if (!d) return
    ;[scale.value, centre.value, fitted.value] = [whole.value, { x: d.width / 2, y: d.height / 2 }, true]
  }
  watch(drawing, fit)
  watch([whole, box], () => fitted.value && fit(), { immediate: true })

  const viewBox = computed(() => {
    const [w, h] = [room.width.value / scale.value, room.height.value / scale.value]
    return `${centre.value.x - w / 2} ${centre.value.y - h / 2} ${w} ${h}`
  })
  /** Zooms by a factor about a point of the drawing, by default the middle of the view. */
  function zoom(factor: number, about = centre.value) {
    const to = Math.min(nearest, Math.max(Math.min(1, whole.value), scale.value * factor))
    const by = scale.value / to
    centre.value = { x: about.x + (centre.value.x - about.x) * by, y: about.y + (centre.value.y - about.y) * by }
    ;[scale.value, fitted.value] = [to, to === whole.value]
    if (fitted.value) fit()
  }
  /** Where in the drawing a pointer is. */
  function at(e: MouseEvent) {
    const r = box.value!.getBoundingClientRect()
    return { x: centre.value.x + (e.clientX - r.left - r.width / 2) / scale.value, y: centre.value.y + (e.clientY - r.top - r.height / 2) / scale.value }
  }
  /** Brings a point of the drawing to the middle. */
  function show(x: number, y: number) {
    ;[centre.value, fitted.value] = [{ x, y }, false]
  }

  useEventListener(box, 'wheel', (e: WheelEvent) => {
    e.preventDefault()
    zoom(Math.exp(-e.deltaY * (e.deltaMode ? 0.05 : 0.002)), at(e))
  }, { passive: false })
  // A press that does not move is a click, on what is drawn there.
  let from: { x: number; y: number; moved: boolean } | undefined
  useEventListener(box, 'pointerdown', (e: PointerEvent) => {
    if (e.button === 0) from = { x: e.clientX, y: e.clientY, moved: false }
  })
  useEventListener(box, 'pointermove', (e: PointerEvent) => {
    if (!from) return
    const [dx, dy] = [e.clientX - from.x, e.clientY - from.y]
    if (!from.moved && Math.hypot(dx, dy) < 4) return
    if (!from.moved) box.value!.setPointerCapture(e.pointerId)
    from = { x: e.clientX, y: e.clientY, moved: true }
    show(centre.value.x - dx / scale.value, centre.value.y - dy / scale.value)
  })
  useEventListener(box, ['pointerup', 'pointercancel'], () => (from = undefined))

  return { scale, viewBox, fitted, fit, show, closer: (about = centre.value) => zoom(step, about), further: (about = centre.value) => zoom(1 / step, about) }
}
