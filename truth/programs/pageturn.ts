// TypeScript on Node.js: methods, closures, callbacks from the runtime's own
// code, generators, async functions, regular expressions.
// The compilers of the runtime inline as they like and tell nobody, so each part
// keeps one function out of their reach by its size or by eval.
declare const process: { argv: string[]; cpuUsage(): { user: number; system: number } };

// stack spread: spread < turn < leaves < main
// stack byNumber: byNumber < sorted < main
// stack bars: bars < generated < main

let sink = 0;

function spread(n: number): number {
  let x = 0;
  for (let i = 0; i < n; i++) x = (x * 31 + i) % 1000003;
  return x;
}

class Page {
  turn(n: number): number {
    return spread(n) + 1;
  }
}

function leaves(): void {
  const page = new Page();
  for (let i = 0; i < 30; i++) sink += page.turn(60000);
}

function byNumber(a: number, b: number): number {
  let x = a;
  for (let i = 0; i < 400; i++) x = (x * 17 + i) % 4099;
  return a - b + (x === -1 ? 1 : 0);
}

function sorted(): void {
  const all = Array.from({ length: 300 }, (_, i) => (i * 7919) % 601);
  sink += all.sort(byNumber)[0];
}

function* bars(n: number): Generator<number> {
  for (let i = 0; i < n; i++) {
    let x = i;
    for (let k = 0; k < 3000; k++) x = (x * 13 + k) % 2003;
    yield x;
  }
}

function generated(): void {
  for (const x of bars(300)) sink += x;
}

function words(): void {
  const text = 'la la-la lu '.repeat(4000);
  for (let i = 0; i < 8; i++) sink += text.replace(/l([au])-?/g, '$1').length;
}

interface Node {
  id: number;
  callFrame: { functionName: string };
  children?: number[];
}

// witness has the runtime's own profiler say how much each part takes.
function witness(parts: Record<string, () => void>): void {
  const session = new (require('node:inspector').Session)();
  session.connect();
  session.post('Profiler.enable');
  session.post('Profiler.start');
  for (let i = 0; i < 40; i++) for (const name of Object.keys(parts)) parts[name]();
  session.post('Profiler.stop', (_: unknown, { profile }: { profile: { nodes: Node[]; samples: number[]; timeDeltas: number[] } }) => {
    const part = new Map<number, string>();
    const mark = (id: number, name: string): void => {
      const node = profile.nodes.find((n) => n.id === id)!;
      const own = name === '' && node.callFrame.functionName in parts ? node.callFrame.functionName : name;
      part.set(id, own);
      for (const child of node.children ?? []) mark(child, own);
    };
    mark(profile.nodes[0].id, '');
    const spent: Record<string, number> = {};
    profile.samples.forEach((id, i) => {
      const name = part.get(id) ?? '';
      if (name) spent[name] = (spent[name] ?? 0) + profile.timeDeltas[i];
    });
    for (const name of Object.keys(spent)) console.log('witness', name, spent[name]);
  });
}

declare function require(name: string): { Session: new () => { connect(): void; post(...x: unknown[]): void } };

function main(seconds: number): void {
  const parts: Record<string, () => void> = { leaves, sorted, generated, words };
  if (seconds === 0) {
    witness(parts);
    return;
  }
  const spent: Record<string, number> = {};
  let all = 0;
  while (all < seconds * 1e6) {
    for (const name of Object.keys(parts)) {
      const begin = process.cpuUsage();
      parts[name]();
      const end = process.cpuUsage();
      const t = end.user - begin.user + end.system - begin.system;
      spent[name] = (spent[name] ?? 0) + t;
      all += t;
    }
  }
  for (const name of Object.keys(spent)) console.log('part', name, Math.round(spent[name] * 1000));
  if (sink === 42) console.log(sink);
}

declare const console: { log(...x: unknown[]): void };

main(Number(process.argv[2]));
