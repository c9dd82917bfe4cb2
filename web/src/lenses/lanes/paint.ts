import type { LaneRow } from '../../api/client'
import { canvasText } from '../../lib/canvasText'
import { duration } from '../../lib/format'
import { hatch } from '../../lib/hatch'
import { inkOf } from '../../lib/palette'
import type { Drawn } from './describe'
import { axisHeight, barHeight, laneHeight, type Line, marksOf, spanHeight, timeText, type View } from './layout'
import { idle, short, strokes } from './states'

export interface Chosen {
  lane: number // its ID
  from: number
  to: number
  by?: number // ID of the lane that ended it
}

export interface Picture {
  view: View
  width: number
  height: number
  scroll: number
  lines: Line[] // in view
  rowOf: (line: Line) => Drawn | undefined
  idOf: (line: Line) => number
  states: string[]
  focus: string
  dark: boolean
  chosen?: Chosen
  middleOf: (id: number) => number | undefined // height of a lane's state line in the whole drawing
  selected?: View
  tick: number
  steps?: number[] // of a critical path, as the server tells them
}

const themes = {
  light: { paper: 'oklch(0.994 0.003 95)', ink: 'oklch(0.25 0.02 255)', run: 'oklch(0.42 0.05 255)', mid: 'oklch(0.72 0.02 255)', pale: 'oklch(0.9 0.008 255)', rule: 'oklch(0.9 0.004 95)', faint: 'oklch(0.53 0.015 255)', focus: 'oklch(0.76 0.16 72)', wash: 'oklch(0.25 0.02 255 / 0.07)' },
  dark: { paper: 'oklch(0.235 0.013 260)', ink: 'oklch(0.93 0.008 95)', run: 'oklch(0.78 0.05 255)', mid: 'oklch(0.52 0.02 255)', pale: 'oklch(0.34 0.012 260)', rule: 'oklch(0.31 0.01 260)', faint: 'oklch(0.68 0.012 95)', focus: 'oklch(0.8 0.15 75)', wash: 'oklch(0.93 0.008 95 / 0.1)' },
}
type Colours = (typeof themes)['light']

const small = '10.5px "Spline Sans Variable", system-ui, sans-serif'
const stateTop = 7
const stateHeight = 11

/** Draws the axis and the lanes in view. */
export function paint(ctx: CanvasRenderingContext2D, p: Picture) {
  const c = p.dark ? themes.dark : themes.light
  const x = (ns: number) => ((ns - p.view.from) / (p.view.to - p.view.from)) * p.width
  ctx.fillStyle = c.paper
  ctx.fillRect(0, 0, p.width, p.height)
  ctx.font = small
  ctx.textBaseline = 'middle'
  const marks = marksOf(p.view, p.width)
  ctx.fillStyle = c.rule
  for (const t of marks.at) ctx.fillRect(Math.round(x(t)), axisHeight, 1, p.height)
  if (p.selected) {
    ctx.fillStyle = c.wash
    ctx.fillRect(x(p.selected.from), 0, Math.max(1, x(p.selected.to) - x(p.selected.from)), p.height)
  }
  ctx.save()
  ctx.beginPath()
  ctx.rect(0, axisHeight, p.width, p.height - axisHeight)
  ctx.clip()
  for (const line of p.lines) {
    const top = axisHeight + line.top - p.scroll
    ctx.fillStyle = c.rule
    ctx.fillRect(0, Math.round(top + line.height) - 1, p.width, 1)
    if (line.lane < 0) continue
    const got = p.rowOf(line)
    if (!got) continue
    paintStates(ctx, p, c, x, got.row, got.begin, top)
    paintSpans(ctx, p, c, x, got, top + laneHeight)
    if (line.height > line.bars) paintBars(ctx, p, c, x, got, top + line.bars)
    const chosen = p.chosen
    if (chosen && chosen.lane === p.idOf(line)) {
      ctx.strokeStyle = c.ink
      ctx.lineWidth = 2
      ctx.strokeRect(x(chosen.from) - 1, top + stateTop - 3, Math.max(3, x(chosen.to) - x(chosen.from)) + 2, stateHeight + 6)
    }
  }
  if (p.steps) track(ctx, p, c, x, p.steps)
  else link(ctx, p, c, x)
  ctx.restore()
  axis(ctx, p, c, x, marks)
}

