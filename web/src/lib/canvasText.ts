import { fitted } from './format'

const widths = new Map<string, Map<string, number>>() // by font and text

function widthOf(ctx: CanvasRenderingContext2D, text: string): number {
  let known = widths.get(ctx.font)
  if (!known) widths.set(ctx.font, (known = new Map()))
  let w = known.get(text)
  if (w === undefined) {
    if (known.size > 20000) known.clear()
    known.set(text, (w = ctx.measureText(text).width))
  }
  return w
}

/** What of a name has room on a canvas: all of it, else its last parts, else how the last one begins; '' for nothing. */
export function canvasText(ctx: CanvasRenderingContext2D, name: string, room: number): string {
  const shown = fitted(name, (t) => widthOf(ctx, t) <= room)
  if (widthOf(ctx, shown) <= room) return shown
  const keep = Math.floor((shown.length * (room - 6)) / widthOf(ctx, shown))
  return keep < 3 ? '' : shown.slice(0, keep) + '…'
}
