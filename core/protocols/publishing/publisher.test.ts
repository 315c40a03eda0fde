import fc from 'fast-check';
import { beforeEach, describe, expect, test } from 'vitest';
import { Quality } from '../../point/index.ts';
import type { OwedRecord, Remembered, ServerEffect, ServerPoint, ServerUpdate } from '../server.ts';
import { NOTHING_REMEMBERED } from '../server.ts';
import type { Packet, Packing, PublishingTerms } from './form.ts';
import { PublishingSession } from './publisher.ts';
import { decodeValue, encodeValue } from './record.ts';

interface At {
  protocol: string;
  name: string;
}
type Settings = PublishingTerms;
const NOW = Date.UTC(2096, 0, 1);
const SETTINGS: Settings = {
  ...{ onChange: true, everyMs: 0, trigger: '', setsBack: false, mostValues: 3, afterMs: 0 },
  ...{ mostWaiting: 1000, whenFull: 'oldest', mostAgeMs: 0 },
};
const print = ({ at }: { at: At }): string => at.name;
const PACKING: Packing<Settings, At> = {
  terms: (settings) => settings,
  messages: (packet) => [{ to: 'x', octets: new TextEncoder().encode(JSON.stringify(packet)) }],
  form: () => 'value',
};
const at = (name: string): At => ({ protocol: 'x', name });
const POINTS: ServerPoint<At>[] = [
  { kind: 'analog', at: at('a'), deadband: 0, name: 'Level', unit: 'm' },
  { kind: 'binary', at: at('b'), deadband: 0 },
  { kind: 'analog', at: at('slow'), deadband: 10 },
];

/** A publisher, with what it has said. */
class Bench {
  readonly publisher: PublishingSession<Settings, At>;
  readonly packets: { number: number; packet: Packet; octets: Uint8Array }[] = [];
  readonly owed = new Map<number, OwedRecord>();
  readonly words: string[] = [];
  readonly effects: ServerEffect[] = [];
  commits = true;
  now = NOW;

  constructor(settings: Partial<Settings> = {}, remembered: Remembered = NOTHING_REMEMBERED, now = NOW) {
    this.now = now;
    this.publisher = new PublishingSession({ ...SETTINGS, ...settings }, print, PACKING, POINTS, now, remembered);
    this.settle();
  }

  settle(): void {
    const stored: number[] = [];
    for (const effect of this.publisher.take()) {
      this.effects.push(effect);
      if (effect.type === 'carry')
        this.packets.push({
          number: effect.packet,
          packet: JSON.parse(new TextDecoder().decode(effect.messages[0].octets)) as Packet,
          octets: effect.messages[0].octets,
        });
      if (effect.type === 'owes') {
        this.owed.set(effect.number, effect);
        stored.push(effect.number);
      }
      if (effect.type === 'settled')
        for (const number of [...this.owed.keys()])
          if (number <= effect.position || effect.beyond.includes(number)) this.owed.delete(number);
      if (effect.type === 'diagnostic') this.words.push(effect.words);
    }
    if (this.commits && stored.length > 0) this.stored(stored);
  }
  command(command: Parameters<PublishingSession<Settings, At>['command']>[0]): void {
    this.publisher.command(command, this.now);
    this.settle();
  }
  stored(numbers: number[]): void {
    this.command({ type: 'stored', numbers });
  }
  up(): this {
    this.publisher.start(this.now);
    this.settle();
    return this;
  }
  tell(...updates: Partial<ServerUpdate<At>>[]): void {
    this.command({
      type: 'update',
      updates: updates.map((one) => ({ kind: 'analog', at: at('a'), value: 0, quality: 0, time: this.now, ...one })),
    });
  }
  values(...values: number[]): void {
    for (const value of values) this.tell({ value });
  }
  carried(): void {
    const last = this.packets.at(-1);
    if (last) this.command({ type: 'carried', packet: last.number });
  }
  wake(afterMs: number): void {
    this.now += afterMs;
    this.publisher.wake(this.now);
    this.settle();
  }
  get told(): number[][] {
    return this.packets.map(({ packet }) => packet.values.map(({ value }) => value));
  }
  /** What an earlier one leaves behind when it is killed. */
  left(): Remembered {
    return { pieces: [], lastNumber: Math.max(0, ...this.owed.keys()), owes: this.owed.size > 0 };
  }
}

