import type { Bar } from './book';

/** Shades a repeated bar with fine lines. */
export function shade(bar: Bar, zoom: number): string {
  if (!bar.repeat) return '';
  const lines: string[] = [];
  for (let x = 0; x < 90; x += 3) lines.push(hatch(x, zoom));
  return lines.join('');
}

function hatch(x: number, zoom: number): string {
  return `<path d="M${(x * zoom).toFixed(1)} 0l${(4 * Math.SQRT1_2 * zoom).toFixed(2)} ${60 * zoom}"/>`;
}
