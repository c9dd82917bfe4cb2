import type { Process } from '../api/client'

export type Family = {
  children: Process[] // that run already, of all that were picked, with their own
  idle: boolean // those that were picked leave the work to them
}

// A parent that has used at most this part of its children's time only starts and watches them.
const idleParent = 0.25

// familyOf finds who was started by the processes that were picked and runs already, as the
// collector does before it begins.
export function familyOf(all: Process[], picked: Process[]): Family {
  const known = new Set(picked.map((p) => p.pid))
  const children: Process[] = []
  for (const next = [...picked]; next.length; ) {
    const of = next.shift()!.pid
    for (const p of all) {
      if (p.parent !== of || known.has(p.pid)) continue
      known.add(p.pid)
      children.push(p)
      next.push(p)
    }
  }
  const used = (list: Process[]) => list.reduce((n, p) => n + p.used_s, 0)
  return { children, idle: children.length > 0 && used(picked) <= idleParent * used(children) }
}

// names are a few of their names.
export function names(list: Process[], most = 4): string {
  const all = [...new Set(list.map((p) => p.name))]
  return all.slice(0, most).join(', ') + (all.length > most ? ' …' : '')
}
