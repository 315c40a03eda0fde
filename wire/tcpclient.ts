import type { Instant } from '@halvix/core/session';
import { connect, type Socket } from 'node:net';
import { clock } from './clock.ts';

export interface TcpClientOptions {
  host: string;
  port: number;
  connectTimeoutMs: number;
  reconnectFirstMs: number;
  reconnectMaxMs: number;
}

export interface TcpClientState {
  state: 'connecting' | 'connected' | 'waiting';
  since: Instant;
  tries: number;
  nextTry: Instant | null;
  problem: string | null;
}

export interface LinkEvents {
  up(): void;
  down(): void;
  data(bytes: Uint8Array): void;
  changed(): void;
}

/** Octets that may wait to be sent; a peer that takes none for so long is cut off. */
const MAX_UNSENT = 1 << 20;

/** A TCP connection that is made again for ever, with pauses that double up to a limit and vary by a fifth. */
export class TcpClient {
  private socket: Socket | null = null;
  private timer: NodeJS.Timeout | null = null;
  private stopped = false;
  private pause: number;
  state: TcpClientState = { state: 'connecting', since: clock.now(), tries: 0, nextTry: null, problem: null };

  constructor(
    readonly options: TcpClientOptions,
    private readonly events: LinkEvents,
  ) {
    this.pause = options.reconnectFirstMs;
  }

  open(): void {
    this.connect();
  }

  close(): void {
    this.stopped = true;
    if (this.timer !== null) clearTimeout(this.timer);
    this.socket?.destroy();
  }

  send(octets: Uint8Array): void {
    if (this.socket === null || this.state.state !== 'connected') return;
    this.socket.write(octets);
    if (this.socket.writableLength > MAX_UNSENT) this.socket.destroy(new Error('the peer takes no data'));
  }

  private set(next: Partial<TcpClientState> & { state: TcpClientState['state'] }): void {
    this.state = { ...this.state, since: clock.now(), ...next };
    this.events.changed();
  }

  private connect(): void {
    if (this.stopped) return;
    const { host, port, connectTimeoutMs } = this.options;
    this.set({ state: 'connecting', tries: this.state.tries + 1, nextTry: null });
    const socket = connect({ host, port, noDelay: true, keepAlive: true, keepAliveInitialDelay: 30_000 });
    this.socket = socket;
    let problem: string | null = null;
    const limit = setTimeout(() => {
      problem = `no connection in ${connectTimeoutMs} ms`;
      socket.destroy();
    }, connectTimeoutMs);
    socket.on('connect', () => {
      clearTimeout(limit);
      this.pause = this.options.reconnectFirstMs;
      this.set({ state: 'connected', tries: 0, problem: null });
      this.events.up();
    });
    socket.on('data', (bytes) => this.events.data(bytes));
    socket.on('error', (error) => (problem ??= inWords(error)));
    socket.on('close', () => {
      clearTimeout(limit);
      const wasUp = this.state.state === 'connected';
      this.socket = null;
      if (this.stopped) return;
      const wait = Math.round(this.pause * (0.8 + 0.4 * Math.random()));
      this.pause = Math.min(this.options.reconnectMaxMs, this.pause * 2);
      this.set({
        state: 'waiting',
        nextTry: clock.now() + wait,
        problem: problem ?? (wasUp ? 'the other end closed the connection' : 'closed before it was up'),
      });
      this.timer = setTimeout(() => this.connect(), wait);
      if (wasUp) this.events.down();
    });
  }
}

const ERROR_WORDS: Record<string, string> = {
  ECONNREFUSED: 'refused, nothing listens there',
  EHOSTUNREACH: 'no route to that host',
  ENETUNREACH: 'no route to that network',
  ETIMEDOUT: 'no answer from that host',
  ENOTFOUND: 'that host name is not known',
  EAI_AGAIN: 'the host name could not be looked up',
  ECONNRESET: 'the other end reset the connection',
  EPIPE: 'the other end closed the connection',
  EADDRINUSE: 'another program uses that port',
  EADDRNOTAVAIL: 'that address is not one of this machine',
  EACCES: 'this port needs more rights',
};

export const inWords = (error: Error & { code?: string }): string => ERROR_WORDS[error.code ?? ''] ?? error.message;
