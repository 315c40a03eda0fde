import { configurationSchema, type DeviceConfig } from '@halvix/core/config';
import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { Exchange } from '../board/exchange.ts';
import { Contributions } from '../handon/contributions.ts';
import { Journal } from '../journal.ts';
import type { Entry, Historian } from '../store/historian.ts';
import { SourceRunner } from './source.ts';

/* A device without a link: it tells how the conversation with another one stands. */

const device: DeviceConfig = configurationSchema.parse({
  ...{ schema: 'halvix.configuration', version: 3, network: 'test', stations: [], links: [], outbounds: [] },
  devices: [
    {
      ...{ code: 'SUP', name: 'supervision', station: 'S', link: '', protocol: 'supervision', settings: {} },
      points: [{ kind: 'binary', at: { protocol: 'supervision', of: 'device', code: 'A', point: '' }, name: 'A' }],
    },
  ],
}).devices[0];

let failed: boolean | null;
let looks: number;
let entries: Entry[];
let exchange: Exchange;
let source: SourceRunner;
beforeEach(() => {
  vi.useFakeTimers({ now: Date.UTC(2096, 0, 1) });
  [failed, looks, entries, exchange] = [false, 0, [], new Exchange()];
  exchange.setDevice(device, () => 1);
  const standing = (): { failed: boolean | null; since: number } => {
    looks++;
    return { failed, since: Date.now() };
  };
  source = new SourceRunner(
    device,
    { device: standing, point: standing, outbound: standing },
    {
      ...{ exchange, journal: new Journal(), contributions: new Contributions(() => {}) },
      historian: { add: (entry: Entry) => entries.push(entry) } as unknown as Historian,
    },
  );
});
afterEach(() => {
  source.stop();
  vi.useRealTimers();
});

test('looks when it begins and then again and again, and hands on what is new', () => {
  source.start();
  expect(entries.map(({ device: code, readings }) => [code, readings.map(({ raw }) => raw)])).toEqual([['SUP', [0]]]);
  vi.advanceTimersByTime(1000);
  expect(entries).toHaveLength(1);
  expect(looks).toBeGreaterThanOrEqual(3);
  failed = true;
  vi.advanceTimersByTime(1000);
  expect(entries.at(-1)?.readings.map(({ raw }) => raw)).toEqual([1]);
  expect(exchange.get(1)?.reading?.raw).toBe(1);
});

test('looks no more once it has ended', () => {
  source.start();
  source.stop();
  const before = looks;
  vi.advanceTimersByTime(5000);
  expect([looks, vi.getTimerCount()]).toEqual([before, 0]);
});