let bench: Bench;
beforeEach(() => {
  bench = new Bench().up();
});

describe('what is told', () => {
  test('is a change of value, text or quality, and with what is known of the point', () => {
    bench.values(1, 1, 2);
    bench.carried();
    bench.tell({ value: 2, quality: Quality.old });
    bench.carried();
    bench.tell({ value: 2, quality: Quality.old, text: 'odd' });
    bench.carried();
    expect(bench.told).toEqual([[1], [2], [2], [2]]);
    const [{ packet }] = bench.packets;
    expect(packet.values[0]).toMatchObject({ address: 'a', kind: 'analog', name: 'Level', unit: 'm', text: null });
    expect(bench.packets[2].packet.values[0].quality).toBe(Quality.old);
    expect(bench.packets[3].packet.values[0].text).toBe('odd');
  });

  test('within the deadband is told only when it has moved elsewhere, or is an event', () => {
    const slow = (value: number, more: Partial<ServerUpdate<At>> = {}): void =>
      bench.tell({ at: at('slow'), value, ...more });
    slow(100);
    bench.carried();
    slow(105);
    slow(109.9);
    expect(bench.told).toEqual([[100]]);
    slow(110);
    bench.carried();
    slow(111, { moved: true });
    bench.carried();
    slow(111, { always: true });
    expect(bench.told).toEqual([[100], [110], [111], [111]]);
  });

  test('of states and of what is no number is every change', () => {
    const state = (value: number): void => bench.tell({ kind: 'binary', at: at('b'), value });
    state(0);
    bench.carried();
    state(1);
    bench.carried();
    bench.values(Number.NaN, Number.NaN);
    expect(bench.told).toEqual([[0], [1], [null]]);
    expect(bench.owed.size).toBe(1);
  });

  test('of points that are not mapped is nothing', () => {
    bench.tell({ at: at('nobody'), value: 1 });
    expect(bench.packets).toEqual([]);
  });

  test('at a start is only what has never been told; what is shown is told once it is meant', () => {
    const first = new Bench().up();
    const quiet = { type: 'update', manner: 'quiet', updates: [] } as const;
    const update = { kind: 'analog', at: at('a'), value: 5, quality: 0, time: NOW } as const;
    first.command({ ...quiet, updates: [update] });
    expect(first.told).toEqual([[5]]);
    const later = new Bench({}, { pieces: [], lastNumber: 7, owes: false }).up();
    later.command({ ...quiet, updates: [update] });
    later.command({ type: 'update', manner: 'shown', updates: [{ ...update, quality: Quality.commLost }] });
    expect(later.told).toEqual([]);
    expect(later.publisher.held({ kind: 'analog', at: at('a') })).toEqual({ value: 5, text: '' });
    later.tell({ value: 5, quality: Quality.commLost });
    expect(later.packets[0].packet.values[0].quality).toBe(Quality.commLost);
  });
});

