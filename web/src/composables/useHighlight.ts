import { shallowRef, triggerRef, watch, type Ref } from 'vue'
import { highlight, type Piece } from '../lib/highlight'

/** The lines of a file in pieces with colours; a line that is not coloured yet, or not at all, is absent. */
export function useHighlight(lines: Ref<string[]>, file: Ref<string>) {
  const pieces = shallowRef<Piece[][]>([])
  watch(
    [lines, file],
    ([text, name], _, onCleanup) => {
      let stopped = false
      onCleanup(() => (stopped = true))
      pieces.value = []
      const keep = (from: number, part: Piece[][]) => {
        if (stopped) return
        part.forEach((p, i) => (pieces.value[from + i] = p))
        triggerRef(pieces)
      }
      // Without colours the text is still there.
      highlight(text, name, keep, () => stopped).catch((e: unknown) => console.warn('Syntax colours are not available:', e))
    },
    { immediate: true },
  )
  return pieces
}
