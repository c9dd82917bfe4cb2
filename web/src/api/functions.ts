import type { components } from './schema'

type Schemas = components['schemas']
export type HotFunction = Schemas['FunctionRef'] & { file: string; line: number }

/** All functions of a take, each an object made when it is first asked for; undefined where there are too many to be told at once. */
export function refsOf(t: Schemas['FunctionsOut']): ((id: number) => HotFunction) | undefined {
  if (t.too_many) return undefined
  const made: HotFunction[] = []
  return (id) =>
    (made[id] ??= {
      id,
      name: t.name[id],
      short: t.short[id] || t.name[id],
      module: t.texts[t.module[id]],
      area: t.texts[t.area[id]],
      kind: t.texts[t.kind[id]],
      runs: t.texts[t.runs[id]],
      file: t.texts[t.file[id]],
      line: t.line[id],
    })
}

const most = 6 // takes and shapes whose functions are kept
const kept = new Map<string, Promise<((id: number) => HotFunction) | undefined>>()

/** Asks for a take's functions once, however often they are wanted. */
export function keptFunctions(key: string, fetch: () => Promise<Schemas['FunctionsOut']>): Promise<((id: number) => HotFunction) | undefined> {
  let at = kept.get(key)
  if (at) kept.delete(key)
  else {
    at = fetch().then(refsOf)
    at.catch(() => kept.delete(key)) // the next one asks again
  }
  kept.set(key, at)
  if (kept.size > most) kept.delete(kept.keys().next().value!)
  return at
}
