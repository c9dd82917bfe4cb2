import { inkOf } from '../../lib/palette'
import { canvasText } from '../../lib/canvasText'
import { hatch } from '../../lib/hatch'
import { type Geometry, rowHeight, type View } from '../../lib/geometry'

export type Look = {
  dark: boolean
  up: boolean
  focus: string // full name of the function in focus
  walked: number // position that the keyboard is on, -1 if none
  hovered: number
  pins: Set<string> // full names: these have a dark upper edge, and are never too thin to see
  matches: Set<number> | null // identifiers of functions that a search found
  label: (i: number) => string
}

type Colours = { paper: string; ink: string; faint: string; band: string; focus: string; outline: string }

const themes: Record<'light' | 'dark', Colours> = {
  light: { paper: 'oklch(0.994 0.003 95)', ink: 'oklch(0.25 0.02 255)', faint: 'oklch(0.53 0.015 255)', band: 'oklch(0.935 0.004 95)', focus: 'oklch(0.76 0.16 72)', outline: 'oklch(0.25 0.02 255)' },
  dark: { paper: 'oklch(0.235 0.013 260)', ink: 'oklch(0.93 0.008 95)', faint: 'oklch(0.68 0.012 95)', band: 'oklch(0.29 0.006 260)', focus: 'oklch(0.8 0.15 75)', outline: 'oklch(0.95 0.008 95)' },
}

const font = '11.5px "Spline Sans Variable", system-ui, sans-serif'

/** Draws the rows that can be seen, at a height in pixels scrolled by `scroll`. */
export function paint(ctx: CanvasRenderingContext2D, g: Geometry, view: View, size: { width: number; height: number }, scroll: number, look: Look) {
  const c = look.dark ? themes.dark : themes.light
  ctx.fillStyle = c.paper
  ctx.fillRect(0, 0, size.width, size.height)
  ctx.font = font
  ctx.textBaseline = 'middle'
  const f = g.flame
  const from = view.left * g.span
  const scale = size.width / ((view.right - view.left) * g.span)
  const focused: [number, number, number][] = []
  for (let row = 0; row < g.rows; row++) {
    const y = (look.up ? size.height - (row + 1) * rowHeight : row * rowHeight) + (look.up ? scroll : -scroll)
    if (y + rowHeight < 0 || y > size.height) continue
    const [begin, end] = g.row(row)
    for (let i = begin; i < end; i++) {
      let x0 = (f.x[i] - from) * scale
      let x1 = x0 + f.width[i] * scale
      if (x1 < 0 || x0 > size.width) continue
      x0 = Math.max(x0, -1)
      x1 = Math.min(x1, size.width + 1)
      const pinned = !f.hidden[i] && look.pins.size > 0 && look.pins.has(f.functions[f.function[i]].name)
      const w = Math.max(x1 - x0 - 1, pinned ? 2.5 : 0.6)
      drawFrame(ctx, g, i, x0, y, w, look, c)
      if (pinned) {
        ctx.fillStyle = c.ink
        ctx.fillRect(x0, y, w, 2.5)
      }
      if (!f.hidden[i] && look.focus && f.functions[f.function[i]].name === look.focus) focused.push([x0, y, w])
    }
  }
  // The focus goes on top, so that no neighbour hides its edge.
  ctx.strokeStyle = c.focus
  ctx.lineWidth = 2
  for (const [x, y, w] of focused) {
    if (w > 3) ctx.strokeRect(x + 1, y + 1, w - 2, rowHeight - 3)
    else {
      ctx.fillStyle = c.focus
      ctx.fillRect(x, y, Math.max(w, 1.5), rowHeight - 1)
    }
  }
  outline(ctx, g, look.walked, from, scale, size, scroll, look, c, [3, 2])
  outline(ctx, g, look.hovered, from, scale, size, scroll, look, c, [])
}

function drawFrame(ctx: CanvasRenderingContext2D, g: Geometry, i: number, x: number, y: number, w: number, look: Look, c: Colours) {
  const f = g.flame
  const h = rowHeight - 1
  if (f.hidden[i]) {
    ctx.fillStyle = c.band
    ctx.fillRect(x, y, w, h)
    if (w > 40) {
      const text = canvasText(ctx, look.label(i), w - 12)
      ctx.fillStyle = c.faint
      ctx.fillText(text, x + 6, y + h / 2 + 0.5)
    }
    return
  }
  const fn = f.functions[f.function[i]]
  const faded = look.matches !== null && f.node[i] !== 0 && !look.matches.has(fn.id)
  const ink = inkOf(f.node[i] === 0 ? 'unknown' : fn.kind, fn.area, look.dark, f.node[i] === 0 || fn.runs === 'native')
  ctx.globalAlpha = faded ? 0.28 : 1
  ctx.fillStyle = ink.fill
  ctx.fillRect(x, y, w, h)
  if (w > 3) {
    if (ink.hatch) {
      const p = hatch(ctx, ink.edge)
      if (p) {
        ctx.fillStyle = p
        ctx.fillRect(x, y, w, h)
      }
    }
    ctx.fillStyle = ink.edge
    ctx.fillRect(x, y + h - 1, w, 1)
    if (ink.dotted) {
      ctx.fillStyle = ink.fill
      for (let d = x; d < x + w; d += 4) ctx.fillRect(d, y + h - 1, 2, 1)
    }
    if (f.inlined[i]) {
      // A notch cut into the left edge: this code stands inside its caller.
      ctx.fillStyle = c.paper
      ctx.beginPath()
      ctx.moveTo(x, y + h / 2 - 4)
      ctx.lineTo(x + 4, y + h / 2)
      ctx.lineTo(x, y + h / 2 + 4)
      ctx.fill()
    }
  }
  if (w > 24) {
    const pad = f.inlined[i] ? 8 : 5
    const text = canvasText(ctx, look.label(i), w - pad - 4)
    if (text) {
      if (ink.hatch) {
        ctx.fillStyle = ink.fill
        ctx.fillRect(x + pad - 2, y + 2, ctx.measureText(text).width + 4, h - 5)
      }
      ctx.fillStyle = ink.text
      ctx.fillText(text, x + pad, y + h / 2)
    }
  }
  ctx.globalAlpha = 1
}

function outline(ctx: CanvasRenderingContext2D, g: Geometry, i: number, from: number, scale: number, size: { width: number; height: number }, scroll: number, look: Look, c: Colours, dash: number[]) {
  if (i < 0 || i >= g.flame.x.length) return
  const row = g.flame.depth[i]
  const y = (look.up ? size.height - (row + 1) * rowHeight + scroll : row * rowHeight - scroll)
  const x = (g.flame.x[i] - from) * scale
  ctx.strokeStyle = c.outline
  ctx.lineWidth = 1.2
  // Inside the edge of the focus, where the frame has one.
  const f = g.flame
  const inset = look.focus && !f.hidden[i] && f.functions[f.function[i]].name === look.focus ? 2.5 : 0.5
  ctx.setLineDash(dash)
  const left = Math.max(x, 0)
  ctx.strokeRect(left + inset, y + inset, Math.max(Math.min(x + f.width[i] * scale, size.width) - left - 1 - 2 * inset, 1), rowHeight - 1 - 2 * inset)
  ctx.setLineDash([])
}
