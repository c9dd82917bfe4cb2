// What is known of an event, in words.
import type { Event, Events } from '../../api/client'
import { amount } from '../../lib/format'
import { quoted } from '../../lib/scopeText'

export interface Told {
  name: string // of the column
  label: string
  text: string
  short: string // of a path, its end
  condition: string // that asks for events with it, "" where that would be of no use
}

/** What a row is told to be about, without what its line says anyway. */
export function toldOf(data: Events, r: Event): Told[] {
  const of = new Map(data.columns.map((c, i) => [c.name, r.values[i]]))
  const has = (name: string) => of.get(name)?.has ?? false
  const type = has('file-type') ? of.get('file-type')!.text : ''
  const out: Told[] = []
  data.columns.forEach((c, i) => {
    const v = r.values[i]
    if (!v?.has || c.name === 'name' || c.name === 'file-type' || c.name === 'processor' || c.name === data.column) return
    if (c.name === 'result' && (has('bytes') || has('error'))) return
    if (!data.column && ((c.name === 'duration' && data.unit === 'ns') || (c.name === 'bytes' && data.unit === 'bytes'))) return
    const text = c.unit === 'text' || c.unit === 'address' ? v.text : amount(v.number, c.unit)
    const label = c.name === 'file' && type ? type : c.name
    out.push({ name: c.name, label: text.startsWith(label) ? '' : label, text, short: tail(text), condition: c.unit === 'text' ? about(data.kind, `${word(c.name)} is ${quoted(v.text)}`) : '' })
  })
  return out
}

/** The end of a path that is long, by which files are told apart. */
const tail = (text: string) => (text.length > 16 && text.includes('/') ? '…' + text.slice(text.lastIndexOf('/', text.length - 2)) : text)

/** What an event is called, if its kind has names: of a system call, which one it is. */
export function calledOf(data: Events, r: Event): string {
  const at = data.columns.findIndex((c) => c.name === 'name')
  return at >= 0 && r.values[at]?.has ? r.values[at].text : ''
}

/** A condition about events of a kind, as the scope language writes it. */
export const about = (kind: string, ...conditions: string[]) => `in events where (${[`kind is ${quoted(kind)}`, ...conditions].join(' and ')})`

/** A name of a column as a word. */
const word = (name: string) => (/^[\w-]+$/.test(name) ? name : quoted(name))

/** The bounds of a column's values, from inclusive, to exclusive. */
export function bounds(name: string, unit: string, from: number, to: number): string[] {
  const written = (v: number) => (unit === 'ns' ? `${v} ns` : unit === 'bytes' ? `${v} B` : `${v}`)
  return [...(from > 0 ? [`${word(name)} at least ${written(from)}`] : []), `${word(name)} under ${written(to)}`]
}
