const hatches = new Map<string, CanvasPattern | null>()

/** Fine diagonal lines, made once a colour and a pixel ratio. */
export function hatch(ctx: CanvasRenderingContext2D, colour: string): CanvasPattern | null {
  const ratio = ctx.getTransform().a
  const key = colour + ratio
  if (!hatches.has(key)) {
    const tile = document.createElement('canvas')
    tile.width = tile.height = Math.round(6 * ratio)
    const t = tile.getContext('2d')!
    t.scale(ratio, ratio)
    t.strokeStyle = colour
    t.lineWidth = 0.8
    t.beginPath()
    for (const d of [-6, 0, 6]) {
      t.moveTo(d, 6)
      t.lineTo(d + 6, 0)
    }
    t.stroke()
    const pattern = ctx.createPattern(tile, 'repeat')
    pattern?.setTransform(new DOMMatrix().scale(1 / ratio))
    hatches.set(key, pattern)
  }
  return hatches.get(key)!
}
