import { browser } from '$app/environment';
import type { LaneState, Trail } from '@halvix/core/path';
import type { Reading } from '@halvix/core/point';
import { clock } from './clock.svelte.ts';
import {
  NO_TOPICS,
  topicsToQuery,
  type CommandView,
  type Hops,
  type JournalLine,
  type LiveMessage,
  type ProbeView,
  type Topics,
} from './topics.ts';

const REOPEN_AFTER_MS = 2000;
/** The server speaks at least once a second; so long without a word means that the line is dead. */
const SILENCE_MS = 6000;
/** Hidden for so long, a tab counts as not looked at. */
const HIDDEN_MS = 5000;

/**
 * The live values of what is on screen. Pages say what they show; a change of that opens a new stream, whose first
 * message has everything. After a lost connection it is the same: the first message catches up.
 */
class Live {
  points = $state<Record<number, Reading>>({});
  hops = $state<Hops>({ links: {}, devices: {}, outbounds: {}, engines: {} });
  journal = $state.raw<JournalLine[]>([]);
  trail = $state.raw<Trail | null>(null);
  command = $state.raw<CommandView | null>(null);
  probe = $state.raw<ProbeView | null>(null);
  lane = $state.raw<LaneState | null>(null);
  /** Version of the draft as the server has it. */
  draftVersion = $state(0);
  revision = $state<number | null>(null);
  /** Since when the connection is lost; null while it holds. */
  lostSince = $state<number | null>(null);
  /** Why what is seen grows old, as the server says. */
  trouble = $state.raw<NonNullable<LiveMessage['trouble']> | null>(null);
  private topics: Topics = NO_TOPICS;
  private stream: EventSource | null = null;
  private opened = '';
  private timer: ReturnType<typeof setTimeout> | null = null;
  private lastWord = 0;
  private wanted = false;
  private hideTimer: ReturnType<typeof setTimeout> | null = null;

  constructor() {
    if (!browser) return;
    setInterval(() => this.checkSilence(), 1000);
    document.addEventListener('visibilitychange', () => this.onVisibility());
  }

  /** Begins listening; values known from the page's load come along. */
  open(hops: Hops): void {
    this.hops = hops;
    this.wanted = true;
    this.reopen(0);
  }

  close(): void {
    this.wanted = false;
    this.stream?.close();
    this.stream = null;
  }

  /** Replaces part of what is listened to. */
  watch(topics: Partial<Topics>): void {
    this.topics = { ...this.topics, ...topics };
    if (topics.trail === null) this.trail = null;
    if (topics.command === null) this.command = null;
    if (topics.probe === null) this.probe = null;
    if (topics.lane === null) this.lane = null;
    this.reopen(80);
  }

  /** Values from the page's load, until the stream has newer ones. */
  seed(points: Record<number, Reading>): void {
    for (const [id, reading] of Object.entries(points)) {
      const known = this.points[Number(id)];
      if (known === undefined || known.received <= reading.received) this.points[Number(id)] = reading;
    }
  }

  /** A tab that nobody sees lets its stream go: a browser has few connections for all its tabs together. */
  private onVisibility(): void {
    if (document.visibilityState === 'visible') {
      if (this.hideTimer !== null) clearTimeout(this.hideTimer);
      this.hideTimer = null;
      if (this.stream === null) this.reopen(0);
    } else
      this.hideTimer ??= setTimeout(() => {
        this.hideTimer = null;
        if (document.visibilityState === 'visible') return;
        this.stream?.close();
        this.stream = null;
      }, HIDDEN_MS);
  }

  private reopen(wait: number): void {
    if (
      !browser ||
      !this.wanted ||
      (document.visibilityState === 'hidden' && this.stream === null && this.opened !== '')
    )
      return;
    if (this.timer !== null) clearTimeout(this.timer);
    this.timer = setTimeout(() => this.connect(), wait);
  }

  private connect(): void {
    const query = topicsToQuery(this.topics);
    if (
      this.stream !== null &&
      this.stream.readyState !== EventSource.CLOSED &&
      query === this.opened &&
      this.lostSince === null
    )
      return;
    this.stream?.close();
    this.opened = query;
    this.lastWord = Date.now();
    const stream = new EventSource(`/api/live?${query}`);
    this.stream = stream;
    stream.onmessage = (event: MessageEvent<string>) => {
      this.lastWord = Date.now();
      this.lostSince = null;
      this.take(JSON.parse(event.data) as LiveMessage);
    };
    stream.onerror = () => {
      if (this.stream !== stream) return;
      this.lostSince ??= clock.now;
      // The browser tries again by itself unless the server refused: signed out, or too many streams.
      if (stream.readyState === EventSource.CLOSED) void this.afterRefusal();
    };
  }

  private async afterRefusal(): Promise<void> {
    const answer = await fetch('/api/search').catch(() => null);
    if (answer?.status === 401)
      location.href = `/sign-in?to=${encodeURIComponent(location.pathname + location.search)}`;
    else {
      if (answer !== null && answer.status >= 500) {
        // The server is there: what it lacks is its database.
        this.trouble ??= { what: 'database', since: clock.now, words: 'The database does not answer' };
        this.lostSince = null;
      }
      this.reopen(REOPEN_AFTER_MS);
    }
  }

  private checkSilence(): void {
    if (!this.wanted || this.stream === null || Date.now() - this.lastWord < SILENCE_MS) return;
    this.lostSince ??= clock.now;
    this.reopen(0);
  }

  private take(message: LiveMessage): void {
    clock.set(message.now);
    if (message.trouble !== undefined) this.trouble = message.trouble;
    if (message.points) for (const [id, reading] of Object.entries(message.points)) this.points[Number(id)] = reading;
    if (message.hops) this.hops = message.hops;
    if (message.journal) this.journal = message.journal;
    if (message.trail !== undefined) this.trail = message.trail;
    if (message.command !== undefined) this.command = message.command;
    if (message.probe !== undefined) this.probe = message.probe;
    if (message.lane !== undefined) this.lane = message.lane;
    if (message.draft !== undefined) this.draftVersion = message.draft;
    if (message.revision !== undefined) this.revision = message.revision;
  }
}

export const live = new Live();
