import { configurationSchema, type DeviceConfig } from '@halvix/core/config';
import type { Carrying, Measured } from '@halvix/core/protocols';
import { Quality } from '@halvix/core/point';
import { beforeEach, describe, expect, test } from 'vitest';
import { Contributions } from '../handon/contributions.ts';
import { Exchange, withoutCommunication } from './exchange.ts';
import type { Entry, Historian } from '../store/historian.ts';
import { Ingest } from './ingest.ts';
import { Journal } from '../journal.ts';

const device: DeviceConfig = configurationSchema.parse({
  schema: 'halvix.configuration',
  version: 3,
  network: 'test',
  stations: [],
  links: [],
  outbounds: [],
  devices: [
    {
      code: 'D',
      name: 'device',
      station: 'S',
      link: 'L',
      protocol: 'dnp3',
      settings: { ourAddress: 1, theirAddress: 2 },
      points: [
        { kind: 'analog', at: { protocol: 'dnp3', index: 0 }, name: 'level', gain: 0.5, offset: 10 },
        { kind: 'binary', at: { protocol: 'dnp3', index: 0 }, name: 'door', states: ['shut', 'open'] },
        { kind: 'doubleBit', at: { protocol: 'dnp3', index: 0 }, name: 'breaker' },
      ],
    },
  ],
}).devices[0];

/** Of today, so that it is credible. */
const NOON = Date.now() - 60_000;
const measured = (over: Partial<Measured> = {}): Measured => ({
  id: 1,
  kind: 'analog',
  raw: 100,
  quality: 0,
  time: NOON,
  timeSource: 'device',
  event: true,
  ...over,
});
const MESSAGE: Carrying = {
  words: () => 'a message',
  form: () => 'form',
  said: () => null,
  frames: () => [],
  address: ({ kind }) => `${kind} 7`,
};

let entries: Entry[];
let exchange: Exchange;
let journal: Journal;
let ingest: Ingest;
const build = (): Ingest =>
  new Ingest(device, {
    exchange,
    journal,
    contributions: new Contributions(() => {}),
    historian: { add: (entry: Entry) => entries.push(entry) } as unknown as Historian,
  });
beforeEach(() => {
  entries = [];
  exchange = new Exchange();
  journal = new Journal();
  exchange.setDevice(
    device,
    (address) => (address.startsWith('D') ? 5 : address.startsWith('AI') ? 1 : 2) + Number(address.split(' ')[1]),
  );
  ingest = build();
});
const level = (): ReturnType<Exchange['get']> => exchange.get(1);

describe('ingest', () => {
  test('scales, keeps the device time, and confirms once stored', () => {
    let confirmed = 0;
    ingest.take([measured()], MESSAGE, { keep: Uint8Array.of(7), committed: () => confirmed++ });
    expect(level()?.reading).toMatchObject({
      raw: 100,
      value: 60,
      quality: 0,
      time: NOON,
      timeSource: 'device',
      cause: 'event',
    });
    expect(confirmed).toBe(0);
    expect(entries[0]).toMatchObject({ device: 'D', keep: Uint8Array.of(7) });
    entries[0].stored(9000, 1);
    expect(confirmed).toBe(1);
    expect(level()?.origin?.carrier.committed).toEqual({ at: 9000, batch: 1 });
    expect(ingest.lastCommit).toBe(9000);
  });

  test.each([
    [0, 0, 0],
    [3, 3, 0],
    [7, 3, Quality.inconsistent],
    [-1, 3, Quality.inconsistent],
    [1.5, 3, Quality.inconsistent],
  ])('a double point at %d stands at %d', (came, raw, quality) => {
    ingest.take([measured({ id: 5, kind: 'doubleBit', raw: came })], MESSAGE, null);
    expect(exchange.get(5)?.reading).toMatchObject({ raw, quality });
  });

  test('present values are always stored, and need no confirm', () => {
    for (let i = 0; i < 2; i++) ingest.take([measured({ event: false, time: null })], MESSAGE, null);
    expect(entries.map(({ readings, keep }) => [readings.length, keep])).toEqual([
      [1, null],
      [1, null],
    ]);
    expect(entries[0].readings[0].timeSource).toBe('receipt');
  });

  test('a point that is not in the list is counted and left out', () => {
    for (let i = 0; i < 2; i++) ingest.take([measured({ id: null })], MESSAGE, null);
    expect([...ingest.unlisted.keys()]).toEqual(['analog 7']);
    expect(entries[0].readings).toEqual([]);
  });

  test('a time of 1970, or past the year 9999, gives way to the receipt’s, one that is far off stands, marked', () => {
    const now = Date.now();
    const times = [0, 31_000, now + 3_600_000, now - 500 * 86_400_000, now - 86_400_000, 2 ** 48 - 1];
    ingest.take(
      times.map((time) => measured({ time })),
      MESSAGE,
      null,
    );
    expect(entries[0].readings.map(({ timeSource }) => timeSource)).toEqual([
      ...['receiptInstead', 'receiptInstead', 'deviceDoubtful', 'deviceDoubtful', 'device', 'receiptInstead'],
    ]);
    expect(entries[0].readings[0].time).toBeGreaterThanOrEqual(now - 10);
    expect(entries[0].readings[2].time).toBe(now + 3_600_000);
  });

  test('without communication each point keeps its last value and time, once', () => {
    ingest.take([measured()], MESSAGE, null);
    ingest.loseAll();
    ingest.loseAll();
    expect(level()?.reading).toMatchObject({ raw: 100, time: NOON, quality: Quality.commLost, cause: 'engine' });
    expect(entries.slice(1).map(({ readings }) => readings.map(({ timeSource }) => timeSource))).toEqual([['engine']]);
  });

  test('what a session keeps is stored also without readings', () => {
    ingest.keep(Uint8Array.of(1, 2));
    expect(entries).toMatchObject([
      { device: 'D', keep: Uint8Array.of(1, 2), readings: [], owed: [], mayDrop: false, confirms: false },
    ]);
  });

  test('goes on with another list, and the device of it', () => {
    const renamed = { ...device, code: 'RENAMED', points: device.points.slice(0, 1) };
    exchange.setDevice(renamed, () => 1);
    ingest.take([measured({ id: null })], MESSAGE, null);
    expect(ingest.unlisted.size).toBe(1);
    ingest.adopt(renamed);
    expect(ingest.unlisted.size).toBe(0);
    ingest.take([measured()], MESSAGE, null);
    expect(entries.at(-1)?.device).toBe('RENAMED');
    ingest.loseAll();
    expect(level()?.reading?.quality).toBe(Quality.commLost);
  });

  test('a change of state is in the journal in the words of the point', () => {
    ingest.take([measured({ id: 2, kind: 'binary', raw: 1 })], MESSAGE, null);
    expect(journal.take()).toMatchObject([{ subject: 'D', words: 'door: open', time: NOON }]);
  });
});

