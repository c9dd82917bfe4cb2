import type { FetchQueryOptions } from '@tanstack/vue-query'
import type { Component } from 'vue'
import type { Hot, Range } from '../api/client'
import EventsLens from './events/EventsLens.vue'
import FlameLens from './flame/FlameLens.vue'
import HotLens from './hot/HotLens.vue'
import LinesLens from './lines/LinesLens.vue'
import LanesLens from './lanes/LanesLens.vue'
import NeighboursLens from './neighbours/NeighboursLens.vue'
import PathsLens from './paths/PathsLens.vue'
import SpansLens from './spans/SpansLens.vue'
import { neighbours, pathSteps } from './questions'

/** What every lens is given. It tells what it wants by `LensEmits`. */
export interface LensProps {
  takeKey: string
  program: string
  range: Range
  focus: string
  pins: string[]
  hot?: Hot
}

export interface LensEmits {
  focus: [name: string]
  pin: [name: string]
  /** The tree in another shape: what of the address changes. */
  shape: [change: Record<string, string | undefined>]
  /** There is a picture of this range. */
  drawn: [of: Range]
}

/** What a lens may expose to the page. */
export interface LensShown {
  /** Asks for what it will show of a scope that probably comes next. */
  ahead?: (scope: string) => unknown
}

type Question = FetchQueryOptions<any, Error, any, any> // eslint-disable-line @typescript-eslint/no-explicit-any -- each asks something else

/** A way of looking at the samples in scope. */
export interface Lens {
  /** As it stands in the address. */
  name: string
  text: string
  view: Component
  /** It is the list of functions itself, so that none stands beside it. */
  list?: boolean
  /** Whether it is about one function: without a focus, about the costliest of the program's own. */
  about?: (address: (name: string) => string) => boolean
  /** It tells when it has drawn; what stands around it follows then. */
  draws?: boolean
  /** The file that has what it shows, first under Share. */
  shares?: 'picture.svg' | 'table.csv' | 'stacks.txt' | 'report.html'
  /** What it begins with, to be asked for while nothing happens. */
  begins?: (about: { takeKey: string; range: Range; focus: string; address: (name: string) => string }) => Question[]
}

/** All lenses, in the order of their number keys. The first one opens. */
export const lenses: Lens[] = [
  { name: 'flame', text: 'Flame', view: FlameLens, draws: true, shares: 'picture.svg' },
  { name: 'hot', text: 'Hot functions', view: HotLens, list: true, shares: 'table.csv' },
  { name: 'paths', text: 'Paths', view: PathsLens, shares: 'stacks.txt', begins: (a) => [pathSteps(a.takeKey, a.range, a.address('paths') === 'leaves' ? { start: 'leaves', path: '' } : { node: 0, heaviest: true })] },
  { name: 'neighbours', text: 'Neighbours', view: NeighboursLens, about: (address) => (address('around') || 'focus') === 'focus', begins: (a) => (a.focus ? [neighbours(a.takeKey, a.range, a.focus, Number(a.address('levels') || 2))] : []) },
  { name: 'lines', text: 'Lines', view: LinesLens, about: () => true },
  { name: 'lanes', text: 'Lanes', view: LanesLens },
  { name: 'spans', text: 'Spans', view: SpansLens },
  { name: 'events', text: 'Events', view: EventsLens },
]