describe('packets', () => {
  test('go one at a time, in order, as many values in each as may be', () => {
    bench.values(1, 2, 3, 4, 5, 6);
    expect(bench.told).toEqual([[1]]);
    bench.carried();
    bench.carried();
    bench.carried();
    expect(bench.told).toEqual([[1], [2, 3, 4], [5, 6]]);
    expect(bench.publisher.eventsWaiting).toBe(0);
    expect(bench.owed.size).toBe(0);
    expect(bench.publisher.counters.values).toMatchObject({ values: 6, packets: 3, failures: 0, dropped: 0 });
  });

  test('gather for their time, or until they are full', () => {
    bench = new Bench({ afterMs: 500 }).up();
    bench.values(1, 2);
    expect([bench.told, bench.publisher.deadline]).toEqual([[], NOW + 500]);
    bench.wake(499);
    expect(bench.told).toEqual([]);
    bench.wake(1);
    expect(bench.told).toEqual([[1, 2]]);
    bench.carried();
    bench.values(3, 4, 5, 6);
    expect(bench.told).toEqual([
      [1, 2],
      [3, 4, 5],
    ]);
  });

  test('go out once all of their values are committed', () => {
    bench.commits = false;
    bench.values(1);
    bench.values(2);
    expect([bench.told, bench.publisher.deadline]).toEqual([[], null]);
    const [first, second] = [...bench.owed.keys()];
    bench.stored([second]);
    expect(bench.told).toEqual([]);
    bench.stored([first]);
    expect(bench.told).toEqual([[1, 2]]);
  });

  test('wait for the way, and are tried again, the same, when it was away', () => {
    bench.values(1);
    bench.publisher.stop();
    bench.values(2);
    expect(bench.told).toEqual([[1]]);
    bench.up();
    expect(bench.told).toEqual([[1], [1]]);
    expect(bench.packets[1].octets).toEqual(bench.packets[0].octets);
  });

  test('that are not carried come again after pauses that get longer, and what comes of others is nothing', () => {
    bench.values(1);
    const [{ number }] = bench.packets;
    const pauses: number[] = [];
    for (let n = 0; n < 9; n++) {
      bench.command({ type: 'notCarried', packet: number, words: 'the disk is full' });
      pauses.push((bench.publisher.deadline ?? 0) - bench.now);
      bench.wake((pauses.at(-1) ?? 0) - 1);
      expect(bench.packets).toHaveLength(n + 1);
      bench.wake(1);
      expect(bench.packets).toHaveLength(n + 2);
    }
    expect(pauses).toEqual([1000, 2000, 4000, 8000, 16_000, 32_000, 60_000, 60_000, 60_000]);
    expect(new Set(bench.words)).toEqual(new Set(['the disk is full']));
    bench.command({ type: 'carried', packet: number + 1 });
    bench.command({ type: 'notCarried', packet: number + 1, words: 'no' });
    expect([bench.owed.size, bench.publisher.awaits]).toEqual([1, true]);
    bench.carried();
    expect([bench.owed.size, bench.publisher.awaits]).toEqual([0, false]);
    bench.values(2);
    bench.command({ type: 'notCarried', packet: bench.packets.at(-1)?.number ?? 0, words: 'no' });
    expect((bench.publisher.deadline ?? 0) - bench.now).toBe(1000);
  });

  test('do not begin while it rests, and what is under way is waited for', () => {
    bench.values(1);
    bench.command({ type: 'rest' });
    expect(bench.publisher.awaits).toBe(true);
    bench.values(2);
    bench.carried();
    expect([bench.publisher.awaits, bench.told]).toEqual([false, [[1]]]);
    expect(bench.publisher.owed).toHaveLength(1);
  });

  test('say what became of each value', () => {
    bench.values(1);
    bench.carried();
    const kinds = bench.effects.map(({ type }) => type);
    expect(kinds).toEqual([
      ...['owes', 'event', 'carry', 'packetOut', 'reported', 'heard', 'packetAnswered', 'delivered', 'settled'],
    ]);
    expect(bench.effects.find(({ type }) => type === 'delivered')).toMatchObject({ events: [{ address: 'a' }] });
  });
});

describe('beyond the bound', () => {
  test('the oldest packet that is not under way goes, and the next one says how many values that were', () => {
    bench = new Bench({ mostWaiting: 7 }).up();
    bench.values(1, 2, 3, 4, 5, 6, 7);
    expect(bench.words).toEqual([]);
    bench.values(8, 9);
    expect(bench.words).toEqual(['more than 7 values wait: the oldest are dropped']);
    for (let n = 0; n < 4; n++) bench.carried();
    expect(bench.told).toEqual([[1], [5, 6, 7], [8, 9]]);
    expect(bench.packets.map(({ packet }) => packet.dropped)).toEqual([0, 0, 3]);
    expect([bench.publisher.counters.values.dropped, bench.owed.size]).toEqual([3, 0]);
  });

  test('what a dropped packet had told of others that were dropped is told on', () => {
    bench = new Bench({ mostValues: 1, mostWaiting: 2 }).up();
    bench.values(1, 2, 3, 4, 5);
    for (let n = 0; n < 3; n++) bench.carried();
    expect(bench.told).toEqual([[1], [5]]);
    expect(bench.packets[1].packet.dropped).toBe(3);
  });
});

