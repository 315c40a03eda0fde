import { describe, expect, test } from 'vitest';
import type { Instant } from '../../../session/index.ts';
import { Lane, NO_LINE_TIMING, octetMs, type LaneEffect, type LineTiming } from '../../../line/index.ts';
import { Master } from './master.ts';
import type { MasterCommand, MasterEffect } from './mastermessages.ts';
import { linkFraming } from '../wire/framing.ts';
import type { LinkEvent } from '../wire/link.ts';
import { Outstation } from '../server/outstation.ts';
import { DEFAULT_VARIATIONS, type OutstationPoint } from '../server/pointtable.ts';
import { masterSettings, outstationSettings, type MasterSettings } from '../settings.ts';

type MasterNews = Exclude<MasterEffect, { type: 'send' }>;

const SERIAL: LineTiming = { ...NO_LINE_TIMING, bitRate: 9600, bitsPerOctet: 11 };

const points: OutstationPoint[] = Array.from({ length: 10 }, (_, index) => ({
  kind: 'analog',
  index,
  class: 2,
  staticVariation: DEFAULT_VARIATIONS.analog.static,
  eventVariation: DEFAULT_VARIATIONS.analog.event,
  deadband: 0,
}));

/** A lane and its outstations on one line in virtual time; octets take their time both ways. */
class Line {
  now: Instant = 1_700_000_000_000;
  readonly lane: Lane<MasterCommand, MasterNews, LinkEvent>;
  readonly outstations = new Map<string, Outstation>();
  readonly dead = new Set<string>();
  readonly log: { at: Instant; device: string; words: string; took: number; outcome: string }[] = [];
  readonly keys: { at: Instant; on: boolean }[] = [];
  readonly sentAt: Instant[] = [];
  readonly effects: (LaneEffect<MasterNews> & { type: 'device' })[] = [];
  private flights: { at: Instant; run: () => void }[] = [];
  private lineFree: Instant = 0;
  private lastFrom = 'lane';
  /** When two were on the line at a time. */
  collisions = 0;
  commitMs = 0;

  constructor(
    readonly timing: LineTiming,
    settings: Record<string, Partial<MasterSettings>>,
  ) {
    this.lane = new Lane(timing, linkFraming(), this.now);
    let address = 20;
    for (const [device, own] of Object.entries(settings)) {
      address++;
      const polls = { class1PeriodMs: 0, class2PeriodMs: 1, class3PeriodMs: 0, integrityPeriodMs: 0 };
      const parsed = masterSettings.parse({ ourAddress: 1, theirAddress: address, ...polls, ...own });
      const there = outstationSettings.parse({ ourAddress: address, theirAddress: 1 });
      this.outstations.set(device, new Outstation(there, points, this.now));
      this.lane.add(device, new Master(parsed, this.now, { lane: true, octetMs: octetMs(timing) }), this.now);
    }
  }

  connect(): void {
    for (const outstation of this.outstations.values()) outstation.start(this.now);
    this.lane.start(this.now);
    this.pump();
  }

  private later(ms: number, run: () => void): void {
    this.flights.push({ at: this.now + ms, run });
    this.flights.sort((a, b) => a.at - b.at);
  }

  /** Octets on the line, one transmission at a time. */
  private carry(octets: Uint8Array, from: 'lane' | 'device', arrive: () => void): void {
    // What follows one's own octets waits in the sender.
    if (this.now < this.lineFree && from !== this.lastFrom) this.collisions++;
    this.lastFrom = from;
    const took = octets.length * octetMs(this.timing);
    this.lineFree = Math.max(this.now, this.lineFree) + took;
    this.later(this.lineFree - this.now, arrive);
  }

  pump(): void {
    for (let effects = this.lane.take(); effects.length > 0; effects = this.lane.take())
      for (const effect of effects) {
        if (effect.type === 'key') this.keys.push({ at: this.now, on: effect.on });
        if (effect.type === 'turn') {
          const { device, words, began, ended, outcome } = effect.turn;
          this.log.push({ at: began, device, words, took: ended - began, outcome });
        }
        if (effect.type === 'device') {
          this.effects.push(effect);
          const { device, effect: inner } = effect;
          if (inner.type === 'readings' && inner.token !== null) {
            const { token } = inner;
            this.later(this.commitMs, () =>
              this.lane.command({ device, command: { type: 'committed', token } }, this.now),
            );
          }
        }
        if (effect.type === 'send') {
          this.sentAt.push(this.now);
          const { octets } = effect;
          this.carry(octets, 'lane', () => {
            for (const [device, outstation] of this.outstations)
              if (!this.dead.has(device)) outstation.receive(octets, this.now);
          });
        }
      }
    for (const outstation of this.outstations.values())
      for (const effect of outstation.take())
        if (effect.type === 'send') {
          const { octets } = effect;
          this.carry(octets, 'device', () => this.lane.receive(octets, this.now));
        }
  }

