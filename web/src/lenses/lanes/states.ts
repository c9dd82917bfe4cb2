// How a state is drawn: by its shape, so that it can be told without colours. What runs is solid;
// what could run is hatched; who waits is a line, heavy where something is needed to go on.

export interface Stroke {
  width: number
  dash: number[]
  double?: boolean
  ends?: boolean // closed at both ends
}

export const strokes: Record<string, Stroke> = {
  lock: { width: 3, dash: [], ends: true },
  disk: { width: 1.5, dash: [], double: true },
  network: { width: 3, dash: [3, 3] },
  channel: { width: 1.5, dash: [3, 3], ends: true },
  memory: { width: 3, dash: [8, 3] },
  other: { width: 1.5, dash: [8, 3, 2, 3] },
  timer: { width: 1, dash: [] },
  events: { width: 1, dash: [2, 3] },
  input: { width: 1, dash: [6, 4] },
  process: { width: 1, dash: [8, 3, 2, 3] },
}

/** A word for a wide stretch, and for the legend. */
export const short: Record<string, string> = {
  unknown: 'not measured', running: 'runs', ready: 'ready', lock: 'lock', channel: 'channel', disk: 'disk', network: 'network', timer: 'timer', events: 'events', input: 'input', process: 'process', memory: 'memory', other: 'other',
}

/** Waits for something to do: they are drawn lightly, and not among what is gathered. */
export const idle = new Set(['timer', 'events', 'input', 'process', 'channel'])