describe('what earlier sessions left', () => {
  const kill = (from: Bench, settings: Partial<Settings> = {}): Bench => {
    const next = new Bench(settings, from.left(), from.now + 1).up();
    next.command({ type: 'toldBefore', records: [...from.owed.values()] });
    if (from.owed.size > 0) next.command({ type: 'owed', records: [...from.owed.values()], last: true });
    return next;
  };

  test('goes first, in the same packets, and is not told anew', () => {
    bench.values(1, 2, 3, 4, 5);
    const next = kill(bench);
    next.tell({ value: 5 });
    next.values(6);
    expect(next.packets[0].octets).toEqual(bench.packets[0].octets);
    for (let n = 0; n < 4; n++) next.carried();
    expect(next.told).toEqual([[1], [2, 3, 4], [5], [6]]);
    expect(next.owed.size).toBe(0);
  });

  test('is waited for: until all of it is there, nothing goes out, and nothing is settled before it', () => {
    bench.values(1, 2, 3);
    const next = new Bench({}, bench.left(), NOW + 1).up();
    next.values(9);
    const records = [...bench.owed.values()];
    next.command({ type: 'owed', records: records.slice(0, 1), last: false });
    expect([next.told, next.publisher.deadline]).toEqual([[], null]);
    next.command({ type: 'owed', records, last: true });
    for (let n = 0; n < 3; n++) next.carried();
    expect(next.told).toEqual([[1], [2, 3], [9]]);
  });

  test('and is handed over uncommitted waits for its commit there', () => {
    bench.commits = false;
    bench.values(1);
    const next = new Bench({}, { pieces: [], lastNumber: 1, owes: true }).up();
    next.command({ type: 'owed', records: bench.publisher.owed, last: true });
    expect(next.told).toEqual([]);
    next.stored([...bench.owed.keys()]);
    expect(next.told).toEqual([[1]]);
  });

  test('that is none of ours is left out', () => {
    const next = new Bench({}, { pieces: [], lastNumber: 1, owes: true }).up();
    const records = [{ queue: '', number: 1, octets: new Uint8Array([9, 9]) }];
    next.command({ type: 'owed', records, last: true });
    next.values(1);
    expect(next.told).toEqual([[1]]);
  });
});

test('a list that changes keeps what was told of points that stay', () => {
  bench.values(1);
  bench.carried();
  bench.command({ type: 'setPoints', points: [...POINTS, { kind: 'analog', at: at('new'), deadband: 0 }] });
  bench.values(1);
  bench.tell({ at: at('new'), value: 7 });
  bench.carried();
  bench.command({ type: 'setPoints', points: [POINTS[1]] });
  bench.values(8);
  expect(bench.told).toEqual([[1], [7]]);
});

test('other settings are adopted, and counters begin anew', () => {
  bench.values(1);
  bench.command({ type: 'setSettings', settings: { mostValues: 1 } });
  bench.values(2, 3);
  for (let n = 0; n < 3; n++) bench.carried();
  expect(bench.told).toEqual([[1], [2], [3]]);
  bench.command({ type: 'resetCounters' });
  expect(bench.publisher.counters.values.values).toBe(0);
});

test('a value in words, with its reasons', () => {
  expect(bench.publisher.said('analog', 0)).toBe('good');
  expect(bench.publisher.said('analog', Quality.commLost)).toBe('invalid, no communication');
});

