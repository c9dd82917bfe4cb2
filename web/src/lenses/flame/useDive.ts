import { usePreferredReducedMotion } from '@vueuse/core'
import { ref } from 'vue'
import { type View, whole } from '../../lib/geometry'

const length = 32 // ms; nobody waits for a movement

/** The part of the flame that is in view, moving smoothly from one to the next. */
export function useDive(repaint: () => void) {
  const motion = usePreferredReducedMotion()
  const view = ref<View>(whole)
  let run = 0

  function jump(to: View) {
    run++
    view.value = to
    repaint()
  }

  /** Moves to a part and then calls done, which may replace the drawing. */
  function move(to: View, done: () => void) {
    const mine = ++run
    if (motion.value === 'reduce') {
      view.value = to
      done()
      return
    }
    const from = view.value
    const start = performance.now()
    const frame = (now: number) => {
      if (mine !== run) return
      const t = Math.min(1, (now - start) / length)
      const s = 1 - (1 - t) ** 3
      view.value = { left: from.left + (to.left - from.left) * s, right: from.right + (to.right - from.right) * s }
      repaint()
      if (t < 1) requestAnimationFrame(frame)
      else done()
    }
    requestAnimationFrame(frame)
  }

  return { view, jump, move }
}
