type Link = { from: number; to: number }

/** How many functions in a row that only hand on are gathered. */
const least = 2

/**
 * Chains of nodes that do nothing but hand on: each has one caller at most and one callee, and
 * `keep` does not hold for it. They are in the order of the calls.
 */
export function chains(count: number, links: Link[], keep: (node: number) => boolean): number[][] {
  const into = new Array<number[]>(count)
  const onto = new Array<number[]>(count)
  for (let i = 0; i < count; i++) [into[i], onto[i]] = [[], []]
  for (const l of links) {
    if (l.from === l.to) continue
    into[l.to].push(l.from)
    onto[l.from].push(l.to)
  }
  const passes = (i: number) => into[i].length <= 1 && onto[i].length === 1 && !keep(i)
  const out: number[][] = []
  const seen = new Set<number>()
  for (let i = 0; i < count; i++) {
    if (!passes(i) || seen.has(i)) continue
    let first = i
    while (into[first].length === 1 && passes(into[first][0]) && into[first][0] !== i) first = into[first][0]
    const chain = [first]
    seen.add(first)
    for (let next = onto[first][0]; passes(next) && !seen.has(next); next = onto[next][0]) {
      chain.push(next)
      seen.add(next)
    }
    if (chain.length >= least) out.push(chain)
  }
  return out
}
