import { connect, createServer, type Server, type Socket } from 'node:net';

/** A wire between a process and its database: it can be slow, be cut, or swallow everything on connections that stand. */
export class DatabaseProxy {
  latencyMs = 0;
  /** Nobody gets through. */
  closed = false;
  cuts = 0;
  private readonly server: Server;
  private readonly pairs = new Set<Pair>();

  constructor(
    readonly port: number,
    target: number,
  ) {
    this.server = createServer({ noDelay: true }, (near) => {
      if (this.closed) {
        near.destroy();
        return;
      }
      const far = connect({ port: target, host: '127.0.0.1', noDelay: true });
      const pair: Pair = { near, far, frozen: false };
      this.pairs.add(pair);
      for (const socket of [near, far]) {
        socket.on('error', () => {});
        socket.on('close', () => {
          this.pairs.delete(pair);
          near.destroy();
          far.destroy();
        });
      }
      near.on('data', (octets) => this.carry(pair, octets, far));
      far.on('data', (octets) => this.carry(pair, octets, near));
    });
    this.server.listen(port, '127.0.0.1');
  }

  private carry(pair: Pair, octets: Buffer, to: Socket): void {
    if (pair.frozen) return;
    if (this.latencyMs === 0) to.write(octets);
    else setTimeout(() => pair.frozen || to.destroyed || to.write(octets), this.latencyMs);
  }

  get connections(): number {
    return this.pairs.size;
  }

  /** Ends connections that stand; with `one` only one of them, whichever comes. */
  cut(one = false): void {
    const pairs = [...this.pairs];
    for (const { near, far } of one ? [pairs[Math.floor(Math.random() * pairs.length)]].filter(Boolean) : pairs) {
      near.destroy();
      far.destroy();
      this.cuts++;
    }
  }

  /** Connections that stand carry nothing any more, and nobody is told; new ones work. */
  freeze(): void {
    for (const pair of this.pairs) pair.frozen = true;
  }

  close(): void {
    this.cut();
    this.server.close();
  }
}

interface Pair {
  near: Socket;
  far: Socket;
  frozen: boolean;
}
