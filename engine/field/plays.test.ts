import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { configurationSchema, type DeviceConfig } from '@halvix/core/config';
import { Quality } from '@halvix/core/point';
import type { Carrying, Measured } from '@halvix/core/protocols';
import { Contributions } from '../handon/contributions.ts';
import { Exchange } from '../board/exchange.ts';
import type { Entry, Historian } from '../store/historian.ts';
import { Ingest } from '../board/ingest.ts';
import { Journal } from '../journal.ts';
import { Plays } from './plays.ts';

const device: DeviceConfig = configurationSchema.parse({
  ...{ schema: 'halvix.configuration', version: 3, network: 'test', stations: [], links: [], outbounds: [] },
  devices: [
    {
      ...{ code: 'D', name: 'device', station: 'S', link: 'L', protocol: 'dnp3', life: 'onTest' },
      settings: { ourAddress: 1, theirAddress: 2 },
      points: [{ kind: 'analog', at: { protocol: 'dnp3', index: 0 }, name: 'level', gain: 0.5, offset: 10 }],
    },
  ],
}).devices[0];
const MESSAGE: Carrying = {
  ...{ words: () => 'a message', form: () => '', said: () => null, frames: () => [], address: () => '' },
};
const own = (raw: number): Measured => ({
  ...{ id: 1, kind: 'analog', raw, quality: 0, time: null, timeSource: 'receipt', event: false },
});
const SQUARE = { shape: 'square', low: 20, high: 30, periodMs: 1000 } as const;
const SIMULATED = Quality.forcedHere | Quality.test;

let exchange: Exchange;
let ingest: Ingest;
let plays: Plays;
let entries: Entry[];
const refresh = vi.fn();
const changed = vi.fn();
const shown = () => exchange.at('D', 'AI 0')?.reading;
beforeEach(() => {
  vi.useFakeTimers();
  refresh.mockClear();
  changed.mockClear();
  entries = [];
  exchange = new Exchange();
  exchange.setDevice(device, () => 1);
  const historian = { add: (entry: Entry) => void entries.push(entry) } as unknown as Historian;
  ingest = new Ingest(device, {
    exchange,
    historian,
    contributions: new Contributions(() => {}),
    journal: new Journal(),
  });
  plays = new Plays(device, { exchange, ingest, changed, refresh });
});
afterEach(() => {
  plays.stopAll('over');
  vi.useRealTimers();
});

test('a value is made up in its unit, is stored as such, and the device’s own waits', () => {
  ingest.take([own(100)], MESSAGE, null);
  expect(shown()).toMatchObject({ value: 60, quality: 0 });
  const ended = vi.fn();
  expect(plays.begin('AI 0', SQUARE, { id: 'p', by: 'Ada', ended })).toBeNull();
  expect(shown()).toMatchObject({ raw: 20, value: 20, quality: SIMULATED, timeSource: 'engine' });
  expect(changed).toHaveBeenCalledOnce();
  vi.advanceTimersByTime(750);
  expect(shown()).toMatchObject({ value: 30, quality: SIMULATED });
  const stored = entries.flatMap(({ readings }) => readings.map(({ value, quality }) => [value, quality]));
  expect(stored).toEqual(
    expect.arrayContaining([
      [20, SIMULATED],
      [30, SIMULATED],
    ]),
  );
  // What the device says meanwhile is confirmed to it, and not shown; that it is silent neither.
  const committed = vi.fn();
  ingest.take([{ ...own(140), event: true }], MESSAGE, { keep: new Uint8Array(), committed });
  entries.at(-1)?.stored(1, 1);
  ingest.loseAll();
  expect(committed).toHaveBeenCalledOnce();
  expect(shown()).toMatchObject({ value: 30, quality: SIMULATED });
  expect(plays.shown).toMatchObject([{ id: 'p', point: 'AI 0', by: 'Ada', words: 'square 20 to 30, 1 s' }]);

  plays.end('p');
  expect(ended).toHaveBeenCalledExactlyOnceWith(null);
  expect(shown()).toMatchObject({ value: 80, quality: 0 });
  expect(refresh).toHaveBeenCalledOnce();
  expect(changed).toHaveBeenCalledTimes(2);
  expect(vi.getTimerCount()).toBe(0);
  vi.advanceTimersByTime(5000);
  expect(shown()).toMatchObject({ value: 80 });
});

test('another play of the same point ends the one before, and so does a device that is on test no more', () => {
  const [first, second] = [vi.fn(), vi.fn()];
  plays.begin('AI 0', SQUARE, { id: 'a', by: '', ended: first });
  plays.begin('AI 0', { ...SQUARE, low: 25 }, { id: 'b', by: '', ended: second });
  expect(first).toHaveBeenCalledExactlyOnceWith('it plays in another way now');
  plays.end('a');
  expect(second).not.toHaveBeenCalled();
  expect(plays.begin('AI 9', SQUARE, { id: 'c', by: '', ended: () => {} })).toContain('there is no AI 9');
  plays.adopt({ ...device, life: 'inService' });
  expect(second).toHaveBeenCalledExactlyOnceWith(expect.stringContaining('D is not on test'));
});
