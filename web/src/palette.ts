// Whose code decides the colour of a frame. A program's own areas get clear
// hues, libraries pale ones, the runtime and the kernel grey. The hues keep
// clear of saffron, which is the focus, and of plum and teal, which compare.

const hues = [252, 150, 32, 288, 118, 222, 12, 172, 62]

/** The same area has the same hue everywhere and every time. */
export function hueOf(area: string): number {
  let h = 2166136261
  for (let i = 0; i < area.length; i++) h = Math.imul(h ^ area.charCodeAt(i), 16777619)
  return hues[((h >>> 0) % 8191) % 8]
}

export type Ink = { fill: string; edge: string; text: string; hatch: boolean; dotted: boolean }

const known = new Map<string, Ink>()

export function inkOf(kind: string, area: string, dark: boolean): Ink {
  const key = `${dark ? 1 : 0}${kind}|${area}`
  let ink = known.get(key)
  if (!ink) known.set(key, (ink = mix(kind, hueOf(area), dark)))
  return ink
}

function mix(kind: string, hue: number, dark: boolean): Ink {
  const text = dark ? 'oklch(0.95 0.008 95)' : 'oklch(0.24 0.02 255)'
  const tone = (l: number, c: number) => `oklch(${l} ${c} ${hue})`
  const own = dark ? { fill: tone(0.46, 0.085), edge: tone(0.6, 0.09) } : { fill: tone(0.85, 0.075), edge: tone(0.66, 0.09) }
  const pale = dark ? { fill: tone(0.345, 0.035), edge: tone(0.5, 0.04) } : { fill: tone(0.935, 0.026), edge: tone(0.78, 0.04) }
  const grey = dark ? { fill: 'oklch(0.33 0.004 260)', edge: 'oklch(0.5 0.004 260)' } : { fill: 'oklch(0.9 0.003 95)', edge: 'oklch(0.74 0.004 95)' }
  const base = { text, hatch: false, dotted: false }
  switch (kind) {
    case 'own':
      return { ...base, ...own }
    case 'interpreter':
    case 'jit':
      return { ...base, ...own, dotted: true }
    case 'library':
      return { ...base, ...pale }
    case 'kernel':
      return { ...base, ...grey, hatch: true }
    default:
      return { ...base, ...grey }
  }
}
