import type { Lane } from '../../api/client'

/** Heights in pixels. */
export const laneHeight = 24
export const headHeight = 22
export const axisHeight = 24
export const barHeight = 14
export const spanHeight = 14

/** A line of the drawing: a process's name, or a lane. */
export interface Line {
  top: number
  height: number
  lane: number // position among the lanes; -1: a process
  name: string
  key: string
  bars: number // where the sampled path begins, below the states and the spans
}

/** Where everything is: the lanes of one process under its name, open ones with room for their paths. */
export function layOut(lanes: Lane[], depths: Map<number, number>): { lines: Line[]; height: number } {
  const lines: Line[] = []
  let top = 0
  let group = ''
  const routines = lanes.some((l) => l.routine)
  lanes.forEach((l, i) => {
    const head = `${l.process} ${l.pid}${l.routine ? ', goroutines' : routines ? ', threads' : ''}`
    if (head !== group) {
      group = head
      lines.push({ top, height: headHeight, lane: -1, name: head, key: `p${l.pid}-${i}`, bars: headHeight })
      top += headHeight
    }
    const depth = depths.get(l.id) ?? 0
    const bars = laneHeight + (l.levels ? l.levels * spanHeight + 4 : 0)
    const height = bars + (depth ? depth * barHeight + 6 : 0)
    lines.push({ top, height, lane: i, name: l.thread || `${l.routine ? 'goroutine' : 'thread'} ${l.tid}`, key: `l${l.id}`, bars })
    top += height
  })
  return { lines, height: top }
}

/** The lines between two heights, by their positions. */
export function between(lines: Line[], from: number, to: number): Line[] {
  return lines.filter((l) => l.top + l.height > from && l.top < to)
}

export interface View {
  from: number // nanoseconds since the take began
  to: number
}

/** A view about a time, so many times as wide, within the take. */
export function zoomed(v: View, factor: number, about: number, duration: number): View {
  const width = Math.min(duration, Math.max(shortest, (v.to - v.from) * factor))
  const share = (about - v.from) / (v.to - v.from)
  return inside({ from: about - share * width, to: about - share * width + width }, duration)
}
const shortest = 200 // nanoseconds: closer there is nothing to see

export function moved(v: View, by: number, duration: number): View {
  return inside({ from: v.from + by, to: v.to + by }, duration)
}

function inside(v: View, duration: number): View {
  const width = v.to - v.from
  const from = Math.round(Math.max(0, Math.min(v.from, duration - width)))
  return { from, to: Math.round(from + width) }
}

/**
 * What is asked for to show a view: a wider stretch, whose bounds are the same for views near each
 * other, so that moving about does not ask anew each time.
 */
export function fetched(v: View, duration: number): View {
  let width = duration
  while (width / 4 >= v.to - v.from && width > 1000) width /= 2
  const step = width / 4
  const from = Math.max(0, Math.floor(v.from / step - 1e-9) * step)
  return { from: Math.floor(from), to: Math.ceil(from + width) }
}

/** Times for the axis, and how far they are apart. */
export function marksOf(v: View, room: number): { step: number; at: number[] } {
  const least = ((v.to - v.from) * 90) / Math.max(90, room)
  let step = 10 ** Math.floor(Math.log10(least))
  for (const k of [1, 2, 5, 10]) {
    if (step * k >= least) {
      step *= k
      break
    }
  }
  step = Math.max(1, step)
  const at: number[] = []
  for (let t = Math.ceil(v.from / step) * step; t <= v.to; t += step) at.push(t)
  return { step, at }
}

/** A time as the axis has it, with as many digits as its steps need. */
export function timeText(ns: number, step: number): string {
  const digits = Math.max(0, Math.min(9, 9 - Math.floor(Math.log10(step) + 1e-9)))
  const [whole, rest = ''] = (ns / 1e9).toFixed(digits).split('.')
  return (rest ? `${whole}.${rest.replace(/(\d{3})(?=\d)/g, '$1\u2009')}` : whole) + '\u00a0s'
}
