import type { Book } from './book';
import { draw } from './draw';

/** Keeps drawn pages until they are edited. */
export class Previews {
  private kept = new Map<string, string>();

  constructor(private book: Book) {}

  private key(page: number, zoom: number): string {
    return `${page}@${zoom}#${this.book.pages[page].edited}`;
  }

  get(page: number, zoom: number): string {
    const key = this.key(page, zoom);
    let body = this.kept.get(key);
    if (body === undefined) {
      body = draw(this.book.pages[page], zoom);
      this.keep(key, body);
    }
    return body;
  }

  private keep(key: string, body: string): void {
    if (this.kept.size > 40) this.kept.delete(this.kept.keys().next().value as string);
    this.kept.set(key, body);
  }
}
