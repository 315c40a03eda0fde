import type { Instant } from '../../../../session/index.ts';
import { Master } from '../../client/master.ts';
import type { MasterEffect } from '../../client/mastermessages.ts';
import type { ListedPoint } from '../../client/intake/carried.ts';
import { Outstation } from '../../server/outstation.ts';
import { DEFAULT_VARIATIONS } from '../../server/pointtable.ts';
import { masterSettings, outstationSettings, type MasterSettings } from '../../settings.ts';
import { ModelDevice, type ModelEvent, type ModelPoint, type Quirks } from './device.ts';

export const MODEL_POINTS: readonly ModelPoint[] = [
  { kind: 'binary', index: 0, class: 1 },
  { kind: 'binary', index: 1, class: 1 },
  { kind: 'doubleBit', index: 0, class: 1 },
  { kind: 'analog', index: 0, class: 2 },
  { kind: 'analog', index: 1, class: 2 },
  { kind: 'counter', index: 0, class: 3 },
];

/**
 * Our master before a model device, in virtual time, with a store that keeps what a commit keeps, and our outstation
 * behind it: events are counted at each of the three places.
 */
export class ModelTrial {
  now: Instant = 1_700_000_000_000;
  readonly device: ModelDevice;
  master: Master;
  readonly effects: MasterEffect[] = [];
  readonly stored: string[] = [];
  readonly passedOn: string[] = [];
  /** Time from a commit's beginning to its end. */
  commitMs = 2;
  /** Octets towards the device are lost while it says so. */
  cut = false;
  private readonly centre: Outstation;
  private commits: { at: Instant; token: number; keep: Uint8Array | null; events: string[] }[] = [];
  private keep: Uint8Array | null = null;
  private readonly settings: MasterSettings;

  constructor(
    quirks: Quirks,
    settings: Partial<MasterSettings> = {},
    readonly points: readonly ModelPoint[] = MODEL_POINTS,
  ) {
    this.device = new ModelDevice(points, quirks, this.now);
    this.settings = masterSettings.parse({ ourAddress: 1, theirAddress: 11, ...settings });
    this.master = new Master(this.settings, this.now, { points: this.listed });
    this.centre = new Outstation(
      outstationSettings.parse({ ourAddress: 10, theirAddress: 100, eventsPerClass: 100_000 }),
      points.map((point) => ({
        ...point,
        staticVariation: DEFAULT_VARIATIONS[point.kind].static,
        eventVariation: DEFAULT_VARIATIONS[point.kind].event,
        deadband: 0,
      })),
      this.now,
    );
  }

  private get listed(): ListedPoint[] {
    return this.points.map(({ kind, index }, id) => ({ id, kind, index }));
  }

  connect(): void {
    this.master.start(this.now);
    this.pump();
  }

  disconnect(): void {
    this.device.disconnect();
    this.master.stop(this.now);
    this.pump();
  }

  /** The engine dies: what is not committed is gone, and a new master begins with what was kept. */
  die(): void {
    this.device.disconnect();
    this.commits = [];
    this.master = new Master(this.settings, this.now, { remembered: this.keep, points: this.listed });
    this.master.start(this.now);
    this.pump();
  }

  change(point: ModelPoint, value: number): void {
    this.device.change(point, value, this.now);
  }

  pass(ms: number): void {
    const end = this.now + ms;
    for (;;) {
      const times = [this.master.deadline, this.device.deadline, ...this.commits.map(({ at }) => at)];
      const next = Math.min(...times.map((at) => at ?? Infinity));
      if (next > end) break;
      this.now = Math.max(this.now, next);
      for (const commit of this.commits.filter(({ at }) => at <= this.now)) this.commit(commit);
      this.master.wake(this.now);
      this.device.wake(this.now);
      this.pump();
    }
    this.now = end;
    this.device.wake(this.now);
    this.pump();
  }

  /** Generated, stored and passed on, each in the same order. */
  get counts(): { generated: string[]; stored: string[]; passedOn: string[] } {
    const wordsOf = (events: readonly ModelEvent[]): string[] =>
      events.map(({ kind, index, value, time }) => `${kind} ${index} ${value} ${time}`);
    const generated = wordsOf(this.device.generated).sort();
    // What the device forgot may have come before, once.
    const stored = this.stored.toSorted();
    for (const word of wordsOf(this.device.forgotten))
      if (stored.filter((one) => one === word).length > generated.filter((one) => one === word).length)
        stored.splice(stored.indexOf(word), 1);
    return { generated, stored, passedOn: this.passedOn.toSorted() };
  }

  private pump(): void {
    for (let busy = true; busy;) {
      busy = false;
      for (const effect of this.master.take()) {
        busy = true;
        if (effect.type === 'send') {
          if (!this.cut) this.device.receive(effect.octets, this.now);
        } else this.onEffect(effect);
      }
      for (const octets of this.device.take(this.now)) {
        busy = true;
        this.master.receive(octets, this.now);
      }
    }
  }

  private onEffect(effect: MasterEffect): void {
    this.effects.push(effect);
    if (effect.type === 'keep') this.keep = effect.keep;
    if (effect.type !== 'readings') return;
    const events = effect.readings.filter(({ event, kind }) => event && kind !== 'text');
    const words = events.map(({ kind, index, value, time }) => `${kind} ${index} ${value} ${time}`);
    this.passOn(events);
    if (effect.token === null) this.stored.push(...words);
    else this.commits.push({ at: this.now + this.commitMs, token: effect.token, keep: effect.keep, events: words });
  }

  private passOn(
    events: readonly { kind: ModelPoint['kind'] | 'text'; index: number; value: number; time: number | null }[],
  ): void {
    this.centre.command(
      {
        type: 'update',
        updates: events.map(({ kind, index, value, time }) => ({
          kind,
          index,
          value,
          flags: 1,
          time: time ?? this.now,
          always: true,
        })),
      },
      this.now,
    );
    let at = 0;
    for (const effect of this.centre.take())
      if (effect.type === 'event') {
        const { kind, index, value } = effect.event;
        this.passedOn.push(`${kind} ${index} ${value} ${events[at++].time}`);
      }
  }

  private commit(commit: (typeof this.commits)[number]): void {
    this.commits = this.commits.filter((one) => one !== commit);
    this.stored.push(...commit.events);
    this.keep = commit.keep;
    this.master.command({ type: 'committed', token: commit.token }, this.now);
  }
}
