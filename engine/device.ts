import type { DeviceConfig, LinkConfig } from '@halvix/core/config';
import {
  iinWords,
  Master,
  qualityFromFlags,
  type ControlRequest,
  type MasterCommand,
  type MasterEffect,
  type MeasuredReading,
  type ReceivedFragment,
} from '@halvix/core/dnp3';
import type { DeviceState, LinkState } from '@halvix/core/path';
import { eventKey, Quality, ReplayGuard, scale, type Reading } from '@halvix/core/point';
import type { StoredReading } from '@halvix/db';
import { clock, Driver, TcpClient } from '@halvix/wire';
import { withoutCommunication, type Exchange, type LivePoint } from './exchange.ts';
import type { Historian } from './historian.ts';
import type { Journal } from './journal.ts';

export interface DeviceContext {
  exchange: Exchange;
  historian: Historian;
  journal: Journal;
  /** Progress of a control that was given to this device. */
  onControl: (progress: MasterEffect & { type: 'control' }) => void;
  /** The state of a hop changed: publish it soon. */
  changed: () => void;
}

/** Device times later than this cannot be real, and no calendar here holds them: 9999-12-31. */
const LAST_INSTANT = 253_402_300_799_999;

/** One device on its link: polls it, and passes on what comes. */
export class DeviceRunner {
  private readonly master: Master;
  private readonly driver: Driver<MasterCommand, MasterEffect>;
  private readonly link: TcpClient;
  private readonly guard: ReplayGuard;
  private state: Pick<DeviceState, 'state' | 'since' | 'words'>;
  private lastGood: number | null = null;
  private lastCommit: number | null = null;
  private roundTripMs: number | null = null;
  /** Readings of points that are not in the list. */
  unlisted = 0;

  constructor(
    readonly config: DeviceConfig,
    readonly linkConfig: LinkConfig,
    remembered: readonly string[],
    private readonly context: DeviceContext,
  ) {
    this.guard = new ReplayGuard(remembered);
    this.state = { state: 'unknown', since: clock.now(), words: 'not asked yet' };
    this.master = new Master(config.settings, clock.now());
    this.link = new TcpClient(linkConfig, {
      up: () => this.driver.start(),
      down: () => this.driver.stop(),
      data: (bytes) => this.driver.receive(bytes),
      changed: () => context.changed(),
    });
    this.driver = new Driver(this.master, (effect) => this.onEffect(effect));
  }

  start(): void {
    this.link.open();
  }

  stop(): void {
    this.link.close();
    this.driver.stop();
    this.driver.close();
  }

  control(request: ControlRequest): void {
    this.driver.command(request);
  }

  pollNow(): void {
    this.driver.command({ type: 'pollNow' });
  }

  resetCounters(): void {
    this.driver.command({ type: 'resetCounters' });
    this.context.changed();
  }

  deviceState(): DeviceState {
    return {
      ...this.state,
      lastGood: this.lastGood,
      roundTripMs: this.roundTripMs,
      lastCommit: this.lastCommit,
      nextIntegrity: this.master.nextIntegrity,
      indications: iinWords(this.master.indications),
      counters: this.master.counters.values,
      countersSince: this.master.counters.since,
    };
  }

  linkState(): LinkState {
    return { ...this.link.state, endpoint: `${this.linkConfig.host}:${this.linkConfig.port}` };
  }

  private onEffect(effect: MasterEffect): void {
    switch (effect.type) {
      case 'send':
        this.link.send(effect.octets);
        break;
      case 'readings':
        this.onReadings(effect.readings, effect.received, effect.token);
        break;
      case 'settled':
        this.guard.settle();
        break;
      case 'doubt':
        this.guard.doubt();
        break;
      case 'communication':
        this.onCommunication(effect.state, effect.words);
        break;
      case 'answered':
        this.lastGood = clock.now();
        this.roundTripMs = effect.roundTripMs;
        break;
      case 'control':
        this.context.onControl(effect);
        break;
      case 'diagnostic':
        this.context.journal.note(this.config.code, 'warning', effect.words);
        break;
      default:
        effect satisfies never;
    }
  }

