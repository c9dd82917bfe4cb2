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
  if (a >= 1e9) return sign + scaled(a, 1e9, 's')
  if (a >= 1e6) return sign + scaled(a, 1e6, 'ms')
  if (a === 0) return '0' + thinSpace + 's'
  return sign + scaled(a, 1e3, 'µs')
}

/** A positive value in a larger unit, with three significant digits: as core/measure writes it, step by step. */
function scaled(a: number, scale: number, unit: string): string {
  const digits = a >= 100 * scale ? 0 : a >= 10 * scale ? 1 : 2
  const n = String(Math.floor((a * 10 ** digits) / scale + 0.5)).padStart(digits + 1, '0')
  const whole = n.slice(0, n.length - digits)
  return (digits === 0 ? count(Number(whole)) : whole + '.' + n.slice(n.length - digits)) + thinSpace + unit
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
  const a = Math.abs(n)
  const sign = n < 0 ? '−' : ''
  if (a >= 2 ** 30) return sign + scaled(a, 2 ** 30, 'GiB')
  if (a >= 2 ** 20) return sign + scaled(a, 2 ** 20, 'MiB')
  if (a >= 2 ** 10) return sign + scaled(a, 2 ** 10, 'KiB')
  return sign + a + thinSpace + 'B'
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
  'top-of-stack': 'return address on the stack',
  instructions: 'the function’s own instructions',
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

/** A text of at most so many characters. */
export const shortened = (text: string, characters = 40) => (text.length <= characters ? text : text.slice(0, characters - 1) + '…')

/** How often something was done: "once", "60 000 times". */
export const times = (n: number) => (n === 1 ? 'once' : `${count(n)} times`)

/** A count where there is little room: "2.04 M". */
export const shortCount = (n: number) => (n >= 1e9 ? `${(n / 1e9).toPrecision(3)} G` : n >= 1e6 ? `${(n / 1e6).toPrecision(3)} M` : count(n))
