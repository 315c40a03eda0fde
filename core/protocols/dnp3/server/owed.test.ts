import fc from 'fast-check';
import { beforeEach, describe, expect, test } from 'vitest';
import { Quality } from '../../../point/index.ts';
import {
  NOTHING_REMEMBERED,
  type OwedRecord,
  type Remembered,
  type ServerEffect,
  type ServerPoint,
} from '../../server.ts';
import { Master } from '../client/master.ts';
import { targetAtSchema, type Dnp3TargetAt } from '../points.ts';
import { masterSettings, outstationSettings } from '../settings.ts';
import { eventOf, owedRecord } from './owedevents.ts';
import { Dnp3Server } from './server.ts';

const at = (index: number, eventClass: 1 | 2 | 3): Dnp3TargetAt =>
  targetAtSchema.parse({ protocol: 'dnp3', index, eventClass, staticVariation: 1, eventVariation: 3 });
const POINTS: ServerPoint<Dnp3TargetAt>[] = ([1, 2, 3] as const).map((n) => ({
  ...{ kind: 'analog', at: at(n, n), deadband: 0 },
}));
const SETTINGS = outstationSettings.parse({ ourAddress: 10, theirAddress: 100, eventsPerClass: 10 });

/** An outstation, what is stored of it, and a master that comes now and then. */
let now: number;
let server: Dnp3Server;
let stored: Map<number, OwedRecord>;
let pieces: Uint8Array[];
let lastNumber: number;
let told: [index: number, value: number][];
let overflowed: boolean;

const begin = (remembered: Remembered = NOTHING_REMEMBERED, points = POINTS): void => {
  server = new Dnp3Server(SETTINGS, points, now, remembered);
};
function keep(effects: ServerEffect[]): void {
  for (const effect of effects) {
    if (effect.type === 'owes') {
      stored.set(effect.number, effect);
      lastNumber = effect.number;
    }
    if (effect.type === 'keep') pieces.push(effect.octets);
    if (effect.type === 'settled')
      for (const [number, { queue }] of stored)
        if (queue === effect.queue && (number <= effect.position || effect.beyond.includes(number)))
          stored.delete(number);
  }
}
const change = (index: 1 | 2 | 3, value: number): void => {
  now += 10;
  const update = { kind: 'analog' as const, at: at(index, index), value, quality: 0, time: now };
  server.command({ type: 'update', updates: [update] }, now);
  keep(server.take());
};
/** Ends without a word, and begins anew with what was stored. */
function restart(points = POINTS): void {
  const records = [...stored.values()];
  begin({ pieces, lastNumber, owes: records.length > 0 }, points);
  server.command({ type: 'toldBefore', records }, now);
  // In pieces, and in any order.
  const middle = records.length >> 1;
  server.command({ type: 'owed', records: records.slice(middle), last: false }, now);
  change(3, now);
  server.command({ type: 'owed', records: records.slice(0, middle), last: true }, now);
  keep(server.take());
}
/** A master reads all events and confirms them, or only gets the first answer. */
function read({ confirms = true } = {}): void {
  const settings = { ourAddress: 100, theirAddress: 10, integrityPeriodMs: 0, disableUnsolicited: false };
  const master = new Master(masterSettings.parse(settings), now);
  server.start(now);
  master.start(now);
  overflowed = false;
  for (let round = 0; round < 200; round++) {
    for (const effect of master.take()) {
      if (effect.type === 'send') server.receive(effect.octets, now);
      if (effect.type === 'readings') {
        for (const { index, value, event } of effect.readings) if (event) told.push([index, value]);
        if (effect.token !== null && confirms) master.command({ type: 'committed', token: effect.token }, now);
      }
    }
    const effects = server.take();
    keep(effects);
    for (const effect of effects) {
      if (effect.type !== 'send') continue;
      master.receive(effect.octets, now);
      overflowed ||= (master.indications & 0x0800) !== 0;
    }
    if (effects.length === 0) {
      now += 100;
      master.wake(now);
      server.wake(now);
    }
  }
  server.stop(now);
  keep(server.take());
}

beforeEach(() => {
  now = Date.UTC(2026, 10, 29);
  [stored, pieces, lastNumber, told, overflowed] = [new Map(), [], 0, [], false];
  begin();
});

