import { tap } from './tap.ts';
import { sendTogether } from './together.ts';
import { createServer, type Server, type Socket } from 'node:net';
import { namesOf, serveTls, type TlsFiles } from './tls.ts';
import { inWords } from './words.ts';

export interface CallServerOptions {
  host: string;
  port: number;
  tls?: TlsFiles;
  /** Whether whoever calls from that address is let in; absent: everybody. */
  allows?: (address: string) => boolean;
  /** Code of the link that it is, for the tap; absent: it is none. */
  link?: string;
}

export interface Call {
  /** Address and port that it comes from. */
  from: string;
  address: string;
  /** Names in its certificate; none without TLS. */
  names: readonly string[];
  send(octets: Uint8Array): void;
  end(): void;
}

export interface CallServerEvents {
  came(call: Call): void;
  data(call: Call, bytes: Uint8Array): void;
  ended(call: Call): void;
  changed(): void;
  /** Somebody was not let in: why. */
  refused?(words: string): void;
}

const MAX_UNSENT = 1 << 20;
const RETRY_MS = 1000;
/** A certificate that is refused here and a caller that goes away look alike. */
const NOT_OURS = 'its certificate is not from our authority, or it went away';
/** Connections at a time on one port. */
const MAX_CALLS = 5000;

/** Listens for devices, or centres, that call. A port that cannot be had is tried again for ever. */
export class CallServer {
  private server: Server | null = null;
  private readonly sockets = new Set<Socket>();
  private retry: NodeJS.Timeout | null = null;
  private closed = false;
  /** Why it does not listen; null: it does. */
  problem: string | null = 'not listening yet';

  constructor(
    readonly options: CallServerOptions,
    private readonly events: CallServerEvents,
  ) {}

  get calls(): number {
    return this.sockets.size;
  }

  open(): void {
    if (this.closed) return;
    const { host, port, tls } = this.options;
    const again = (error: Error): void => {
      this.problem = inWords(error);
      this.events.changed();
      if (!this.closed) this.retry = setTimeout(() => this.open(), RETRY_MS);
    };
    let server: Server;
    try {
      server = tls
        ? serveTls(tls, (socket) => this.onCall(socket, namesOf(socket)))
        : createServer({ noDelay: true, keepAlive: true, keepAliveInitialDelay: 30_000 }, (s) => this.onCall(s, []));
    } catch (error) {
      again(error instanceof Error ? error : new Error(String(error)));
      return;
    }
    this.server = server;
    server.on('error', again);
    // Before TLS begins: a stranger costs no handshake.
    server.on('connection', (socket: Socket) => {
      const address = socket.remoteAddress ?? '';
      if (!this.options.allows || this.options.allows(address)) return;
      socket.destroy();
      this.events.refused?.(`connection from ${address} refused: its network is not allowed`);
    });
    server.on('tlsClientError', (error: Error & { code?: string }) => {
      // The port is none the worse for it: others are let in.
      this.events.refused?.(`a caller was refused: ${error.code === 'ECONNRESET' ? NOT_OURS : inWords(error)}`);
    });
    server.listen(port, host, () => {
      this.problem = null;
      this.events.changed();
    });
  }

  close(): Promise<void> {
    this.closed = true;
    if (this.retry !== null) clearTimeout(this.retry);
    const { server } = this;
    for (const socket of this.sockets) socket.destroy();
    return new Promise((resolve) => (server === null ? resolve() : server.close(() => resolve())));
  }

  private onCall(socket: Socket, names: readonly string[]): void {
    if (socket.destroyed || this.closed || this.sockets.size >= MAX_CALLS) {
      socket.destroy();
      return;
    }
    this.sockets.add(socket);
    const call: Call = {
      from: `${socket.remoteAddress ?? '?'}:${socket.remotePort ?? '?'}`,
      address: socket.remoteAddress ?? '',
      names,
      send: (octets) => {
        tap.pass(this.options.link, call.from, 'out', octets);
        sendTogether(socket, octets);
        if (socket.writableLength > MAX_UNSENT) socket.destroy();
      },
      end: () => socket.destroy(),
    };
    socket.on('error', () => {});
    socket.on('data', (bytes) => {
      tap.pass(this.options.link, call.from, 'in', bytes);
      this.events.data(call, bytes);
    });
    socket.on('close', () => {
      this.sockets.delete(socket);
      this.events.ended(call);
    });
    this.events.came(call);
  }
}