test('whatever happens when, every value that is not dropped arrives in order, and twice only in the same packet', () => {
  const step = fc.oneof(
    fc.record({ do: fc.constant('tell' as const), count: fc.integer({ min: 1, max: 6 }) }),
    fc.record({ do: fc.constantFrom('carried', 'not', 'down', 'up', 'kill', 'wake'), count: fc.constant(1) }),
  );
  fc.assert(
    fc.property(fc.array(step, { maxLength: 60 }), fc.integer({ min: 0, max: 800 }), (steps, afterMs) => {
      let one = new Bench({ afterMs }).up();
      let value = 0;
      /** Of packets: what they had, as they arrived. */
      const arrived = new Map<number, string>();
      const arrive = (): void => {
        const last = one.packets.at(-1);
        if (!last || !one.publisher.awaits) return;
        const text = new TextDecoder().decode(last.octets);
        expect(arrived.get(last.number) ?? text).toBe(text);
        arrived.set(last.number, text);
      };
      for (const { do: what, count } of steps) {
        if (what === 'tell') for (let n = 0; n < count; n++) one.values(++value);
        if (what === 'carried') {
          arrive();
          one.carried();
        }
        if (what === 'not') {
          arrive();
          one.command({ type: 'notCarried', packet: one.packets.at(-1)?.number ?? 0, words: 'no' });
        }
        if (what === 'down') one.publisher.stop();
        if (what === 'up') one.up();
        if (what === 'wake') one.wake(1000);
        if (what === 'kill') {
          arrive();
          const records = [...one.owed.values()];
          const next = new Bench({ afterMs }, { ...one.left(), lastNumber: one.now * 1000 }, one.now + 1).up();
          for (const record of records) next.owed.set(record.number, record);
          next.command({ type: 'toldBefore', records });
          if (records.length > 0) next.command({ type: 'owed', records, last: true });
          one = next;
        }
      }
      one.up();
      for (let n = 0; n < 500 && one.publisher.eventsWaiting > 0; n++) {
        if (one.publisher.awaits) {
          arrive();
          one.carried();
        } else one.wake(60_000);
      }
      const all = [...arrived.values()].flatMap((text) => (JSON.parse(text) as Packet).values.map((v) => v.value));
      expect(all).toEqual(Array.from({ length: value }, (_, n) => n + 1));
    }),
  );
});

test('a value that waits is read as it was written, and nothing that is cut or made up breaks anything', () => {
  fc.assert(
    fc.property(
      fc.record({
        number: fc.integer({ min: 1 }),
        packet: fc.integer({ min: 1, max: Number.MAX_SAFE_INTEGER }),
        dropped: fc.integer({ min: 0, max: 0xffff_ffff }),
        address: fc.string({ unit: 'grapheme', maxLength: 50 }),
        kind: fc.constantFrom('analog' as const, 'binary' as const, 'text' as const),
        value: fc.double(),
        text: fc.option(fc.string({ unit: 'grapheme', maxLength: 50 })),
        quality: fc.integer({ min: 0, max: 0x1f_ffff }),
        time: fc.integer({ min: 0, max: 253_402_300_799_999 }),
        unsynchronised: fc.boolean(),
      }),
      (value) => {
        const octets = encodeValue(value);
        const back = { queue: '', number: value.number };
        expect(decodeValue({ ...back, octets })).toEqual(value);
        for (let length = 0; length < octets.length; length++)
          expect(decodeValue({ ...back, octets: octets.subarray(0, length) })).toBeNull();
      },
    ),
    { numRuns: 50 },
  );
  fc.assert(
    fc.property(fc.uint8Array({ maxLength: 80 }), (octets) => void decodeValue({ queue: '', number: 1, octets })),
  );
});

describe('once more', () => {
  test('goes a packet as it went, in between, and what came of it is told; values go as they were, and nothing else changes', () => {
    const one = new Bench().up();
    one.values(1);
    const [first] = one.packets;
    one.carried();
    one.command({ type: 'again', packet: first.number, messages: [{ to: 'x', octets: first.octets }] });
    expect(one.packets[1]).toEqual(first);
    one.values(2);
    expect(one.packets).toHaveLength(2);
    one.carried();
    expect(one.told).toEqual([[1], [1], [2]]);
    expect(one.effects.filter(({ type }) => type === 'noted')).toEqual([
      { type: 'noted', words: `packet ${first.number} was delivered once more` },
    ]);
    one.carried();
    const past = { kind: 'analog' as const, at: at('a'), value: 1, quality: 0, time: NOW - 60_000 };
    one.command({ type: 'update', updates: [past, past], manner: 'past' });
    one.carried();
    one.carried();
    // It is 2 still: nothing is news.
    one.values(2);
    expect(one.told).toEqual([[1], [1], [2], [1, 1]]);
    expect(one.packets.at(-1)?.packet.values[0].time).toBe(NOW - 60_000);
    expect(one.owed.size).toBe(0);
  });

  test('a packet is not tried by itself again when the connection ends under it, and the next ones go on', () => {
    const one = new Bench().up();
    one.values(1);
    const [first] = one.packets;
    one.carried();
    one.command({ type: 'again', packet: first.number, messages: [{ to: 'x', octets: first.octets }] });
    one.publisher.stop();
    one.settle();
    expect(one.words.at(-1)).toBe(`packet ${first.number} was not delivered once more`);
    expect(one.effects.at(-2)).toMatchObject({
      type: 'packetAnswered',
      problem: 'the connection ended before it was acknowledged',
    });
    one.values(2);
    one.up();
    expect(one.told).toEqual([[1], [1], [2]]);
  });
});

