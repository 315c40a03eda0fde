import { CHANNELS, type Trail } from '@halvix/core/path';
import { notify, writeHopStates, writeJournal, writeLatest, writeTrails, type Database } from '@halvix/db';
import { clock } from '@halvix/wire';
import type { Exchange, LivePoint } from '../board/exchange.ts';
import { HopRounds, type Hop } from './hoprounds.ts';
import type { Journal } from '../journal.ts';
import { log, reason } from '../log.ts';

export interface PublisherContext {
  database: Database;
  /** Of the engine: only the holder of the lease writes. */
  run: string;
  /** By its name. */
  engine: string;
  exchange: Exchange;
  journal: Journal;
  hops: () => Hop[];
  trailOf: (point: LivePoint) => Trail | null;
}

const SHORTEST_PAUSE_MS = 250;
const PAUSE_AFTER_FAILURE_MS = 1000;
const WATCH_MS = 30_000;
const MAX_WATCHED = 200;

/**
 * Writes what people see (latest readings, states of the hops, watched trails, the journal) and announces it, at most
 * four times a second. Nothing here is needed to keep a reading: when the database is away, the newest is written
 * later.
 */
export class Publisher {
  private timer: NodeJS.Timeout | null = null;
  private publishing = false;
  /** Something changed while the last of it was written. */
  private again = false;
  private stopped = false;
  private last = 0;
  private hopsDirty = true;
  private readonly rounds = new HopRounds();
  private readonly watched = new Map<number, number>();
  private readonly watchedLinks = new Map<string, number>();
  private readonly watchedDevices = new Map<string, number>();
  private failing = false;

  constructor(private readonly context: PublisherContext) {
    context.exchange.onChange = () => this.soon();
    context.journal.onChange = () => this.soon();
  }

  /** The state of a hop or a command changed. */
  hopsChanged(): void {
    this.hopsDirty = true;
    this.soon();
  }

  /** Somebody looks at a point's trail: keep it written for a while. */
  watch(pointId: number): void {
    if (this.watched.size >= MAX_WATCHED && !this.watched.has(pointId)) return;
    this.watched.set(pointId, clock.now() + WATCH_MS);
    this.context.exchange.watched.add(pointId);
    this.context.exchange.touch(pointId);
  }

  /** Somebody looks at a link's lane. */
  watchLink(code: string): void {
    this.lookAt(this.watchedLinks, code);
  }
  isWatchedLink(code: string): boolean {
    return isLookedAt(this.watchedLinks, code);
  }

  /** Somebody looks at what a device's session knows beside its points. */
  watchDevice(code: string): void {
    this.lookAt(this.watchedDevices, code);
  }
  isWatchedDevice(code: string): boolean {
    return isLookedAt(this.watchedDevices, code);
  }

  private lookAt(watched: Map<string, number>, code: string): void {
    if (watched.size >= MAX_WATCHED && !watched.has(code)) return;
    watched.set(code, clock.now() + WATCH_MS);
    this.hopsChanged();
  }

  stop(): void {
    this.stopped = true;
    if (this.timer !== null) clearTimeout(this.timer);
  }

  private soon(): void {
    if (this.publishing) this.again = true;
    if (this.timer !== null || this.publishing || this.stopped) return;
    this.timer = setTimeout(() => void this.publish(), Math.max(0, this.last + SHORTEST_PAUSE_MS - clock.now()));
  }

  /** Once a second even when nothing changed: ages and counters. */
  heartbeat(): void {
    this.hopsChanged();
  }

  private async publish(): Promise<void> {
    this.timer = null;
    this.publishing = true;
    this.last = clock.now();
    const { database, exchange, journal, run, engine } = this.context;
    const { points, readings } = exchange.takeChanged();
    const entries = journal.take();
    const hops = this.hopsDirty ? this.rounds.due(this.context.hops(), this.last) : [];
    this.hopsDirty = false;
    try {
      await writeLatest(database, readings, run);
      await writeHopStates(database, engine, hops, this.last, run);
      await writeTrails(database, this.trails(points), this.last);
      await writeJournal(database, entries);
      await notify(database, CHANNELS.live, '');
      this.rounds.wrote(hops);
      this.failing = false;
    } catch (error) {
      exchange.giveBack(points);
      journal.giveBack(entries);
      this.hopsDirty = true;
      this.again = true;
      this.rounds.failed();
      if (!this.failing) log('error', 'live values cannot be written; trying on', { reason: reason(error) });
      this.failing = true;
      this.last = clock.now() + PAUSE_AFTER_FAILURE_MS;
    }
    this.publishing = false;
    const { again } = this;
    this.again = false;
    if (again) this.soon();
  }

  private trails(points: readonly LivePoint[]): Trail[] {
    const now = clock.now();
    for (const [id, until] of this.watched)
      if (until < now && this.watched.delete(id)) this.context.exchange.watched.delete(id);
    return points.flatMap((point) => (this.watched.has(point.id) ? (this.context.trailOf(point) ?? []) : []));
  }
}

function isLookedAt(watched: Map<string, number>, code: string): boolean {
  const until = watched.get(code) ?? 0;
  if (until >= clock.now()) return true;
  watched.delete(code);
  return false;
}
