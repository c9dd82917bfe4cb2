// Durations of spans: a dot each over time, and beside it, on the same logarithmic axis, how many there
// are of each duration.
import type { Spans } from '../../api/client'
import { count, duration } from '../../lib/format'

export interface Range {
  from: number
  to: number
}

export interface Plot {
  width: number
  height: number
  time: Range
  /** What of the durations is shown, as powers of ten. */
  low: number
  high: number
}

export const margin = { left: 62, top: 34, bottom: 20, gap: 14, bars: 150 }

/** How high the drawing of how many ended is, above the dots. */
const rateHigh = 20

/** The dots of a name, by four numbers each. */
export const dotBytes = 4

/** What is shorter stands at the bottom, in nanoseconds: a moment, such as a page that did not have to wait. */
const shortestShown = 100

/** plotOf fits the axes to the spans, with a little room around. */
export function plotOf(of: Spans, width: number, height: number, time: Range): Plot {
  const shortest = Math.max(shortestShown, of.percentiles[1] ?? 1)
  const longest = Math.max(shortest, of.percentiles.at(-1) ?? 1)
  return { width, height, time, low: Math.log10(shortest) - 0.08, high: Math.log10(longest) + 0.08 }
}

const dotsWide = (p: Plot) => Math.max(20, p.width - margin.left - margin.gap - margin.bars)
const tall = (p: Plot) => Math.max(20, p.height - margin.top - margin.bottom)

export const xOf = (p: Plot, at: number) => margin.left + ((at - p.time.from) / Math.max(1, p.time.to - p.time.from)) * dotsWide(p)
export const yOf = (p: Plot, ns: number) => margin.top + (1 - (Math.max(p.low, Math.log10(Math.max(1, ns))) - p.low) / Math.max(1e-9, p.high - p.low)) * tall(p)
export const timeAt = (p: Plot, x: number) => p.time.from + (Math.min(1, Math.max(0, (x - margin.left) / dotsWide(p)))) * (p.time.to - p.time.from)
export const durationAt = (p: Plot, y: number) => 10 ** (p.low + (1 - Math.min(1, Math.max(0, (y - margin.top) / tall(p)))) * (p.high - p.low))
export const barsFrom = (p: Plot) => margin.left + dotsWide(p) + margin.gap

/** The dot that is nearest to a place, within a few pixels; -1: there is none. */
export function dotAt(of: Spans, p: Plot, x: number, y: number): number {
  let best = -1
  let near = 81
  for (let i = 0; i < of.dots.length; i += dotBytes) {
    const d = (xOf(p, of.dots[i]) - x) ** 2 + (yOf(p, of.dots[i + 1]) - y) ** 2
    if (d < near) [best, near] = [i / dotBytes, d]
  }
  return best
}

/** Durations with one digit that lie on the axis: 1, 2 and 5 of each power, or powers alone where it is long. */
export function ticks(p: Plot): number[] {
  const out: number[] = []
  const steps = p.high - p.low > 3.2 ? [1] : [1, 2, 5]
  for (let e = Math.floor(p.low); e <= p.high; e++) for (const s of steps) if (Math.log10(s * 10 ** e) >= p.low && Math.log10(s * 10 ** e) <= p.high) out.push(s * 10 ** e)
  return out
}

const themes = {
  light: { paper: 'oklch(0.994 0.003 95)', ink: 'oklch(0.25 0.02 255)', dot: 'oklch(0.42 0.05 255 / 0.55)', bar: 'oklch(0.6 0.04 255)', rule: 'oklch(0.9 0.004 95)', faint: 'oklch(0.53 0.015 255)', focus: 'oklch(0.76 0.16 72)', wash: 'oklch(0.25 0.02 255 / 0.07)' },
  dark: { paper: 'oklch(0.235 0.013 260)', ink: 'oklch(0.93 0.008 95)', dot: 'oklch(0.78 0.05 255 / 0.55)', bar: 'oklch(0.6 0.03 255)', rule: 'oklch(0.31 0.01 260)', faint: 'oklch(0.68 0.012 95)', focus: 'oklch(0.8 0.15 75)', wash: 'oklch(0.93 0.008 95 / 0.1)' },
}

export interface Marks {
  chosen: number // a dot; -1: none
  selected?: { time: Range; ns: Range }
  dark: boolean
}

const rateText = (v: number) => (v >= 100 ? count(Math.round(v)) : v.toPrecision(2))