  private onReadings(measured: readonly MeasuredReading[], received: ReceivedFragment, token: number | null): void {
    const now = clock.now();
    const fresh = this.freshEvents(measured);
    const stored: StoredReading[] = [];
    const points: LivePoint[] = [];
    for (const one of measured) {
      if (one.event && !fresh.has(one)) continue;
      const point = this.context.exchange.at(this.config.code, one.kind, one.index);
      if (point === undefined) {
        this.unlisted++;
        continue;
      }
      const reading = toReading(one, point, now);
      stored.push({ ...reading, pointId: point.id });
      this.noteStateChange(point, reading, one.event);
      this.context.exchange.put(point, reading, { measured: one, received });
      points.push(point);
    }
    const guard = token === null ? null : { device: this.config.code, keys: this.guard.remembered() };
    this.context.historian.add({
      readings: stored,
      guard,
      stored: (at, batch) => {
        this.lastCommit = at;
        for (const point of points) {
          if (point.origin?.received !== received) continue;
          point.committed = { at, batch };
          this.context.exchange.touch(point);
        }
        if (token !== null) this.driver.command({ type: 'committed', token });
      },
    });
  }

  /** The events of a fragment that were not stored before. */
  private freshEvents(measured: readonly MeasuredReading[]): Set<MeasuredReading> {
    const events = measured.filter((one) => one.event);
    const admitted = this.guard.admit(
      events.map(({ kind, index, value, flags, time }) => ({
        key: eventKey(`${kind} ${index}`, value, flags, time),
        timed: time !== null,
      })),
    );
    return new Set(events.filter((_, i) => admitted[i]));
  }

  private noteStateChange(point: LivePoint, reading: Reading, event: boolean): void {
    if (!event || point.config.kind !== 'binary') return;
    const word = point.config.states?.[reading.raw ? 1 : 0] ?? String(reading.raw);
    this.context.journal.noteChange(this.config.code, `${point.config.name}: ${word}`, reading.time);
  }

  private onCommunication(state: 'answering' | 'silent', words: string): void {
    const { journal, changed } = this.context;
    const first = this.state.state === 'unknown';
    this.state = { state, since: clock.now(), words };
    if (state === 'silent') {
      this.loseReadings();
      journal.note(this.config.code, 'lost', `no communication: ${words}`);
    } else if (!first) journal.note(this.config.code, 'plain', 'answers again');
    changed();
  }

  /** All points keep their last value and time, and say that there is no communication. */
  private loseReadings(): void {
    const now = clock.now();
    const { exchange, historian } = this.context;
    const stored: StoredReading[] = [];
    for (const point of exchange.ofDevice(this.config.code)) {
      if (point.reading === null || point.reading.quality & Quality.commLost) continue;
      const lost = withoutCommunication(point.reading);
      exchange.put(point, lost, null);
      stored.push({ ...lost, pointId: point.id, time: now, timeSource: 'engine', received: now });
    }
    if (stored.length > 0) historian.add({ readings: stored, guard: null, stored: () => {} });
  }
}

function toReading(one: MeasuredReading, point: LivePoint, now: number): Reading {
  let quality = qualityFromFlags(one.kind, one.flags);
  let raw = one.value;
  if (!Number.isFinite(raw)) {
    quality |= Number.isNaN(raw) ? Quality.referenceError : Quality.overRange;
    raw = Number.isNaN(raw) ? 0 : Math.sign(raw) * Number.MAX_VALUE;
  }
  const credible = one.time !== null && one.time <= LAST_INSTANT;
  return {
    raw,
    value: scale(raw, point.config),
    quality,
    time: credible ? (one.time ?? now) : now,
    timeSource: credible ? one.timeSource : 'receipt',
    received: now,
    cause: one.event ? 'event' : 'static',
  };
}
