import type { Flame } from '../api/client'

/** Where the frames of a flame stand, in pixels, and how one finds them. */

export const rowHeight = 21
export const stripHeight = 9

export type View = {
  /** the part of the drawn root's width that fills the canvas, from 0 to 1 */
  left: number
  right: number
}

export const whole: View = { left: 0, right: 1 }

export class Geometry {
  readonly rows: number
  private readonly begin: number[]
  readonly parent: Int32Array
  private readonly byNode = new Map<number, number>()

  constructor(readonly flame: Flame) {
    let deepest = 0
    for (const d of flame.depth) if (d > deepest) deepest = d
    this.rows = deepest + 1
    // The columns come row by row, so that a row is a run of positions.
    this.begin = new Array<number>(this.rows + 1).fill(flame.depth.length)
    for (let i = flame.depth.length - 1; i >= 0; i--) this.begin[flame.depth[i]] = i
    this.parent = new Int32Array(flame.depth.length).fill(-1)
    for (let row = 1; row < this.rows; row++) {
      let p = this.begin[row - 1]
      for (let i = this.begin[row]; i < this.begin[row + 1]; i++) {
        while (p + 1 < this.begin[row] && flame.x[p + 1] <= flame.x[i]) p++
        this.parent[i] = p
      }
    }
    for (let i = 0; i < flame.node.length; i++) if (!flame.hidden[i]) this.byNode.set(flame.node[i], i)
  }

  get span(): number {
    return this.flame.width[0] || 1
  }

  row(depth: number): [number, number] {
    return depth >= 0 && depth < this.rows ? [this.begin[depth], this.begin[depth + 1]] : [0, 0]
  }

  position(node: number): number {
    return this.byNode.get(node) ?? -1
  }

  /** The frame at a value of the horizontal axis in a row, -1 if none. */
  at(value: number, depth: number): number {
    let [low, high] = this.row(depth)
    const end = high
    while (low < high) {
      const mid = (low + high) >> 1
      if (this.flame.x[mid] <= value) low = mid + 1
      else high = mid
    }
    const i = low - 1
    if (i < this.row(depth)[0] || i >= end) return -1
    return value < this.flame.x[i] + this.flame.width[i] ? i : -1
  }

  /** The costliest frame called from i, -1 if none is drawn. */
  heaviestChild(i: number): number {
    const [from, to] = this.row(this.flame.depth[i] + 1)
    let best = -1
    for (let j = from; j < to; j++) {
      if (this.parent[j] === i && !this.flame.hidden[j] && (best < 0 || this.flame.width[j] > this.flame.width[best])) best = j
    }
    return best
  }

  /** The next frame in the same row that is no band, -1 if there is none. */
  beside(i: number, step: 1 | -1): number {
    const [from, to] = this.row(this.flame.depth[i])
    for (let j = i + step; j >= from && j < to; j += step) if (!this.flame.hidden[j]) return j
    return -1
  }
}
