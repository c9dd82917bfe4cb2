export interface Note {
  beat: number;
  pitch: number;
  length: number;
}

export class Bar {
  constructor(
    readonly number: number,
    readonly notes: Note[],
    readonly repeat: boolean,
  ) {}
}

export class Page {
  edited = 0;
  constructor(readonly bars: Bar[]) {}
}

/** A book whose music is made up, the same each time. */
export class Book {
  readonly pages: Page[] = [];

  constructor(pages: number) {
    let x = 11;
    for (let p = 0; p < pages; p++) {
      const bars: Bar[] = [];
      for (let b = 0; b < 24; b++) {
        const notes: Note[] = [];
        for (let beat = 0; beat < 8; beat++) {
          x = (x * 48271) % 2147483647;
          if (x % 4) notes.push({ beat, pitch: 45 + (x % 40), length: 1 + (x % 3) });
        }
        bars.push(new Bar(p * 24 + b, notes, b > 0 && x % 5 === 0));
      }
      this.pages.push(new Page(bars));
    }
  }
}