/** How many spans ended in each part of the take, above the dots. */
function rate(ctx: CanvasRenderingContext2D, of: Spans, p: Plot, c: (typeof themes)['light'], right: number) {
  const most = Math.max(1, ...of.rate)
  const part = of.duration_ns / Math.max(1, of.rate.length)
  ctx.fillStyle = c.bar
  of.rate.forEach((n, i) => {
    const x0 = Math.max(margin.left, xOf(p, i * part))
    const x1 = Math.min(right, xOf(p, (i + 1) * part))
    if (n && x1 > x0) ctx.fillRect(x0, 4 + rateHigh * (1 - n / most), Math.max(1, x1 - x0 - 0.5), rateHigh * (n / most))
  })
  ctx.fillStyle = c.ink
  ctx.fillRect(margin.left, 4 + rateHigh, right - margin.left, 1)
  ctx.fillStyle = c.faint
  ctx.textAlign = 'right'
  ctx.fillText('ended', margin.left - 6, 4 + rateHigh / 2)
  ctx.textAlign = 'left'
  ctx.fillText(`at most ${rateText(most / (part / 1e9))} / s`, right + margin.gap, 4 + rateHigh / 2)
}

/** Draws it. */
export function paint(ctx: CanvasRenderingContext2D, of: Spans, p: Plot, m: Marks) {
  const c = m.dark ? themes.dark : themes.light
  ctx.fillStyle = c.paper
  ctx.fillRect(0, 0, p.width, p.height)
  ctx.font = '10.5px "Spline Sans Variable", system-ui, sans-serif'
  ctx.textBaseline = 'middle'
  const right = margin.left + dotsWide(p)
  const bottom = margin.top + tall(p)
  for (const ns of ticks(p)) {
    const y = Math.round(yOf(p, ns))
    ctx.fillStyle = c.rule
    ctx.fillRect(margin.left, y, p.width - margin.left, 1)
    ctx.fillStyle = c.faint
    ctx.textAlign = 'right'
    ctx.fillText(duration(ns), margin.left - 6, y)
  }
  rate(ctx, of, p, c, right)
  if (m.selected) {
    ctx.fillStyle = c.wash
    const [a, b] = [xOf(p, m.selected.time.from), xOf(p, m.selected.time.to)]
    const [u, v] = [yOf(p, m.selected.ns.to), yOf(p, m.selected.ns.from)]
    ctx.fillRect(a, u, Math.max(1, b - a), Math.max(1, v - u))
    ctx.fillRect(barsFrom(p), u, margin.bars, Math.max(1, v - u))
  }
  // How many of each duration, from the left edge of their own drawing.
  let most = 1
  for (let i = 0; i < of.buckets.length; i += 3) most = Math.max(most, of.buckets[i + 2])
  ctx.fillStyle = c.bar
  for (let i = 0; i < of.buckets.length; i += 3) {
    if (!of.buckets[i + 2]) continue
    const [top, low] = [yOf(p, of.buckets[i + 1]), yOf(p, Math.max(1, of.buckets[i]))]
    // One among many is still seen.
    ctx.fillRect(barsFrom(p), top + 0.5, Math.max(2, (of.buckets[i + 2] / most) * (margin.bars - 4)), Math.max(1, low - top - 1))
  }
  ctx.fillStyle = c.dot
  for (let i = 0; i < of.dots.length; i += dotBytes) {
    const x = xOf(p, of.dots[i])
    if (x < margin.left - 2 || x > right + 2) continue
    const y = yOf(p, of.dots[i + 1])
    if (of.dots[i + 3]) ctx.fillRect(x - 1, y - 3, 2, 6) // without an end
    else ctx.fillRect(x - 1.5, y - 1.5, 3, 3)
  }
  // The middle one and the slowest hundredth.
  ctx.textAlign = 'left'
  for (const [share, text] of [[500, 'median'], [990, '99 %']] as const) {
    const at = of.percentiles.findIndex((v, i) => i % 2 === 0 && v === share)
    if (at < 0) continue
    const y = yOf(p, of.percentiles[at + 1])
    ctx.fillStyle = c.ink
    for (let x = margin.left; x < p.width; x += 6) ctx.fillRect(x, Math.round(y), 3, 1)
    const wide = ctx.measureText(text).width
    ctx.fillStyle = c.paper // over a bar
    ctx.fillRect(p.width - wide - 10, y - 14, wide + 6, 13)
    ctx.fillStyle = c.ink
    ctx.fillText(text, p.width - wide - 7, y - 7)
  }
  if (m.chosen >= 0) {
    ctx.strokeStyle = c.focus
    ctx.lineWidth = 2
    ctx.strokeRect(xOf(p, of.dots[m.chosen * dotBytes]) - 5, yOf(p, of.dots[m.chosen * dotBytes + 1]) - 5, 10, 10)
  }
  ctx.fillStyle = c.ink
  ctx.fillRect(margin.left, bottom, dotsWide(p), 1)
  ctx.fillRect(barsFrom(p), margin.top, 1, tall(p))
  ctx.textBaseline = 'middle'
  const ends = [p.time.from, p.time.to]
  ends.forEach((t, i) => {
    ctx.textAlign = i ? 'right' : 'left'
    ctx.fillText(`${(t / 1e9).toFixed(3)} s`, i ? right : margin.left, bottom + 11)
  })
  ctx.textAlign = 'left'
  ctx.fillText('spans', barsFrom(p), bottom + 11)
}
