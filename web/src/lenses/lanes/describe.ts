import type { FunctionRef, LaneRow } from '../../api/client'
import { count, duration } from '../../lib/format'
import { barHeight, laneHeight, type Line, spanHeight } from './layout'
import { short } from './states'

/** A row with when it begins and the functions that its bars speak of. */
export interface Drawn {
  row: LaneRow
  begin: number
  functions: FunctionRef[]
  names: string[] // of spans
}

/** The bar of a sampled path at a height within its lane and a time, as its position among the row's numbers; -1: there is none. */
export function barAt(d: Drawn, line: Line, inside: number, at: number): number {
  const depth = Math.floor((inside - line.bars) / barHeight)
  const b = d.row.bars
  for (let i = 0; inside > line.bars && i < b.length; i += 6) if (b[i + 2] === depth && d.begin + b[i] <= at && d.begin + b[i + 1] >= at) return i
  return -1
}

/** The span at a height within its lane and a time, as its position among the row's numbers; -1: there is none. */
export function spanAt(d: Drawn, line: Line, inside: number, at: number, near: number): number {
  const level = Math.floor((inside - laneHeight) / spanHeight)
  const b = d.row.spans
  for (let i = 0; inside > laneHeight && inside < line.bars && i < b.length; i += 6) if (b[i + 2] === level && d.begin + b[i] <= at + near && d.begin + b[i + 1] >= at - near) return i
  return -1
}

/** What a lane shows at a height and a time, in words; near is how far a pointer may be off. */
export function describe(line: Line, d: Drawn, inside: number, at: number, near: number, states: { name: string; words: string }[]): string {
  const name = line.name
  if (inside > laneHeight && inside < line.bars) {
    const i = spanAt(d, line, inside, at, near)
    if (i < 0) return name
    const b = d.row.spans
    return b[i + 5] > 1 ? `${count(b[i + 5])} spans in ${duration(b[i + 1] - b[i])}, the first of ${d.names[b[i + 3]]}` : `span ${d.names[b[i + 3]]}, ${duration(b[i + 1] - b[i])}`
  }
  if (inside > line.bars) {
    const i = barAt(d, line, inside, at)
    if (i < 0) return name
    const b = d.row.bars
    const many = b[i + 5] > 1 ? `${count(b[i + 5])} short ones, mostly ` : ''
    return `${many}${d.functions[b[i + 3]].short}: at least ${count(b[i + 4])} ${b[i + 4] === 1 ? 'sample' : 'samples'}, ${duration(b[i + 1] - b[i])}; calls not counted`
  }
  const runs = d.row.runs
  for (let i = 0; i < runs.length; i += 6) {
    if (d.begin + runs[i] > at || d.begin + runs[i + 1] <= at) continue
    const long = duration(runs[i + 1] - runs[i])
    if (runs[i + 3] <= 1) return `${name} ${states[runs[i + 2]].words}, ${long}`
    const spent = d.row.spent[runs[i + 5]]
    const list = []
    for (let k = 0; k < spent.length; k += 2) list.push(`${short[states[spent[k]].name]} ${duration(spent[k + 1])}`)
    return `${name}: ${count(runs[i + 3])} states in ${long}: ${list.join(', ')}`
  }
  return `${name} is not there`
}
