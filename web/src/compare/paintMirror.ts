import type { Comparison, CompareRow, Mirror } from '../api/client'
import { canvasText } from '../lib/canvasText'

export const rowHeight = 19
export type Place = { side: 0 | 1; at: number }

type Colours = { paper: string; room: string; ink: string; faint: string; edge: string; focus: string; rule: string }
const themes: Record<'light' | 'dark', Colours> = {
  light: { paper: 'oklch(0.994 0.003 95)', room: 'oklch(0.97 0.004 95)', ink: 'oklch(0.25 0.02 255)', faint: 'oklch(0.53 0.015 255)', edge: 'oklch(0.8 0.008 95)', focus: 'oklch(0.76 0.16 72)', rule: 'oklch(0.45 0.018 255)' },
  dark: { paper: 'oklch(0.235 0.013 260)', room: 'oklch(0.262 0.01 260)', ink: 'oklch(0.93 0.008 95)', faint: 'oklch(0.68 0.012 95)', edge: 'oklch(0.4 0.01 260)', focus: 'oklch(0.8 0.15 75)', rule: 'oklch(0.7 0.012 95)' },
}

/** Plum for costlier, teal for cheaper, paper for unchanged: the more, the stronger. */
export function tint(a: number, b: number, dark: boolean, strength = 1): string {
  if (a === 0 && b === 0) return dark ? 'oklch(0.3 0.004 260)' : 'oklch(0.95 0.004 95)'
  const s = strength * Math.min(1, Math.abs(Math.log((b || a / 8) / (a || b / 8))) / Math.log(4))
  const hue = b > a ? 335 : 195
  const c = s * (b > a ? 0.12 : 0.075)
  return dark ? `oklch(${0.31 + 0.16 * s} ${c} ${hue})` : `oklch(${0.955 - 0.2 * s} ${c} ${hue})`
}

const font = '11px "Spline Sans Variable", system-ui, sans-serif'

export type MirrorLook = { dark: boolean; focus: string; path: Set<number>; hovered?: Place; walked?: Place; width: number; height: number; middle: number; scroll: number; left: number; right: number }

/** Where a frame stands, in pixels. */
export function rect(m: Mirror, p: Place, l: MirrorLook): { x: number; y: number; w: number; fill: number } {
  const scale = l.width / (l.right - l.left)
  const x = (m.x[p.at] - l.left) * scale
  const value = p.side === 0 ? m.baseline[p.at] : m.candidate[p.at]
  const up = p.side === 0
  const y = up ? l.middle - (m.depth[p.at] + 1) * rowHeight + l.scroll : l.middle + m.depth[p.at] * rowHeight + l.scroll
  return { x, y, w: m.slot[p.at] * scale, fill: value * scale }
}

export function paintMirror(ctx: CanvasRenderingContext2D, m: Mirror, rows: Map<number, CompareRow>, d: Comparison, l: MirrorLook) {
  const c = l.dark ? themes.dark : themes.light
  ctx.fillStyle = c.paper
  ctx.fillRect(0, 0, l.width, l.height)
  ctx.font = font
  ctx.textBaseline = 'middle'
  for (const side of [0, 1] as const) {
    for (let i = 0; i < m.x.length; i++) {
      const value = side === 0 ? m.baseline[i] : m.candidate[i]
      const other = side === 0 ? m.candidate[i] : m.baseline[i]
      const r = rect(m, { side, at: i }, l)
      if (r.y + rowHeight < 0 || r.y > l.height || r.x + r.w < 0 || r.x > l.width || r.w < 0.4) continue
      if (value > 0 && r.w - r.fill > 1) {
        // The room that the other side has more: what is on top stands over it.
        ctx.fillStyle = c.room
        ctx.fillRect(Math.max(r.x + r.fill, -1), r.y, Math.min(r.w - r.fill, l.width + 2), rowHeight - 1)
      }
      const x = Math.max(r.x, -1)
      const w = Math.min(r.x + r.fill, l.width + 1) - x - 0.8
      const h = rowHeight - 1
      if (value === 0) {
        // Gone: an open, dashed edge where it stood.
        if (side === 1 && other > 0 && r.w > 4) {
          ctx.strokeStyle = c.faint
          ctx.lineWidth = 0.8
          ctx.setLineDash([3, 2])
          ctx.strokeRect(x + 0.5, r.y + 1.5, Math.min(r.x + r.w, l.width) - x - 2, h - 3)
          ctx.setLineDash([])
        }
        continue
      }
      if (w < 0.3) continue
      ctx.fillStyle = tint(m.baseline[i] * d.steady, m.candidate[i], l.dark)
      ctx.fillRect(x, r.y, w, h)
      if (w > 2) {
        ctx.strokeStyle = l.path.has(i) ? c.ink : c.edge
        ctx.lineWidth = l.path.has(i) ? 1.4 : 0.6
        ctx.strokeRect(x + 0.5, r.y + 0.5, w - 1, h - 1)
        if (other === 0 && w > 6) ctx.strokeRect(x + 2.5, r.y + 2.5, w - 5, h - 5) // new: a double edge
      }
      const row = rows.get(m.function[i])
      const name = row ? row.short : side === 0 ? d.baseline.name : d.candidate.name
      if (w > 22) text(ctx, name, x + 5, r.y + h / 2 + 0.5, w - 9, c.ink)
    }
  }
  ctx.fillStyle = c.rule
  ctx.fillRect(0, l.middle + l.scroll - 1, l.width, 1)
  ctx.lineWidth = 2
  ctx.strokeStyle = c.focus
  for (const side of [0, 1] as const) {
    for (let i = 0; i < m.x.length; i++) {
      if (rows.get(m.function[i])?.name !== l.focus || !(side === 0 ? m.baseline[i] : m.candidate[i])) continue
      const r = rect(m, { side, at: i }, l)
      if (r.x + r.w < 0 || r.x > l.width) continue
      if (r.fill > 4) ctx.strokeRect(r.x + 1, r.y + 1, r.fill - 2.8, rowHeight - 3)
      else {
        ctx.fillStyle = c.focus
        ctx.fillRect(r.x, r.y, Math.max(1.5, r.fill), rowHeight - 1)
      }
    }
  }
  for (const p of [l.walked, l.hovered]) {
    if (!p || p.at >= m.x.length) continue
    ctx.strokeStyle = c.ink
    ctx.lineWidth = 1.2
    ctx.setLineDash(p === l.walked ? [3, 2] : [])
    for (const side of [0, 1] as const) {
      const r = rect(m, { side, at: p.at }, l)
      ctx.strokeRect(r.x + 0.5, r.y + 0.5, Math.max(1, r.fill - 1.8), rowHeight - 2)
    }
    ctx.setLineDash([])
  }
}

function text(ctx: CanvasRenderingContext2D, name: string, x: number, y: number, room: number, ink: string) {
  const shown = canvasText(ctx, name, room)
  if (!shown) return
  ctx.fillStyle = ink
  ctx.fillText(shown, x, y)
}
