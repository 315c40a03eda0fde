import type { Operation } from '@halvix/core/point';
import { describe, expect, test } from 'vitest';
import { DEMO_PORTS, demoConfiguration } from '../scenario/configuration.ts';
import { checkConfiguration } from '@halvix/core/config';
import type { Order } from '../plant.ts';
import { dailyLoad, FeederRelay } from './feederrelay.ts';
import { FEEDER_RELAY } from '../scenario/feederrelay.ts';

const NOON = Date.UTC(2026, 10, 24, 12);
const order = (operation: Operation, more: Partial<Order> = {}): Order => ({
  ...{ operation, counts: null, count: 1, onMs: 500, offMs: 250 },
  ...more,
});
const relay = (): FeederRelay => new FeederRelay(NOON, () => 0.5);
const current = (r: FeederRelay): number => r.value('analog 0') ?? NaN;

describe('the feeder relay', () => {
  test('has 28 binary inputs, 12 binary outputs, 36 analog inputs and 4 counters, each with a value', () => {
    const counts: Record<string, number> = {};
    for (const { kind } of FEEDER_RELAY) counts[kind] = (counts[kind] ?? 0) + 1;
    expect(counts).toEqual({ binary: 28, output: 12, analog: 36, counter: 4 });
    for (const { key } of FEEDER_RELAY) expect(Number.isInteger(relay().value(key))).toBe(true);
  });

  test('trip opens the breaker after 45 ms: no current, the trip target, the voltage stays', () => {
    const r = relay();
    expect(current(r)).toBeGreaterThan(1000);
    expect(r.operate('output 0', order('trip'), NOON, true)).toBeNull();
    r.tick(NOON + 44);
    expect(r.value('binary 0')).toBe(1);
    r.tick(NOON + 45);
    expect([r.value('binary 0'), r.value('binary 2'), current(r)]).toEqual([0, 1, 0]);
    expect(r.value('analog 7')).toBeGreaterThan(32_000);
    expect(r.operate('output 0', order('close'), NOON + 100, true)).toBeNull();
    r.tick(NOON + 200);
    expect(current(r)).toBeGreaterThan(1000);
    expect(r.operate('output 1', order('pulseOn'), NOON + 300, true)).toBeNull();
    expect(r.value('binary 2')).toBe(0);
  });

  test('a select changes nothing, local refuses, and so does what an output cannot do', () => {
    const r = relay();
    expect(r.operate('output 0', order('trip'), NOON, false)).toBeNull();
    r.tick(NOON + 1000);
    expect(r.value('binary 0')).toBe(1);
    r.forced.set('binary 6', 0);
    expect(r.operate('output 0', order('trip'), NOON, true)).toBe('local');
    r.forced.clear();
    expect(r.operate('output 0', order('pulseOn'), NOON, true)).toBe('notSupported');
    expect(r.operate('output 2', order('trip'), NOON, true)).toBe('notSupported');
    expect(r.operate('output 99', order('trip'), NOON, true)).toBe('notSupported');
    expect(r.operate('output 0', order('trip', { onMs: 700_000 }), NOON, true)).toBe('outOfRange');
  });

  test('blocked closing is blocked', () => {
    const r = relay();
    expect(r.operate('output 6', order('latchOn'), NOON, true)).toBeNull();
    expect(r.operate('output 0', order('close'), NOON, true)).toBe('blocked');
  });

  test('frequency stays within 50 Hz ± 0.03 whatever chance does', () => {
    for (const random of [(): number => 0, (): number => 1, Math.random]) {
      const r = new FeederRelay(NOON, random);
      for (let i = 0; i < 2000; i++) {
        r.tick(NOON + i * 250);
        expect(Math.abs((r.value('analog 10') ?? 0) - 5000)).toBeLessThanOrEqual(3);
      }
    }
  });

  test('the load has its low at night and its peak in the evening', () => {
    const at = (hour: number): number => dailyLoad(Date.UTC(2026, 10, 24, hour));
    expect(at(4)).toBeLessThan(at(9));
    expect(at(9)).toBeLessThan(at(19));
    expect(at(0)).toBeCloseTo(dailyLoad(Date.UTC(2026, 10, 25, 0)));
  });
});

test('the demo configuration has nothing wrong', () => {
  expect(checkConfiguration(demoConfiguration())).toEqual([]);
  expect(checkConfiguration(demoConfiguration(DEMO_PORTS))).toEqual([]);
});

describe('the records of a relay', () => {
  const linesOf = (r: FeederRelay, name: string): string[] => {
    const content = r.files.find((file) => file.name === name)?.content ?? new Uint8Array();
    return Buffer.from(content).toString('latin1').trimEnd().split('\r\n');
  };

  test('a trip leaves a configuration and its data, as IEEE C37.111-1999 has them', () => {
    const r = relay();
    expect(r.files.map(({ name }) => name)).toEqual(['REC00001.CFG', 'REC00001.DAT']);
    r.operate('output 0', order('trip'), NOON, true);
    r.tick(NOON + 50);
    const configuration = linesOf(r, 'REC00002.CFG');
    expect(configuration[0].split(',')).toHaveLength(3);
    const [total, analog, digital] = configuration[1].split(',');
    expect([total, analog, digital]).toEqual(['7', '6A', '1D']);
    // Each analog channel has thirteen fields, each digital one five.
    expect(configuration.slice(2, 8).map((line) => line.split(',').length)).toEqual(Array(6).fill(13));
    expect(configuration[8].split(',')).toHaveLength(5);
    const [, , rate] = configuration.slice(9);
    const [hertz, samples] = rate.split(',').map(Number);
    expect(configuration.at(-4)).toMatch(/^24\/11\/2026,11:59:59\.\d{6}$/);
    expect(configuration.at(-3)).toMatch(/^24\/11\/2026,12:00:00\.\d{6}$/);
    const data = linesOf(r, 'REC00002.DAT').map((line) => line.split(',').map(Number));
    expect(data).toHaveLength(samples);
    expect(data.every((row, i) => row.length === 9 && row[0] === i + 1)).toBe(true);
    // Microseconds since the first sample, evenly apart.
    expect(data[samples - 1][1]).toBe(((samples - 1) * 1e6) / hertz);
    // The breaker opens, and no current flows from then on.
    const opened = data.findIndex((row) => row[8] === 0);
    expect(opened).toBeGreaterThan(0);
    expect(data.slice(opened).every((row) => row[2] === 0 && row[3] === 0 && row[4] === 0)).toBe(true);
  });

  test('the oldest go when there are too many, and what is deleted is gone', () => {
    const r = relay();
    for (let i = 1; i <= 12; i++) {
      r.operate('output 0', order('trip'), NOON + i * 1000, true);
      r.tick(NOON + i * 1000 + 50);
      r.operate('output 0', order('close'), NOON + i * 1000 + 100, true);
      r.tick(NOON + i * 1000 + 200);
    }
    expect(r.files).toHaveLength(20);
    expect(r.files[0].name).toBe('REC00004.CFG');
    r.deleteFile('REC00004.CFG');
    expect(r.files.map(({ name }) => name)).not.toContain('REC00004.CFG');
  });
});
