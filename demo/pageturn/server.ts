// Pageturn shows pages of a score while it is being written.
import * as http from 'node:http';
import type { AddressInfo } from 'node:net';
import { Book } from './book';
import { Previews } from './previews';

const book = new Book(60);
const previews = new Previews(book);

function answer(request: http.IncomingMessage, response: http.ServerResponse): void {
  const match = /^\/page\/(\d+)\/(\d+)$/.exec(request.url ?? '');
  if (!match) {
    response.writeHead(404).end();
    return;
  }
  const body = previews.get(Number(match[1]), Number(match[2]));
  response.writeHead(200, { 'content-type': 'image/svg+xml', 'content-length': Buffer.byteLength(body) });
  response.end(body);
}

function get(port: number, path: string): Promise<number> {
  return new Promise((resolve, reject) => {
    http
      .get({ host: '127.0.0.1', port, path, agent }, (response) => {
        let size = 0;
        response.on('data', (piece: Buffer) => (size += piece.length));
        response.on('end', () => resolve(size));
      })
      .on('error', reject);
  });
}

const agent = new http.Agent({ keepAlive: true });

// drive turns pages as readers do: most look at the page that was just turned.
async function drive(port: number, turns: number): Promise<number> {
  let size = 0;
  for (let i = 0; i < turns; i++) {
    const page = Math.floor(i / 12) % book.pages.length;
    size += await get(port, `/page/${page}/${i % 3 === 0 ? 2 : 1}`);
  }
  return size;
}

const server = http.createServer(answer);
server.listen(0, '127.0.0.1', async () => {
  const { port } = server.address() as AddressInfo;
  const size = await drive(port, Number(process.argv[2] ?? 1000));
  console.log('turned', process.argv[2], 'pages,', size, 'bytes');
  agent.destroy();
  server.close();
});