describe('what an outstation owes', () => {
  test('is there after a restart: in order, once, behind it what has come meanwhile', () => {
    change(1, 5);
    change(2, 6);
    change(1, 7);
    restart();
    expect(server.eventsWaiting).toBe(4);
    read();
    // The master asks class by class.
    expect(told.slice(0, 3)).toEqual([
      [1, 5],
      [1, 7],
      [2, 6],
    ]);
    expect(told).toHaveLength(4);
    expect(stored.size).toBe(0);
    restart();
    told = [];
    read();
    // Only what came at the restart.
    expect(told).toHaveLength(1);
  });

  test('waits again when its confirm did not come', () => {
    change(1, 5);
    read({ confirms: false });
    expect([told, stored.size]).toEqual([[[1, 5]], 1]);
    restart();
    told = [];
    read();
    expect(told[0]).toEqual([1, 5]);
  });

  test('beyond the bound the oldest go, and the indication of that survives', () => {
    for (let value = 1; value <= 13; value++) change(1, value);
    expect(stored.size).toBe(10);
    restart();
    read();
    expect(overflowed).toBe(true);
    expect(told.filter(([index]) => index === 1).map(([, value]) => value)).toEqual([4, 5, 6, 7, 8, 9, 10, 11, 12, 13]);
    restart();
    read();
    expect(overflowed).toBe(false);
  });

  test('of a point that is not offered any more goes, of the others nothing', () => {
    change(1, 5);
    change(2, 6);
    restart(POINTS.filter(({ at: { index } }) => index !== 1));
    read();
    expect(told.filter(([, value]) => value < 100)).toEqual([[2, 6]]);
    expect(stored.size).toBe(0);
  });

  test('a value that was told last makes no event once more', () => {
    change(1, 5);
    read();
    // Its record is kept for a while after it was confirmed.
    const record = owedRecord({ ...EVENT, index: 1, value: 5, number: 1 });
    begin();
    server.command({ type: 'toldBefore', records: [record] }, now);
    change(1, 5);
    expect(server.eventsWaiting).toBe(0);
    change(1, 6);
    expect(server.eventsWaiting).toBe(1);
  });

  test('what is only shown is to be read, and told once it lasts', () => {
    const update = (quality: number, manner: 'quiet' | 'shown' | 'told'): void => {
      const one = { kind: 'analog' as const, at: at(1, 1), value: 5, quality, time: now };
      server.command({ type: 'update', updates: [one], manner }, now);
    };
    update(0, 'quiet');
    update(Quality.commLost, 'shown');
    update(0, 'told');
    expect(server.eventsWaiting).toBe(0);
    update(Quality.commLost, 'shown');
    update(Quality.commLost, 'told');
    expect(server.eventsWaiting).toBe(1);
  });
});

const EVENT = { kind: 'analog' as const, class: 1 as const, flags: 1, time: 0, variation: 3 };

test('an event comes out of its record as it went in; what is none is nothing', () => {
  fc.assert(
    fc.property(
      fc.record({
        ...{ number: fc.integer({ min: 1, max: 2 ** 52 }), index: fc.integer({ min: 0, max: 65_535 }) },
        ...{ class: fc.constantFrom(1 as const, 2 as const, 3 as const), value: fc.double({ noNaN: true }) },
        ...{ flags: fc.integer({ min: 0, max: 255 }), time: fc.integer({ min: 0, max: 2 ** 47 }) },
        ...{
          variation: fc.integer({ min: 0, max: 255 }),
          kind: fc.constantFrom('binary' as const, 'counter' as const),
        },
      }),
      (event) => {
        expect(eventOf(owedRecord(event))).toEqual(event);
      },
    ),
  );
  const text = { ...EVENT, kind: 'text' as const, number: 1, index: 0, value: 0, text: 'Grüße' };
  expect(eventOf(owedRecord(text))).toEqual(text);
  expect(eventOf(owedRecord({ ...EVENT, number: 1, index: 0, value: 0, status: 4 }))).toMatchObject({ status: 4 });
  fc.assert(
    fc.property(fc.uint8Array({ maxLength: 40 }), fc.string(), (octets, queue) => {
      const read = eventOf({ queue, number: 1, octets });
      return read === null || ['1', '2', '3'].includes(queue);
    }),
  );
});
