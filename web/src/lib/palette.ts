// Whose code decides the colour of a frame. A program's own areas get clear
// hues, libraries pale ones, the runtime and the kernel grey. The hues are cool
// ones: saffron is the focus, and plum and teal compare.

const hues = [256, 150, 292, 118, 222, 172, 274, 134, 240]

/** The same area has the same hue and depth everywhere and every time. */
function toneOf(area: string): { hue: number; deep: boolean } {
  let h = 2166136261
  for (let i = 0; i < area.length; i++) h = Math.imul(h ^ area.charCodeAt(i), 16777619)
  h = Math.imul(h ^ (h >>> 15), 2246822519) >>> 0
  return { hue: hues[h % hues.length], deep: (h >>> 16) % 2 === 1 }
}

export type Ink = { fill: string; edge: string; text: string; hatch: boolean; dotted: boolean }

const known = new Map<string, Ink>()

export function inkOf(kind: string, area: string, dark: boolean, native = true): Ink {
  const key = `${dark ? 1 : 0}${native ? 1 : 0}${kind}|${area}`
  let ink = known.get(key)
  if (!ink) known.set(key, (ink = { ...mix(kind, toneOf(area), dark), dotted: !native }))
  return ink
}

function mix(kind: string, { hue, deep }: { hue: number; deep: boolean }, dark: boolean): Ink {
  const text = dark ? 'oklch(0.95 0.008 95)' : 'oklch(0.24 0.02 255)'
  const tone = (l: number, c: number) => `oklch(${l} ${c} ${hue})`
  const own = dark
    ? { fill: tone(deep ? 0.41 : 0.49, 0.075), edge: tone(0.64, 0.08) }
    : { fill: tone(deep ? 0.8 : 0.875, deep ? 0.085 : 0.065), edge: tone(0.64, 0.09) }
  const pale = dark ? { fill: tone(0.345, 0.035), edge: tone(0.5, 0.04) } : { fill: tone(0.935, 0.026), edge: tone(0.78, 0.04) }
  const grey = dark ? { fill: 'oklch(0.33 0.004 260)', edge: 'oklch(0.5 0.004 260)' } : { fill: 'oklch(0.9 0.003 95)', edge: 'oklch(0.74 0.004 95)' }
  const base = { text, hatch: false, dotted: false }
  switch (kind) {
    case 'own':
      return { ...base, ...own }
    case 'interpreter':
    case 'jit':
      return { ...base, ...own }
    case 'library':
      return { ...base, ...pale }
    case 'kernel':
      return { ...base, ...grey, hatch: true }
    default:
      return { ...base, ...grey }
  }
}
