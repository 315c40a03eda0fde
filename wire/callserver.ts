import { Inflow } from './inflow.ts';
import { Strangers } from './strangers.ts';
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
  /** It is clear whose it is: it does not give way to those of whom that is not clear. */
  known(): void;
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
/** Whoever has so much left to take is not listened to until it has. */
const MUCH_UNSENT = 1 << 18;
const RETRY_MS = 1000;
/** A certificate that is refused here and a caller that goes away look alike. */
const NOT_OURS = 'its certificate is not from our authority, or it went away';
/** Connections at a time on one port. */
const MAX_CALLS = 5000;

/** Listens for devices, or centres, that call. A port that cannot be had is tried again for ever. */
export class CallServer {
  private server: Server | null = null;
  /** All connections as they came, those too whose TLS is not agreed on. */
  private readonly raw = new Set<Socket>();
  private readonly strangers = new Strangers<Stranger>();
  /** By where they come from. */
  private readonly unknown = new Map<string, Stranger>();
  private retry: NodeJS.Timeout | null = null;
  private closed = false;
  /** Why it does not listen; null: it does. */
  problem: string | null = 'not listening yet';

  constructor(
    readonly options: CallServerOptions,
    private readonly events: CallServerEvents,
  ) {}

  get calls(): number {
    return this.raw.size;
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
        : createServer({ noDelay: true, keepAlive: true, keepAliveInitialDelay: 30_000 });
    } catch (error) {
      again(error instanceof Error ? error : new Error(String(error)));
      return;
    }
    this.server = server;
    server.on('error', again);
    // Before TLS begins: a stranger costs no handshake.
    server.on('connection', (socket: Socket) => {
      this.onConnection(socket);
      if (!tls && !socket.destroyed) this.onCall(socket, []);
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
    for (const socket of this.raw) socket.destroy();
    return new Promise((resolve) => (server === null ? resolve() : server.close(() => resolve())));
  }

  private onConnection(socket: Socket): void {
    const address = socket.remoteAddress ?? '';
    if (this.options.allows && !this.options.allows(address)) {
      socket.destroy();
      this.events.refused?.(`connection from ${address} refused: its network is not allowed`);
      return;
    }
    if (this.raw.size >= MAX_CALLS || this.closed) {
      socket.destroy();
      return;
    }
    const from = fromOf(socket);
    const stranger: Stranger = { address, end: () => socket.destroy() };
    this.raw.add(socket);
    this.unknown.set(from, stranger);
    socket.on('error', () => {});
    socket.on('close', () => {
      this.raw.delete(socket);
      this.isKnown(from);
    });
    const out = this.strangers.add(stranger);
    if (out === null) return;
    this.strangers.remove(out);
    out.end();
    this.events.refused?.(`connection from ${out.address} ended: too many from there have not shown who they are`);
  }

  private isKnown(from: string): void {
    const stranger = this.unknown.get(from);
    if (stranger === undefined) return;
    this.unknown.delete(from);
    this.strangers.remove(stranger);
  }

  private onCall(socket: Socket, names: readonly string[]): void {
    if (socket.destroyed || this.closed) {
      socket.destroy();
      return;
    }
    const inflow = new Inflow({
      deliver: (bytes) => {
        tap.pass(this.options.link, call.from, 'in', bytes);
        this.events.data(call, bytes);
      },
      hold: (on) => void (on ? socket.pause() : socket.resume()),
      takes: () => socket.writableLength < MUCH_UNSENT,
    });
    const end = (): void => {
      inflow.discard();
      socket.destroy();
    };
    const call: Call = {
      from: fromOf(socket),
      address: socket.remoteAddress ?? '',
      names,
      send: (octets) => {
        tap.pass(this.options.link, call.from, 'out', octets);
        sendTogether(socket, octets);
        if (socket.writableLength > MAX_UNSENT) end();
      },
      known: () => this.isKnown(call.from),
      end,
    };
    socket.on('error', () => {});
    socket.on('data', (bytes) => inflow.push(bytes));
    socket.on('drain', () => inflow.drained());
    socket.on('close', () => inflow.finish(() => this.events.ended(call)));
    this.events.came(call);
  }
}

/** A connection of whom it is not clear yet. */
interface Stranger {
  address: string;
  end: () => void;
}

const fromOf = (socket: Socket): string => `${socket.remoteAddress ?? '?'}:${socket.remotePort ?? '?'}`;
