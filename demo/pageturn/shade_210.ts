import type { Bar } from './book';

export function shade(_: Bar, __: number): string {
  return '';
}