describe('what is recorded besides changes', () => {
  const hour = (n: number): number => NOW + n * 3_600_000;
  const values = (one: Bench): unknown[] =>
    one.packets.map(({ packet }) => packet.values.map(({ address, value, time }) => [address, value, time - NOW]));

  test('are all points at each whole period, as they are then, whether the way is there or not', () => {
    const one = new Bench({ onChange: false, everyMs: 900_000 }, NOTHING_REMEMBERED, hour(0) + 60_000).up();
    one.values(1, 2);
    one.tell({ kind: 'binary', at: at('b'), value: 1 });
    expect(one.publisher.deadline).toBe(hour(0.25));
    one.wake(840_000);
    one.carried();
    one.command({ type: 'update', updates: [{ kind: 'analog', at: at('a'), value: 9, quality: 0, time: one.now }] });
    one.publisher.stop();
    one.wake(900_000);
    // While the machine slept three periods passed: one is recorded, the last.
    one.wake(2_800_000);
    one.up();
    one.carried();
    one.carried();
    expect(values(one).flat()).toEqual([
      ['a', 2, 900_000],
      ['b', 1, 900_000],
      ['a', 9, 1_800_000],
      ['b', 1, 1_800_000],
      ['a', 9, 4_500_000],
      ['b', 1, 4_500_000],
    ]);
  });

  test('are all points when the trigger turns on, once, and it is set back where that is wanted', () => {
    const one = new Bench({ onChange: false, trigger: 'b', setsBack: true }).up();
    const turn = (value: number, quality = 0): void => one.tell({ kind: 'binary', at: at('b'), value, quality });
    const controls = (): ServerEffect[] => one.effects.filter(({ type }) => type === 'control');
    one.values(5);
    turn(1);
    expect(one.packets).toEqual([]);
    turn(0);
    turn(1, Quality.commLost);
    expect(one.packets).toEqual([]);
    turn(0);
    turn(1);
    turn(1);
    expect(values(one)).toEqual([
      [
        ['a', 5, 0],
        ['b', 1, 0],
      ],
    ]);
    expect(controls()).toMatchObject([
      { own: true, phase: 'direct', items: [{ address: 'b', kind: 'output', operation: 'latchOff', on: false }] },
    ]);
  });

  test('what is new is not taken when that is the rule, and what is too old goes; both are counted and told', () => {
    const one = new Bench({ whenFull: 'new', mostWaiting: 1000, mostValues: 1000 });
    one.values(...Array.from({ length: 1003 }, (_, n) => n + 1));
    expect(one.publisher.counters.values.dropped).toBe(3);
    expect(one.words).toEqual(['more than 1000 values wait: new ones are not taken']);
    one.up();
    expect(one.packets[0].packet.values.at(-1)?.value).toBe(1000);
    one.carried();
    one.values(2000);
    expect(one.packets.at(-1)?.packet).toMatchObject({ dropped: 3, values: [{ value: 2000 }] });

    const old = new Bench({ mostAgeMs: 60_000 });
    old.values(1, 2);
    old.wake(30_000);
    old.values(3, 4);
    expect(old.publisher.deadline).toBe(NOW + 60_000);
    old.wake(30_001);
    expect([old.publisher.eventsWaiting, old.words]).toEqual([
      expect.any(Number),
      ['values that waited are too old: they are dropped'],
    ]);
    old.wake(30_000);
    expect(old.publisher.eventsWaiting).toBe(0);
    expect(old.owed.size).toBe(0);
  });
});
