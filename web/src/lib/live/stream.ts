import { askedOf, queryOf, type LiveMessage, type Topics } from './topics.ts';

/*
 * One stream of live values for all pages of a browser: a browser has few connections to one server for all its tabs
 * together, and each tab with a stream of its own would soon leave none for anything else.
 *
 *   - Who listens says what it wants to hear, and says it again each second; who says nothing for long is gone.
 *   - A change of what all together want opens a new stream, whose first message has everything; so does a newcomer.
 *   - A stream without a word is dead, and opened anew. One that the server refused is tried again after a pause.
 *   - Nobody listens: no stream.
 */

/** What listeners are told besides what the server says. */
export type Said = { type: 'message'; message: LiveMessage } | { type: 'lost' } | { type: 'refused' };
export type Listener = (said: Said) => void;

/** As much of an EventSource as is needed. */
export interface StreamSource {
  onmessage: ((event: { data: string }) => void) | null;
  onerror: (() => void) | null;
  readonly refused: boolean;
  close(): void;
}

const CHANGES_TOGETHER_MS = 80;
const GONE_MS = 10_000;
/** The server speaks at least once a second. */
const SILENCE_MS = 6000;
const AFTER_REFUSAL_MS = 2000;

export class SharedStream {
  private readonly listeners = new Map<Listener, { topics: string; asked: Topics; heard: number }>();
  private source: StreamSource | null = null;
  private lastWord = 0;
  private openAt: number | null = null;

  constructor(
    private readonly open: (query: string) => StreamSource,
    private readonly now: () => number,
    /** Calls `tick` after so many milliseconds. */
    private readonly wake: (ms: number) => void,
  ) {}

  /** Joins, changes what is wanted, or says that one is still there. */
  set(listener: Listener, asked: Topics): void {
    const topics = JSON.stringify(asked);
    const known = this.listeners.get(listener);
    this.listeners.set(listener, { topics, asked, heard: this.now() });
    if (known?.topics !== topics) this.reopen(known === undefined && this.source === null ? 0 : CHANGES_TOGETHER_MS);
  }

  leave(listener: Listener): void {
    this.listeners.delete(listener);
    if (this.listeners.size === 0) this.shut();
  }

  /** To be called once a second, and when `wake` said so. */
  tick(): void {
    const now = this.now();
    for (const [listener, { heard }] of this.listeners) if (now - heard > GONE_MS) this.listeners.delete(listener);
    if (this.listeners.size === 0) return this.shut();
    if (this.source !== null && this.openAt === null && now - this.lastWord > SILENCE_MS) {
      this.tell({ type: 'lost' });
      this.reopen(0);
    }
    if (this.openAt !== null && now >= this.openAt) this.connect();
  }

  private reopen(wait: number): void {
    const at = this.now() + wait;
    this.openAt = at;
    if (wait < 1000) this.wake(wait);
  }

  private shut(): void {
    this.source?.close();
    this.source = null;
    this.openAt = null;
  }

  private connect(): void {
    this.shut();
    this.lastWord = this.now();
    const source = this.open(queryOf(askedOf([...this.listeners.values()].map(({ asked }) => asked))));
    this.source = source;
    source.onmessage = ({ data }) => {
      if (this.source !== source) return;
      this.lastWord = this.now();
      this.tell({ type: 'message', message: JSON.parse(data) as LiveMessage });
    };
    source.onerror = () => {
      if (this.source !== source) return;
      // An EventSource tries again by itself unless the server refused: signed out, or too many streams.
      this.tell({ type: source.refused ? 'refused' : 'lost' });
      if (source.refused) this.reopen(AFTER_REFUSAL_MS);
    };
  }

  private tell(said: Said): void {
    for (const listener of [...this.listeners.keys()]) listener(said);
  }
}

/** A stream over the browser's own EventSource, in a page or in a worker. */
export function browserStream(): SharedStream {
  const open = (query: string): StreamSource => {
    const events = new EventSource(`/api/live?${query}`);
    const source: StreamSource = {
      onmessage: null,
      onerror: null,
      get refused() {
        return events.readyState === EventSource.CLOSED;
      },
      close: () => events.close(),
    };
    events.onmessage = (event: MessageEvent<string>) => source.onmessage?.(event);
    events.onerror = () => source.onerror?.();
    return source;
  };
  const stream: SharedStream = new SharedStream(open, Date.now, (ms) => setTimeout(() => stream.tick(), ms));
  setInterval(() => stream.tick(), 1000);
  return stream;
}