function axis(ctx: CanvasRenderingContext2D, p: Picture, c: Colours, x: (ns: number) => number, marks: { step: number; at: number[] }) {
  ctx.fillStyle = c.paper
  ctx.fillRect(0, 0, p.width, axisHeight)
  ctx.fillStyle = c.ink
  ctx.fillRect(0, axisHeight - 1, p.width, 1)
  for (const t of marks.at) {
    ctx.fillRect(Math.round(x(t)), axisHeight - 6, 1, 5)
    const text = timeText(t, marks.step)
    const wide = ctx.measureText(text).width
    ctx.fillText(text, Math.max(2, Math.min(p.width - wide - 2, x(t) - wide / 2)), 9)
  }
}

function paintStates(ctx: CanvasRenderingContext2D, p: Picture, c: Colours, x: (ns: number) => number, row: LaneRow, begin: number, top: number) {
  const y = top + stateTop
  const middle = y + stateHeight / 2
  const runs = row.runs
  const first = p.view.from - begin
  const last = p.view.to - begin
  for (let i = 0; i < runs.length; i += 6) {
    if (runs[i + 1] < first) continue
    if (runs[i] > last) break
    const x0 = Math.max(-2, x(begin + runs[i]))
    const x1 = Math.min(p.width + 2, x(begin + runs[i + 1]))
    const wide = Math.max(0.6, x1 - x0)
    if (runs[i + 3] > 1) {
      band(ctx, p, c, row.spent[runs[i + 5]], x0, y, wide)
      continue
    }
    const state = p.states[runs[i + 2]]
    if (state === 'running') {
      ctx.fillStyle = c.run
      ctx.fillRect(x0, y, wide, stateHeight)
    } else if (state === 'unknown') {
      ctx.fillStyle = c.pale
      ctx.fillRect(x0, middle - 0.5, wide, 1)
    } else if (state === 'ready') {
      ctx.fillStyle = wide < 4 ? c.mid : (hatch(ctx, c.run) ?? c.mid)
      ctx.fillRect(x0, y, wide, stateHeight)
      if (wide >= 4) {
        ctx.strokeStyle = c.run
        ctx.lineWidth = 1
        ctx.strokeRect(x0 + 0.5, y + 0.5, wide - 1, stateHeight - 1)
      }
    } else {
      wait(ctx, c, state, x0, x1, middle)
      const text = `${short[state] ?? state} ${duration(runs[i + 1] - runs[i])}`
      if (wide > 84) {
        const room = Math.min(x1, p.width) - Math.max(x0, 0)
        const t = canvasText(ctx, text, room - 12)
        const w = ctx.measureText(t).width
        const at = Math.max(x0, 0) + (room - w) / 2
        ctx.fillStyle = c.paper
        ctx.fillRect(at - 4, y, w + 8, stateHeight)
        ctx.fillStyle = idle.has(state) ? c.faint : c.ink
        ctx.fillText(t, at, middle + 0.5)
      }
    }
  }
}

function wait(ctx: CanvasRenderingContext2D, c: Colours, state: string, x0: number, x1: number, y: number) {
  const s = strokes[state] ?? strokes.other
  ctx.strokeStyle = idle.has(state) ? c.mid : c.ink
  ctx.lineWidth = s.width
  ctx.setLineDash(s.dash)
  for (const d of s.double ? [-2, 2] : [0]) {
    ctx.beginPath()
    ctx.moveTo(x0, y + d)
    ctx.lineTo(Math.max(x1, x0 + 0.6), y + d)
    ctx.stroke()
  }
  ctx.setLineDash([])
  if (s.ends && x1 - x0 > 5) {
    ctx.fillStyle = c.ink
    ctx.fillRect(x0, y - 5, 1.5, 10)
    ctx.fillRect(x1 - 1.5, y - 5, 1.5, 10)
  }
}

