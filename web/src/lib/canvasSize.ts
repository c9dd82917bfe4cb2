/** Gives a canvas the size that it has on the page, in the screen's own pixels, and returns what draws on it in the page's. */
export function sized(el: HTMLCanvasElement, width: number, height: number): CanvasRenderingContext2D {
  const ratio = devicePixelRatio || 1
  const [w, h] = [Math.round(width * ratio), Math.round(height * ratio)]
  if (el.width !== w || el.height !== h) [el.width, el.height] = [w, h]
  const ctx = el.getContext('2d')!
  ctx.setTransform(ratio, 0, 0, ratio, 0, 0)
  return ctx
}
