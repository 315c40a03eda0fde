import { browser } from '$app/environment';
import type { DetailState, LaneState, Trail } from '@halvix/core/path';
import type { Reading } from '@halvix/core/point';
import { clock } from '../clock.svelte.ts';
import { browserStream, type Said } from './stream.ts';
import {
  NO_TOPICS,
  type CommandView,
  type Hops,
  type JournalLine,
  type LiveMessage,
  type ProbeView,
  type Topics,
} from './topics.ts';

/** The stream speaks at least once a second; so long without a word means that the line is dead. */
const SILENCE_MS = 7000;
/** Hidden for so long, a tab counts as not looked at. */
const HIDDEN_MS = 5000;

/** Where a page says what it wants to hear; null: nothing any more. */
type Speak = (topics: Topics | null) => void;

/** The stream that all pages of this browser share; a browser without such workers has one in each page. */
function join(listen: (said: Said) => void): Speak {
  if (typeof SharedWorker === 'undefined') {
    const stream = browserStream();
    return (topics) => (topics === null ? stream.leave(listen) : stream.set(listen, topics));
  }
  const { port } = new SharedWorker(new URL('./shared.worker.ts', import.meta.url), { type: 'module', name: 'live' });
  port.onmessage = ({ data }: MessageEvent<Said>) => listen(data);
  return (topics) => port.postMessage(topics);
}

/**
 * The live values of what is on screen. Pages say what they show; a change of that brings a message with everything.
 * After a lost connection it is the same: the first message catches up.
 */
class Live {
  points = $state<Record<number, Reading>>({});
  hops = $state<Hops>({ links: {}, devices: {}, outbounds: {}, engines: {} });
  journal = $state.raw<JournalLine[]>([]);
  trail = $state.raw<Trail | null>(null);
  command = $state.raw<CommandView | null>(null);
  probe = $state.raw<ProbeView | null>(null);
  lane = $state.raw<LaneState | null>(null);
  detail = $state.raw<DetailState | null>(null);
  /** Version of the draft as the server has it. */
  draftVersion = $state(0);
  revision = $state<number | null>(null);
  /** Since when the connection is lost; null while it holds. */
  lostSince = $state<number | null>(null);
  /** Why what is seen grows old, as the server says. */
  trouble = $state.raw<NonNullable<LiveMessage['trouble']> | null>(null);
  private topics: Topics = NO_TOPICS;
  private speak: Speak | null = null;
  private lastWord = 0;
  /** Whether a page that listens is open, and somebody sees it. */
  private wanted = false;
  private seen = true;
  private hideTimer: ReturnType<typeof setTimeout> | null = null;

  constructor() {
    if (!browser) return;
    setInterval(() => this.beat(), 1000);
    document.addEventListener('visibilitychange', () => this.onVisibility());
    addEventListener('pagehide', () => this.speak?.(null));
    addEventListener('pageshow', () => this.say());
  }

  /** Begins listening; values known from the page's load come along. */
  open(hops: Hops): void {
    this.hops = hops;
    this.wanted = true;
    this.lastWord = Date.now();
    this.speak ??= join((said) => this.hear(said));
    this.say();
  }

  close(): void {
    this.wanted = false;
    this.speak?.(null);
  }

  /** Replaces part of what is listened to. */
  watch(topics: Partial<Topics>): void {
    this.topics = { ...this.topics, ...topics };
    if (topics.trail === null) this.trail = null;
    if (topics.command === null) this.command = null;
    if (topics.probe === null) this.probe = null;
    if (topics.lane === null) this.lane = null;
    if (topics.detail === null) this.detail = null;
    this.say();
  }

  /** Values from the page's load, until the stream has newer ones. */
  seed(points: Record<number, Reading>): void {
    for (const [id, reading] of Object.entries(points)) {
      const known = this.points[Number(id)];
      if (known === undefined || known.received <= reading.received) this.points[Number(id)] = reading;
    }
  }

  private say(): void {
    if (this.wanted && this.seen) this.speak?.($state.snapshot(this.topics) as Topics);
  }

  /** Says again what is wanted: who is silent counts as gone. */
  private beat(): void {
    this.say();
    if (this.wanted && this.seen && Date.now() - this.lastWord > SILENCE_MS) this.lostSince ??= clock.now;
  }

  /** A tab that nobody sees listens no more. */
  private onVisibility(): void {
    if (this.hideTimer !== null) clearTimeout(this.hideTimer);
    this.hideTimer = null;
    if (document.visibilityState === 'visible') {
      if (!this.seen) this.lastWord = Date.now();
      this.seen = true;
      this.say();
    } else
      this.hideTimer = setTimeout(() => {
        this.seen = false;
        this.speak?.(null);
      }, HIDDEN_MS);
  }

  private hear(said: Said): void {
    switch (said.type) {
      case 'message':
        this.lastWord = Date.now();
        this.lostSince = null;
        this.take(said.message);
        break;
      case 'lost':
        this.lostSince ??= clock.now;
        break;
      case 'refused':
        this.lostSince ??= clock.now;
        void this.afterRefusal();
        break;
      default:
        said satisfies never;
    }
  }

  private async afterRefusal(): Promise<void> {
    const answer = await fetch('/api/search').catch(() => null);
    if (answer?.status === 401)
      location.href = `/sign-in?to=${encodeURIComponent(location.pathname + location.search)}`;
    else if (answer !== null && answer.status >= 500) {
      // The server is there: what it lacks is its database.
      this.trouble ??= { what: 'database', since: clock.now, words: 'The database does not answer' };
      this.lostSince = null;
    }
  }

  private take(message: LiveMessage): void {
    clock.set(message.now);
    if (message.trouble !== undefined) this.trouble = message.trouble;
    if (message.points) {
      const { points, also } = this.topics;
      const own = new Set([...points, ...also]);
      for (const [id, reading] of Object.entries(message.points))
        if (own.has(Number(id))) this.points[Number(id)] = reading;
    }
    if (message.hops) this.hops = message.hops;
    if (message.journal) this.journal = message.journal;
    const { trail, command, probe, lane, detail } = this.topics;
    this.trail = ownOf(message.trails, trail, this.trail);
    this.command = ownOf(message.commands, command, this.command);
    this.probe = ownOf(message.probes, probe, this.probe);
    this.lane = ownOf(message.lanes, lane, this.lane);
    this.detail = ownOf(message.details, detail, this.detail);
    if (message.draft !== undefined) this.draftVersion = message.draft;
    if (message.revision !== undefined) this.revision = message.revision;
  }
}

/** What this page wants of what came for all; what it had where nothing came. */
const ownOf = <Shown>(
  came: Record<string | number, Shown | null> | undefined,
  wanted: string | number | null,
  had: Shown | null,
): Shown | null => (wanted !== null && came !== undefined && wanted in came ? came[wanted] : had);

export const live = new Live();