  pass(ms: number): void {
    const end = this.now + ms;
    for (let steps = 0; steps < 1_000_000; steps++) {
      const deadlines = [...this.outstations.values()].map((one) => one.deadline ?? Infinity);
      const next = Math.min(this.lane.deadline ?? Infinity, this.flights[0]?.at ?? Infinity, ...deadlines);
      if (next > end) break;
      this.now = Math.max(this.now, next);
      while (this.flights[0]?.at <= this.now) this.flights.shift()?.run();
      this.lane.wake(this.now);
      for (const outstation of this.outstations.values()) outstation.wake(this.now);
      this.pump();
    }
    this.now = end;
  }

  update(device: string, index: number, value: number): void {
    const update = { kind: 'analog' as const, index, value, flags: 1, time: this.now };
    this.outstations.get(device)?.command({ type: 'update', updates: [update] }, this.now);
  }

  turnsOf(device: string, after: Instant): number {
    return this.log.filter((turn) => turn.device === device && turn.at >= after).length;
  }
}

const states = (line: Line): string[] =>
  line.effects.flatMap(({ device, effect }) => (effect.type === 'communication' ? `${device} ${effect.state}` : []));

describe('a shared line', () => {
  test('one at a time, each in turn', () => {
    const line = new Line(SERIAL, { A: {}, B: {}, C: {} });
    line.connect();
    line.pass(10_000);
    expect(states(line).sort()).toEqual(['A answering', 'B answering', 'C answering']);
    expect(line.collisions).toBe(0);
    const rounds = line.log.slice(-30).map(({ device }) => device);
    for (const device of ['A', 'B', 'C']) expect(rounds.filter((one) => one === device).length).toBeGreaterThan(8);
    expect(line.lane.numbers().devices.A.cycleMs).toBeGreaterThan(0);
  });

  test('the line works on while a commit is awaited, and the confirm follows', () => {
    const line = new Line(SERIAL, { A: {}, B: {} });
    line.commitMs = 150;
    line.connect();
    line.pass(5000);
    const before = line.log.length;
    line.update('A', 3, 77);
    line.pass(1000);
    const words = line.log.slice(before).map(({ device, words }) => `${device} ${words}`);
    const confirm = words.indexOf('A confirm');
    expect(confirm).toBeGreaterThan(0);
    expect(words.slice(0, confirm).filter((word) => word.startsWith('B')).length).toBeGreaterThan(0);
    expect(line.outstations.get('A')?.events.size).toBe(0);
    expect(line.collisions).toBe(0);
  });

  test('a dead device is asked rarely and briefly, its neighbours keep their cycle, and it comes back', () => {
    const line = new Line(SERIAL, { A: {}, B: {}, C: { silentPeriodMs: 15_000, silentTimeoutMs: 300 } });
    line.connect();
    line.pass(5000);
    line.dead.add('C');
    line.pass(10_000);
    expect(states(line)).toContain('C silent');
    const from = line.now;
    line.pass(60_000);
    const asked = line.log.filter(({ device, at }) => device === 'C' && at >= from);
    expect(asked.length).toBeGreaterThanOrEqual(3);
    expect(asked.length).toBeLessThanOrEqual(5);
    for (const { took, outcome } of asked) {
      expect(took).toBeLessThan(400);
      expect(outcome).toBe('silent');
    }
    line.dead.delete('C');
    line.pass(16_000);
    expect(states(line).at(-1)).toBe('C answering');
  });

  test('a control goes before everything else', () => {
    const line = new Line(SERIAL, { A: {}, B: {}, C: {} });
    line.connect();
    line.pass(5000);
    const before = line.log.length;
    const block = { code: 0x03, count: 1, onMs: 0, offMs: 0 };
    const request = { type: 'control' as const, id: 'x', index: 0, block, mode: 'direct' as const };
    line.lane.command({ device: 'C', command: { ...request, expiresAt: line.now + 5000 } }, line.now);
    line.pump();
    line.pass(1000);
    const order = line.log.slice(before).map(({ words }) => words);
    expect(order.indexOf('operate')).toBeLessThanOrEqual(1);
  });

  test('a file is read between the polls, which keep their cycle, also where a poll is always due', () => {
    const content = new Uint8Array(6000).fill(65);
    const read = (class2PeriodMs: number, ms: number): { polls: number; blocks: number; done: boolean } => {
      const line = new Line(SERIAL, { A: { class2PeriodMs, maxFragment: 600, responseTimeoutMs: 3000 } });
      line.connect();
      line.pass(3000);
      line.outstations.get('A')?.command({ type: 'setFiles', files: [{ name: 'R', content, time: 0 }] }, line.now);
      const from = line.now;
      const order = { what: 'readFile', name: 'R' } as const;
      line.lane.command({ device: 'A', command: { type: 'order', id: 'o', order } }, line.now);
      line.pump();
      line.pass(ms);
      const turns = line.log.filter(({ at }) => at >= from);
      const ended = line.effects.flatMap(({ effect }) => (effect.type === 'ordered' ? [effect.answer.file] : []));
      if (ended.length > 0) expect(ended[0]).toEqual(content);
      const count = (words: RegExp): number => turns.filter((turn) => words.test(turn.words)).length;
      return { polls: count(/^events/), blocks: count(/^read file/), done: ended.length > 0 };
    };
    // A block takes some 0.7 s: a poll each second has its turn all the same.
    const usual = read(1000, 12_000);
    expect(usual.done).toBe(true);
    expect(usual.polls).toBeGreaterThanOrEqual(10);
    const busy = read(1, 40_000);
    expect(busy.done).toBe(true);
    expect(busy.polls).toBeGreaterThan(busy.blocks);
  });

  test('shares: twice the share, twice the line', () => {
    const line = new Line(SERIAL, { A: { share: 2 }, B: {} });
    line.connect();
    line.pass(5000);
    const from = line.now;
    line.pass(30_000);
    const ratio = line.turnsOf('A', from) / line.turnsOf('B', from);
    expect(ratio).toBeGreaterThan(1.7);
    expect(ratio).toBeLessThan(2.3);
  });

  test('an integrity poll is due in time on a line that is never idle', () => {
    const line = new Line(SERIAL, { A: { integrityPeriodMs: 30_000 }, B: {}, C: {} });
    line.connect();
    line.pass(120_000);
    const polls = line.log.filter(({ device, words }) => device === 'A' && words === 'integrity poll');
    expect(polls.length).toBeGreaterThanOrEqual(4);
  });

  test('a radio is keyed before the octets and let go after them', () => {
    const timing = { ...SERIAL, keyUpMs: 60, keyDownMs: 20 };
    const line = new Line(timing, { A: { class2PeriodMs: 1000 }, B: { class2PeriodMs: 1000 } });
    line.connect();
    line.pass(10_000);
    expect(line.collisions).toBe(0);
    const on = line.keys.filter((key) => key.on);
    expect(on.length).toBeGreaterThan(10);
    expect(line.keys.length - on.length).toBeGreaterThanOrEqual(on.length - 1);
    for (const at of line.sentAt) {
      const keyed = on.filter((key) => key.at <= at).at(-1);
      expect(at - (keyed?.at ?? 0)).toBeGreaterThanOrEqual(60);
      const off = line.keys.find((key) => !key.on && key.at > (keyed?.at ?? 0));
      expect(off?.at ?? Infinity).toBeGreaterThan(at);
    }
  });

  test('a device that is taken off the line or put on it leaves the others alone', () => {
    const line = new Line(SERIAL, { A: {}, B: {} });
    line.connect();
    line.pass(5000);
    line.lane.remove('B', line.now);
    line.pump();
    const from = line.now;
    line.pass(5000);
    expect(line.turnsOf('B', from)).toBe(0);
    expect(line.turnsOf('A', from)).toBeGreaterThan(5);
    expect(states(line)).not.toContain('A silent');
  });
});
