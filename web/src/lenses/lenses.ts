/** The ways of looking at the samples in scope; a number key each. */
export const lenses = [
  { name: 'flame', text: 'Flame' },
  { name: 'hot', text: 'Hot functions' },
  { name: 'paths', text: 'Paths' },
  { name: 'neighbours', text: 'Neighbours' },
  { name: 'lines', text: 'Lines' },
] as const