/** Several states in a part that is too narrow for them: by their shares, what runs at the bottom. */
function band(ctx: CanvasRenderingContext2D, p: Picture, c: Colours, spent: number[], x0: number, y: number, wide: number) {
  let [all, run, ready, needs] = [0, 0, 0, 0]
  for (let k = 0; k < spent.length; k += 2) {
    const state = p.states[spent[k]]
    all += spent[k + 1]
    if (state === 'running' || state === 'unknown') run += spent[k + 1]
    else if (state === 'ready') ready += spent[k + 1]
    else if (!idle.has(state)) needs += spent[k + 1]
  }
  let from = y + stateHeight
  for (const [share, colour] of [[run / all, c.run], [ready / all, c.mid], [needs / all, c.pale]] as const) {
    const high = share * stateHeight
    ctx.fillStyle = colour
    ctx.fillRect(x0, from - high, wide, high)
    from -= high
  }
}

/** Spans have hard edges, since their bounds are exact: a closed frame with its name. What is too short for one is a filled piece. */
function paintSpans(ctx: CanvasRenderingContext2D, p: Picture, c: Colours, x: (ns: number) => number, { row, begin, names }: Drawn, top: number) {
  const spans = row.spans
  for (let i = 0; i < spans.length; i += 6) {
    const x0 = Math.max(-3, x(begin + spans[i]))
    const x1 = Math.min(p.width + 3, x(begin + spans[i + 1]))
    if (x1 < 0 || x0 > p.width) continue
    const y = Math.round(top + spans[i + 2] * spanHeight)
    const wide = x1 - x0
    if (wide < 4 || spans[i + 5] > 1) {
      ctx.fillStyle = spans[i + 5] > 1 ? c.mid : c.ink
      ctx.fillRect(x0, y + 3, Math.max(1, wide), spanHeight - 6)
      continue
    }
    ctx.strokeStyle = c.ink
    ctx.lineWidth = 1
    ctx.strokeRect(Math.round(x0) + 0.5, y + 0.5, Math.max(2, Math.round(wide) - 1), spanHeight - 3)
    const from = Math.max(x0, 0)
    const room = Math.min(x1, p.width) - from
    if (room < 26) continue
    ctx.fillStyle = c.ink
    ctx.fillText(canvasText(ctx, names[spans[i + 3]], room - 8), from + 4, y + spanHeight / 2 - 0.5)
  }
}

function paintBars(ctx: CanvasRenderingContext2D, p: Picture, c: Colours, x: (ns: number) => number, { row, begin, functions }: Drawn, top: number) {
  const bars = row.bars
  const apart = row.seen.length > 0 && x(p.tick) - x(0) > 6 // there is room between two samples
  for (let i = 0; i < bars.length; i += 6) {
    const x0 = x(begin + bars[i])
    const x1 = x(begin + bars[i + 1])
    if (x1 < 0 || x0 > p.width) continue
    const f = functions[bars[i + 3]]
    const y = top + bars[i + 2] * barHeight
    const from = Math.max(-2, x0)
    const wide = Math.max(0.7, Math.min(x1, p.width + 2) - from)
    const ink = inkOf(f.kind, f.area, p.dark, f.runs === 'native')
    // Solid where a sample was, pale in between: how many calls that were is not known.
    ctx.globalAlpha = apart ? 0.5 : bars[i + 5] > 1 ? 0.75 : 1
    ctx.fillStyle = ink.fill
    ctx.fillRect(from, y, wide, barHeight - 1)
    ctx.globalAlpha = 1
    if (apart) {
      for (let k = firstAt(row.seen, bars[i]); k < row.seen.length && row.seen[k] <= bars[i + 1]; k++) {
        const at = x(begin + row.seen[k])
        ctx.fillRect(Math.max(x0, at - 3), y, Math.min(3, at - x0), barHeight - 1)
      }
    }
    if (ink.hatch && wide > 3) {
      ctx.fillStyle = hatch(ctx, ink.edge) ?? ink.fill
      ctx.fillRect(from, y, wide, barHeight - 1)
    }
    if (f.name === p.focus) {
      ctx.strokeStyle = c.focus
      ctx.lineWidth = 2
      ctx.strokeRect(from + 1, y + 1, Math.max(1, wide - 2), barHeight - 3)
    } else if (wide > 2) {
      ctx.fillStyle = ink.edge
      ctx.fillRect(from, y, 1, barHeight - 1)
    }
    if (wide > 28 && bars[i + 5] === 1) {
      ctx.fillStyle = ink.text
      ctx.fillText(canvasText(ctx, f.short, wide - 8), from + 4, y + barHeight / 2)
    }
  }
}

