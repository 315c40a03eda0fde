import { CONTROL_OPERATIONS, ControlStatus, type ControlBlock, type ControlOperation } from '@halvix/core/dnp3';
import { describe, expect, test } from 'vitest';
import { DEMO_PORTS, demoConfiguration } from './scenario/configuration.ts';
import { checkConfiguration } from '@halvix/core/config';
import { dailyLoad, FeederRelay } from './relay.ts';
import { FEEDER_RELAY } from './scenario/feederrelay.ts';

const NOON = Date.UTC(2026, 10, 24, 12);
const block = (operation: ControlOperation, more: Partial<ControlBlock> = {}): ControlBlock => ({
  code: CONTROL_OPERATIONS[operation],
  count: 1,
  onMs: 500,
  offMs: 250,
  status: 0,
  ...more,
});
const relay = (): FeederRelay => new FeederRelay(NOON, () => 0.5);
const current = (r: FeederRelay): number => r.value('analog', 0) ?? NaN;

describe('the feeder relay', () => {
  test('has 28 binary inputs, 12 binary outputs, 36 analog inputs and 4 counters, each with a value', () => {
    const counts: Record<string, number> = {};
    for (const { kind } of FEEDER_RELAY) counts[kind] = (counts[kind] ?? 0) + 1;
    expect(counts).toEqual({ binary: 28, output: 12, analog: 36, counter: 4 });
    for (const { kind, index } of FEEDER_RELAY) expect(Number.isInteger(relay().value(kind, index))).toBe(true);
  });

  test('trip opens the breaker after 45 ms: no current, the trip target, the voltage stays', () => {
    const r = relay();
    expect(current(r)).toBeGreaterThan(1000);
    expect(r.operate(0, block('trip'), false, NOON, true)).toBe(ControlStatus.success);
    r.tick(NOON + 44);
    expect(r.value('binary', 0)).toBe(1);
    r.tick(NOON + 45);
    expect([r.value('binary', 0), r.value('binary', 2), current(r)]).toEqual([0, 1, 0]);
    expect(r.value('analog', 7)).toBeGreaterThan(32_000);
    expect(r.operate(0, block('close'), false, NOON + 100, true)).toBe(ControlStatus.success);
    r.tick(NOON + 200);
    expect(current(r)).toBeGreaterThan(1000);
    expect(r.operate(1, block('pulseOn'), false, NOON + 300, true)).toBe(ControlStatus.success);
    expect(r.value('binary', 2)).toBe(0);
  });

  test('a select changes nothing, local refuses, and so does what an output cannot do', () => {
    const r = relay();
    expect(r.operate(0, block('trip'), false, NOON, false)).toBe(ControlStatus.success);
    r.tick(NOON + 1000);
    expect(r.value('binary', 0)).toBe(1);
    expect(r.operate(0, block('trip'), true, NOON, true)).toBe(ControlStatus.local);
    expect(r.operate(0, block('pulseOn'), false, NOON, true)).toBe(ControlStatus.notSupported);
    expect(r.operate(2, block('trip'), false, NOON, true)).toBe(ControlStatus.notSupported);
    expect(r.operate(99, block('trip'), false, NOON, true)).toBe(ControlStatus.notSupported);
    expect(r.operate(0, block('trip', { onMs: 700_000 }), false, NOON, true)).toBe(ControlStatus.outOfRange);
  });

  test('blocked closing is blocked', () => {
    const r = relay();
    expect(r.operate(6, block('latchOn'), false, NOON, true)).toBe(ControlStatus.success);
    expect(r.operate(0, block('close'), false, NOON, true)).toBe(ControlStatus.blocked);
  });

  test('frequency stays within 50 Hz ± 0.03 whatever chance does', () => {
    for (const random of [(): number => 0, (): number => 1, Math.random]) {
      const r = new FeederRelay(NOON, random);
      for (let i = 0; i < 2000; i++) {
        r.tick(NOON + i * 250);
        expect(Math.abs((r.value('analog', 10) ?? 0) - 5000)).toBeLessThanOrEqual(3);
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
