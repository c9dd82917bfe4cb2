// Figures as people read them: thin spaces in long numbers, the unit beside.

// A thin space between digits; before a unit one that is a little wider.
const digitSpace = '\u2009'
const thinSpace = '\u00a0'

/** 12391 → "12 391" */
export function count(n: number): string {
  return Math.round(n)
    .toString()
    .replace(/\B(?=(\d{3})+(?!\d))/g, digitSpace)
    .replace('-', '−')
}

/** Nanoseconds with the unit that leaves three significant digits. */
export function duration(ns: number): string {
  const a = Math.abs(ns)
  const sign = ns < 0 ? '−' : ''
  if (a >= 100e9) return sign + count(a / 1e9) + thinSpace + 's'
  if (a >= 1e9) return sign + (a / 1e9).toFixed(a >= 10e9 ? 1 : 2) + thinSpace + 's'
  if (a >= 1e6) return sign + (a / 1e6).toFixed(a >= 100e6 ? 0 : 1) + thinSpace + 'ms'
  if (a === 0) return '0'
  return sign + (a / 1e3).toFixed(0) + thinSpace + 'µs'
}

/** A value of a measure, by its unit. */
export function amount(v: number, unit: string): string {
  switch (unit) {
    case 'ns':
      return duration(v)
    case 'bytes':
      return bytes(v)
    default:
      return count(v)
  }
}

/** Seconds with two digits, for figures that stand under each other. */
export function seconds(ns: number, digits = 2): string {
  return (ns / 1e9).toFixed(digits).replace('-', '−') + thinSpace + 's'
}

/** 0.1234 → "12.3 %" */
export function percent(share: number, digits = 1): string {
  return (100 * share).toFixed(digits).replace('-', '−') + thinSpace + '%'
}

/** A difference carries its sign always. */
export function signed(text: string, value: number): string {
  return value > 0 ? '+' + text : text
}

export function bytes(n: number): string {
  if (n >= 1 << 30) return (n / (1 << 30)).toFixed(2) + thinSpace + 'GB'
  if (n >= 1 << 20) return (n / (1 << 20)).toFixed(1) + thinSpace + 'MB'
  if (n >= 1 << 10) return (n / (1 << 10)).toFixed(0) + thinSpace + 'kB'
  return n + thinSpace + 'B'
}

/** A day and a time in the reader's zone, to the second: a bench makes several a minute. */
export function when(iso: string): string {
  const d = new Date(iso)
  const two = (n: number) => String(n).padStart(2, '0')
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`
}

const kinds: Record<string, string> = {
  own: "the program's own code",
  library: 'library code',
  runtime: 'language runtime',
  kernel: 'kernel',
  interpreter: 'interpreted code',
  jit: 'code made at run time',
  mark: 'mark',
  unknown: 'unknown code',
}

const ways: Record<string, string> = {
  counter: 'program counter',
  tables: 'call-frame tables',
  'frame-pointer': 'frame pointer',
  'go-tables': "Go's stack tables",
  'kernel-walk': "kernel's own walk",
  signal: 'saved registers',
  'top-of-stack': 'top of the stack',
  interpreter: 'the interpreter’s frames',
  unstated: 'not kept',
}

export function wayText(way: string): string {
  return ways[way] ?? way
}

export function kindText(kind: string): string {
  return kinds[kind] ?? kind
}

/**
 * A function's name for a place where not every text fits: without as many of its first
 * parts as it takes, since the last ones tell functions apart. It may be that none fits.
 */
export function fitted(name: string, fits: (text: string) => boolean): string {
  let rest = name.startsWith('(') ? '' : name
  let shown = name
  while (!fits(shown)) {
    const cut = rest.search(/[.:][^.:)]/)
    rest = cut < 0 ? '' : rest.slice(cut + 1)
    if (!rest || /^(func|gowrap)?\d/.test(rest)) break // a closure's number says nothing alone
    shown = '…' + rest
  }
  return shown
}

/** The same for so many characters. */
export const fittedIn = (name: string, characters: number) => fitted(name, (t) => t.length <= characters)