describe('exchange', () => {
  const reading = {
    raw: 1,
    value: 1,
    quality: 0,
    time: 100,
    timeSource: 'device',
    received: 110,
    cause: 'event',
  } as const;

  test('a look that finds nothing new keeps the time and the origin, and tells nobody', () => {
    const point = level()!;
    let told = 0;
    exchange.listen('handOn', () => told++);
    exchange.put(point, reading, measured(), { carried: MESSAGE, committed: null });
    exchange.put(point, { ...reading, time: 900, received: 900, timeSource: 'receipt', cause: 'static' }, null);
    expect(point.reading).toMatchObject({ time: 100, timeSource: 'device', received: 900 });
    expect(point.origin).not.toBeNull();
    expect(told).toBe(1);
  });

  test('a value has moved when it differs by the deadband from the last one that had, or in quality', () => {
    const put = (fields: object, values: readonly [value: number, quality?: number][]): boolean[] => {
      const [first] = device.points;
      exchange.setDevice({ ...device, points: [{ ...first, ...fields }] }, () => 1);
      const moved: boolean[] = [];
      const stop = exchange.listen('handOn', (changes) => moved.push(...changes.map((change) => change.moved)));
      const returned = values.map(([value, quality = 0]) =>
        exchange.put(level()!, { ...reading, raw: value, value, quality }, null),
      );
      stop();
      exchange.removeDevice('D');
      expect(returned).toEqual(moved);
      return moved;
    };
    expect(put({ deadband: { value: 2, of: 'absolute' } }, [[10], [11.9], [12], [13], [13, 4], [13, 4]])).toEqual([
      ...[true, false, true, false, true, false],
    ]);
    const ofSpan = {
      deadband: { value: 10, of: 'percentOfSpan' },
      pairs: { rawLow: 0, rawHigh: 100, low: 0, high: 50 },
    };
    expect(put(ofSpan, [[0], [4.9], [5]])).toEqual([true, false, true]);
    expect(put({}, [[1], [1], [1.001]])).toEqual([true, false, true]);
  });

  test('after lost communication even the same value is news', () => {
    const point = level()!;
    exchange.put(point, withoutCommunication(reading), null);
    exchange.put(point, { ...reading, time: 900, cause: 'static' }, null);
    expect(point.reading).toMatchObject({ quality: 0, time: 900 });
  });

  test('what changed is taken once, and given back after a failure', () => {
    const point = level()!;
    exchange.put(point, reading, null);
    const { points, readings } = exchange.takeChanged();
    expect(readings).toEqual([{ ...reading, pointId: 1 }]);
    expect(exchange.takeChanged().points).toEqual([]);
    exchange.giveBack(points);
    expect(exchange.takeChanged().points).toEqual([point]);
  });

  test('a trail’s change matters only while somebody watches it', () => {
    exchange.touch(1);
    expect(exchange.takeChanged().points).toEqual([]);
    exchange.watched.add(1);
    exchange.touch(1);
    expect(exchange.takeChanged().points).toHaveLength(1);
  });

  test('a new list keeps the readings of the points that stay', () => {
    exchange.put(level()!, reading, null);
    exchange.setDevice({ ...device, points: device.points.slice(0, 1) }, () => 1);
    expect(level()?.reading).toEqual(reading);
    expect(exchange.get(2)).toBeUndefined();
    expect(exchange.at('D', 'BI 0')).toBeUndefined();
    exchange.removeDevice('D');
    expect(exchange.ofDevice('D')).toEqual([]);
  });
});

describe('journal', () => {
  test('a flood of state changes is summed up', async () => {
    for (let i = 0; i < 50; i++) journal.noteChange('D', `change ${i}`, i);
    await new Promise((resolve) => setTimeout(resolve, 1050));
    journal.noteChange('D', 'later', 99);
    const words = journal.take().map((entry) => entry.words);
    expect(words.length).toBeLessThan(14);
    expect(words.at(-2)).toMatch(/^and \d+ more changes of state in that second$/);
    expect(words.at(-1)).toBe('later');
  });

  test('is bounded, also when what was taken comes back', () => {
    for (let i = 0; i < 2000; i++) journal.note(`D${i % 40}`, 'plain', String(i));
    const taken = journal.take();
    expect(taken).toHaveLength(500);
    journal.note('D', 'plain', 'new');
    journal.giveBack(taken);
    expect(journal.take()).toHaveLength(500);
  });
});
