/**
 * Cuts a line into the words of a command: blanks part them, single and double
 * quotes hold them together, a backslash takes the next letter as it is. Nothing
 * else has a meaning; no shell ever sees the line.
 */
export function words(line: string): string[] {
  const out: string[] = []
  let word = ''
  let begun = false
  let quote = ''
  for (let i = 0; i < line.length; i++) {
    const c = line[i]
    if (c === '\\' && quote !== "'" && i + 1 < line.length) {
      word += line[++i]
      begun = true
    } else if (quote) {
      if (c === quote) quote = ''
      else word += c
    } else if (c === '"' || c === "'") {
      quote = c
      begun = true
    } else if (/\s/.test(c)) {
      if (begun) out.push(word)
      word = ''
      begun = false
    } else {
      word += c
      begun = true
    }
  }
  if (begun) out.push(word)
  return out
}
