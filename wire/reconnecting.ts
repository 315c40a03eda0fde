import type { Instant } from '@halvix/core/session';
import { clock } from './clock.ts';
import { Inflow } from './inflow.ts';
import { tap } from './tap.ts';

export interface ReconnectOptions {
  connectTimeoutMs: number;
  reconnectFirstMs: number;
  reconnectMaxMs: number;
  /** A connection counts as one only once `useful` was called: until then pauses go on growing. */
  mustProve?: boolean;
  /** Code of the link that it is, for the tap; absent: it is none. */
  link?: string;
  /** What comes is messages, each whole. */
  whole?: boolean;
}

export interface LinkStatus {
  /** resting: nothing to do until `nextTry`. */
  state: 'connecting' | 'connected' | 'waiting' | 'resting';
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

/** One attempt at a connection, and the connection that comes of it. */
export interface Attempt {
  send(octets: Uint8Array): void;
  /** Octets that wait to be sent. */
  unsent(): number;
  destroy(): void;
  /** Keys the transmitter, where there is one. */
  key?(on: boolean): void;
  /** Stops and goes on reading, where that can be done. */
  hold?(on: boolean): void;
  /** What comes is messages, each whole. */
  whole?: boolean;
  /** Where it leads, where that is not always the same. */
  where?: string;
}

export interface AttemptEvents {
  up(): void;
  data(bytes: Uint8Array): void;
  /** It has ended; called once, whether it was up or not. */
  ended(problem: string | null): void;
}

/** Octets that may wait to be sent; a peer that takes none for so long is cut off. */
const MAX_UNSENT = 1 << 20;

/**
 * A connection that is made again for ever, with pauses that double up to a limit and vary by a fifth. It can be told
 * to rest, and to call again at a time or at once.
 */
export class Reconnecting {
  private attempt: Attempt | null = null;
  private inflow: Inflow | null = null;
  private timer: NodeJS.Timeout | null = null;
  private stopped = false;
  /** Why we ended the connection ourselves. */
  private dropped: string | null = null;
  private pause: number;
  /** Set while hanging up: when the next call is due; null: when it is asked for. */
  private resting: { until: Instant | null } | null = null;
  state: LinkStatus = { state: 'connecting', since: clock.now(), tries: 0, nextTry: null, problem: null };

  constructor(
    readonly options: ReconnectOptions,
    private readonly dial: (events: AttemptEvents) => Attempt,
    private readonly events: LinkEvents,
    /** Where all attempts lead, as people say it. */
    private readonly peer: string,
  ) {
    this.pause = options.reconnectFirstMs;
  }

  open(): void {
    this.connect();
  }

  close(): void {
    this.stopped = true;
    if (this.timer !== null) clearTimeout(this.timer);
    this.hangUp();
  }

  /** Where this connection, or this try, leads; null: where all do. */
  get where(): string | null {
    return this.attempt?.where ?? null;
  }

  /** Something came of it: the next pause is short again. */
  useful(): void {
    this.pause = this.options.reconnectFirstMs;
  }

  send(octets: Uint8Array): void {
    if (this.attempt === null || this.state.state !== 'connected') return;
    tap.pass(this.options.link, this.where ?? this.peer, 'out', octets);
    this.attempt.send(octets);
    if (this.attempt.unsent() > MAX_UNSENT) this.hangUp();
  }

  key(on: boolean): void {
    if (this.state.state === 'connected') this.attempt?.key?.(on);
  }

  /** Hangs up until then; null: until `call`. */
  rest(until: Instant | null): void {
    this.resting = { until };
    if (this.attempt !== null) this.hangUp();
    else this.beginRest();
  }

  /** Ends the connection, for a reason of ours; it is made anew after the usual pause. */
  drop(problem: string): void {
    if (this.state.state !== 'connected') return;
    this.dropped = problem;
    this.hangUp();
  }

  /** Ends a rest or a pause: connects now. */
  call(): void {
    if (this.state.state !== 'resting' && this.state.state !== 'waiting') return;
    if (this.timer !== null) clearTimeout(this.timer);
    this.resting = null;
    this.connect();
  }

  /** We end it: what has come of it is not wanted any more. */
  private hangUp(): void {
    this.inflow?.discard();
    this.attempt?.destroy();
  }

  private set(next: Partial<LinkStatus> & { state: LinkStatus['state'] }): void {
    this.state = { ...this.state, since: clock.now(), ...next };
    this.events.changed();
  }

  private beginRest(): void {
    if (this.timer !== null) clearTimeout(this.timer);
    const until = this.resting?.until ?? null;
    this.set({ state: 'resting', tries: 0, nextTry: until, problem: null });
    if (until !== null) this.timer = setTimeout(() => this.call(), Math.max(0, until - clock.now()));
  }

  private connect(): void {
    if (this.stopped) return;
    const { connectTimeoutMs } = this.options;
    this.set({ state: 'connecting', tries: this.state.tries + 1, nextTry: null });
    let problem: string | null = null;
    const inflow = new Inflow({
      deliver: (bytes) => {
        tap.pass(this.options.link, this.where ?? this.peer, 'in', bytes);
        this.events.data(bytes);
      },
      hold: (on) => this.attempt?.hold?.(on),
      whole: this.options.whole ?? false,
    });
    this.inflow = inflow;
    const attempt = this.dial({
      up: () => {
        clearTimeout(limit);
        if (!this.options.mustProve) this.useful();
        this.set({ state: 'connected', tries: 0, problem: null });
        this.events.up();
      },
      data: (bytes) => inflow.push(bytes),
      ended: (why) => {
        clearTimeout(limit);
        inflow.finish(() => this.onEnd(problem ?? why));
      },
    });
    this.attempt = attempt;
    const limit = setTimeout(() => {
      problem = `no connection in ${connectTimeoutMs} ms`;
      attempt.destroy();
    }, connectTimeoutMs);
  }

  private onEnd(problem: string | null): void {
    const wasUp = this.state.state === 'connected';
    const where = this.where === null ? '' : `${this.where}: `;
    this.attempt = null;
    if (this.stopped) return;
    if (this.resting !== null) {
      this.beginRest();
      if (wasUp) this.events.down();
      return;
    }
    const wait = Math.round(this.pause * (0.8 + 0.4 * Math.random()));
    this.pause = Math.min(this.options.reconnectMaxMs, this.pause * 2);
    this.set({
      state: 'waiting',
      nextTry: clock.now() + wait,
      problem: `${where}${this.dropped ?? problem ?? (wasUp ? 'the other end closed the connection' : 'closed before it was up')}`,
    });
    this.dropped = null;
    this.timer = setTimeout(() => this.connect(), wait);
    if (wasUp) this.events.down();
  }
}