/** The position of the first of ascending times that is not before one. */
function firstAt(times: number[], at: number): number {
  let [low, high] = [0, times.length]
  while (low < high) {
    const mid = (low + high) >> 1
    if (times[mid] < at) low = mid + 1
    else high = mid
  }
  return low
}

/** A critical path: a line below what each thread did on it, from one thread to the next. */
function track(ctx: CanvasRenderingContext2D, p: Picture, c: Colours, x: (ns: number) => number, steps: number[]) {
  ctx.strokeStyle = c.ink
  ctx.lineJoin = 'round'
  let last: { x: number; y: number } | undefined
  for (let i = 0; i < steps.length; i += 5) {
    const [x0, x1] = [x(steps[i]), x(steps[i + 1])]
    const middle = p.middleOf(steps[i + 2])
    if (middle === undefined) continue
    const y = axisHeight + middle - p.scroll + stateHeight / 2 + 3
    if (last && last.y !== y && x0 > -50 && x0 < p.width + 50) {
      ctx.lineWidth = 1
      ctx.beginPath()
      ctx.moveTo(x0, last.y)
      ctx.lineTo(x0, y)
      ctx.stroke()
    }
    if (x1 >= 0 && x0 <= p.width) {
      ctx.lineWidth = 3
      ctx.beginPath()
      ctx.moveTo(Math.max(-4, x0), y)
      ctx.lineTo(Math.min(p.width + 4, Math.max(x1, x0 + 0.8)), y)
      ctx.stroke()
    }
    last = { x: x1, y }
  }
}

/** From whoever ended the chosen wait to the one that waited. */
function link(ctx: CanvasRenderingContext2D, p: Picture, c: Colours, x: (ns: number) => number) {
  const chosen = p.chosen
  if (chosen?.by === undefined) return
  const [from, to] = [p.middleOf(chosen.by), p.middleOf(chosen.lane)]
  if (from === undefined || to === undefined || from === to) return
  const at = x(chosen.to)
  const [y0, y1] = [axisHeight + from - p.scroll, axisHeight + to - p.scroll]
  const down = y1 > y0 ? 1 : -1
  ctx.strokeStyle = ctx.fillStyle = c.ink
  ctx.lineWidth = 1.5
  ctx.beginPath()
  ctx.arc(at, y0, 3, 0, 2 * Math.PI)
  ctx.fill()
  ctx.beginPath()
  ctx.moveTo(at, y0)
  ctx.lineTo(at, y1 - down * 10)
  ctx.stroke()
  ctx.beginPath()
  ctx.moveTo(at, y1 - down * 7)
  ctx.lineTo(at - 4, y1 - down * 15)
  ctx.lineTo(at + 4, y1 - down * 15)
  ctx.fill()
}

/** The state line's middle in a lane that begins at a height. */
export const middle = (top: number) => top + stateTop + stateHeight / 2
