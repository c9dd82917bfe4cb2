import type { ScopePart } from '../api/client'

const states: Record<string, string> = { lock: 'waiting for a lock', channel: 'waiting for a channel', disk: 'waiting for the disk', network: 'waiting for the network', timer: 'asleep', events: 'waiting for events', input: 'waiting for input', process: 'waiting for another process', memory: 'waiting for memory', other: 'waiting for something else' }

/** A condition as words of the sentence: what leads to it, and what can be changed. */
export function phrase(p: ScopePart): { lead: string; word: string } {
  const list = p.texts.join(' or ')
  const not = p.not ? 'not ' : ''
  switch (p.field) {
    case 'time': {
      const s = (ns: number) => `${Number((ns / 1e9).toFixed(3))} s`
      const text = [p.from_ns ? `from ${s(p.from_ns)}` : '', p.to_ns ? `to ${s(p.to_ns)}` : ''].filter(Boolean).join(' ') || 'all the time'
      return p.not ? { lead: 'but not', word: text } : { lead: '', word: text }
    }
    case 'idle':
      return p.not ? { lead: '', word: 'idle left out' } : { lead: 'only', word: 'idle' }
    case 'thread':
      return { lead: p.not ? 'threads but' : 'threads', word: list }
    case 'process':
      return { lead: p.not ? 'processes but' : 'processes', word: list }
    case 'function':
      return { lead: p.not ? 'not passing through' : 'passing through', word: list }
    case 'top':
      return { lead: `${not}in`, word: `${list} itself` }
    case 'module':
      return { lead: `${not}in the module`, word: list }
    case 'code':
      return { lead: `${not}in`, word: `${list} code` }
    case 'state':
      return { lead: p.not ? 'but not while' : 'while', word: p.texts.map((t) => (states[t] ? states[t] : t)).join(', ') }
    case 'path':
      return { lead: `${not}along`, word: p.texts.join(' › ') }
    case 'during':
      return { lead: p.not ? 'but not during' : 'during', word: p.text.replace(/^(not )?during span /, '') }
    case 'events':
      return { lead: p.not ? 'but not in' : 'in', word: p.text.replace(/^(not )?in events where \((.*)\)$/, 'events where $2') }
    case 'woken':
      return { lead: p.not ? 'but not woken' : 'woken', word: `by ${list}` }
    case 'span':
      return { lead: `${not}in the span`, word: list }
  }
  if (p.field.startsWith('label ')) return { lead: p.not ? 'whose' : 'with the', word: `${p.field} ${p.not ? 'is not ' : ''}${list}` }
  return { lead: 'where', word: p.text }
}
