import type { Instant } from '@halvix/core/session';
import { createServer, type Server, type Socket } from 'node:net';
import { clock } from './clock.ts';
import { tap } from './tap.ts';
import { inWords } from './words.ts';

export interface TcpListenerOptions {
  host: string;
  port: number;
  /** A connection on which nothing valid came for so long gives way to a new one; milliseconds. */
  quietMs: number;
  /** Code of the link that it is, for the tap; absent: it is none. */
  link?: string;
}

export interface ListenerEvents {
  up(from: string): void;
  down(): void;
  data(bytes: Uint8Array): void;
  /** Somebody else came while a connection was in use; it was closed at once. */
  refused(from: string): void;
  changed(): void;
}

const MAX_UNSENT = 1 << 20;
const RETRY_MS = 1000;
const END_NOTICED_MS = 100;

/**
 * Listens for one peer at a time. A second connection is refused while the first one is in use, and takes its place
 * when the first one has been quiet, or has never sent anything valid. A port that cannot be had is tried again for ever.
 */
export class TcpListener {
  private server: Server | null = null;
  private socket: Socket | null = null;
  private retry: NodeJS.Timeout | null = null;
  private closed = false;
  /** Where the connection comes from. */
  private from = '';
  /** When something valid last came on this connection; null: never. */
  private lastHeard: Instant | null = null;
  problem: string | null = null;

  constructor(
    readonly options: TcpListenerOptions,
    private readonly events: ListenerEvents,
  ) {}

  open(): void {
    this.closed = false;
    this.listen();
  }

  /** Gives up the port and the connection; resolves when both are free. */
  close(): Promise<void> {
    this.closed = true;
    if (this.retry !== null) clearTimeout(this.retry);
    const { server, socket } = this;
    this.server = null;
    socket?.destroy();
    return new Promise((resolve) => (server === null ? resolve() : server.close(() => resolve())));
  }

  get connected(): boolean {
    return this.socket !== null;
  }

  /** Ends the connection; the next one is taken. */
  cut(): void {
    if (this.socket !== null) this.drop(this.socket);
  }

  /** Something valid came from the peer. */
  heard(): void {
    this.lastHeard = clock.now();
  }

  send(octets: Uint8Array): void {
    if (this.socket === null) return;
    tap.pass(this.options.link, this.from, 'out', octets);
    this.socket.write(octets);
    if (this.socket.writableLength > MAX_UNSENT) this.socket.destroy();
  }

  private listen(): void {
    const server = createServer({ noDelay: true, keepAlive: true, keepAliveInitialDelay: 30_000 }, (socket) =>
      this.onConnection(socket),
    );
    this.server = server;
    server.on('error', (error) => {
      this.problem = inWords(error);
      this.events.changed();
      if (!this.closed) this.retry = setTimeout(() => this.listen(), RETRY_MS);
    });
    server.listen(this.options.port, this.options.host, () => {
      this.problem = null;
      this.events.changed();
    });
  }

  private onConnection(socket: Socket): void {
    const from = `${socket.remoteAddress ?? '?'}:${socket.remotePort ?? '?'}`;
    socket.on('error', () => {});
    if (this.closed) {
      socket.destroy();
      return;
    }
    // A peer that comes straight back may be here before the end of its last connection is noticed.
    if (this.isInUse()) setTimeout(() => this.decide(socket, from), END_NOTICED_MS);
    else this.decide(socket, from);
  }

  private isInUse(): boolean {
    return this.socket !== null && this.lastHeard !== null && clock.now() - this.lastHeard < this.options.quietMs;
  }

  private decide(socket: Socket, from: string): void {
    if (this.closed || socket.destroyed) {
      socket.destroy();
      return;
    }
    if (this.isInUse()) {
      socket.destroy();
      this.events.refused(from);
      return;
    }
    if (this.socket !== null) this.drop(this.socket);
    this.socket = socket;
    this.from = from;
    this.lastHeard = null;
    socket.on('data', (bytes) => {
      if (this.socket !== socket) return;
      tap.pass(this.options.link, from, 'in', bytes);
      this.events.data(bytes);
    });
    socket.on('close', () => this.drop(socket));
    this.events.up(from);
  }

  private drop(socket: Socket): void {
    if (this.socket !== socket) return;
    this.socket = null;
    socket.destroy();
    this.events.down();
  }
}
