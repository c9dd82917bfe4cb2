import type { Bar, Note, Page } from './book';
import { shade } from './shade';

/** How far two notes push each other apart, as springs do. */
function push(a: Note, b: Note): number {
  const d = Math.max(0.2, Math.abs(a.beat - b.beat));
  return (Math.exp(-d) * (1 + Math.abs(a.pitch - b.pitch) / 24)) / (a.length + b.length);
}

/** Places for the notes of a bar, found by letting the springs come to rest. */
export function space(bar: Bar): number[] {
  const at = bar.notes.map((n) => n.beat * 10);
  for (let round = 0; round < 12; round++) {
    for (let i = 0; i < at.length; i++) {
      let force = 0;
      for (let k = 0; k < at.length; k++) {
        if (k !== i) force += Math.sign(at[i] - at[k] || 1) * push(bar.notes[i], bar.notes[k]);
      }
      at[i] += force * 0.3;
    }
  }
  return at;
}

function head(x: number, y: number, zoom: number): string {
  return `<ellipse cx="${(x * zoom).toFixed(2)}" cy="${(y * zoom).toFixed(2)}" rx="${3 * zoom}" ry="${2 * zoom}"/>`;
}

export function staff(bar: Bar, zoom: number): string {
  const places = space(bar);
  let out = '<g>' + shade(bar, zoom);
  bar.notes.forEach((n, i) => {
    out += head(places[i], 120 - n.pitch, zoom);
  });
  return out + '</g>';
}

export function draw(page: Page, zoom: number): string {
  return `<svg xmlns="http://www.w3.org/2000/svg">${page.bars.map((b) => staff(b, zoom)).join('')}</svg>`;
}
