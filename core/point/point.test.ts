import { describe, expect, test } from 'vitest';
import { decimals, eventKey, Quality, qualityWords, ReplayGuard, scale, validity } from './index.ts';

describe('quality', () => {
  test('forced is valid, over range questionable, lost communication invalid', () => {
    expect(validity(Quality.forcedAtDevice)).toBe('good');
    expect(validity(Quality.overRange)).toBe('questionable');
    expect(validity(Quality.commLost | Quality.forcedAtDevice)).toBe('invalid');
    expect(qualityWords(Quality.commLost | Quality.overRange)).toBe('no communication, over range');
  });
});

describe('scaling', () => {
  test('is linear', () => expect(scale(8124, { gain: 0.025, offset: 0 })).toBeCloseTo(203.1));
  test('shows as many decimals as the gain carries', () =>
    expect([1, 0.1, 0.01, 0.025].map((gain) => decimals({ gain, offset: 0 }))).toEqual([0, 1, 2, 3]));
});

describe('replay guard', () => {
  type Events = [keys: number[], isTimed: (at: number) => boolean];
  const timed = (...keys: string[]): Events => [keys.map((key) => key.charCodeAt(0)), () => true];
  const untimed = (...keys: string[]): Events => [keys.map((key) => key.charCodeAt(0)), () => false];

  test('after a restart the last stored fragment is not stored again, what follows it is', () => {
    const first = new ReplayGuard();
    first.settle();
    expect(first.admit(...timed('a', 'b'))).toEqual([true, true]);
    const afterRestart = new ReplayGuard(first.remembered());
    expect(afterRestart.admit(...timed('a', 'b', 'c'))).toEqual([false, false, true]);
  });

  test('events in other groupings are recognised until the device has answered for all classes', () => {
    const guard = new ReplayGuard(['a', 'b', 'c'].map((key) => key.charCodeAt(0)));
    expect(guard.admit(...timed('b'))).toEqual([false]);
    expect(guard.admit(...timed('a', 'c', 'd'))).toEqual([false, false, true]);
    guard.settle();
    expect(guard.admit(...timed('b'))).toEqual([true]);
  });

  test('out of doubt, an equal event without a time is new', () => {
    const guard = new ReplayGuard();
    guard.settle();
    guard.admit(...untimed('x'));
    expect(guard.admit(...untimed('x'))).toEqual([true]);
    guard.settle();
    guard.doubt();
    expect(guard.admit(...untimed('x', 'x'))).toEqual([false, true]);
  });

  test('a read of other classes says nothing about what a read left in question', () => {
    const guard = new ReplayGuard();
    guard.settle();
    guard.admit(...timed('counter'), { classes: 7, first: true });
    guard.settle(7);
    guard.admit(...timed('binary'), { classes: 3, first: true });
    guard.settle(3);
    expect(guard.admit(...timed('counter'), { classes: 7, first: true })).toEqual([false]);
    guard.settle(7);
    guard.settle(7);
    expect(guard.admit(...timed('counter'), { classes: 7, first: true })).toEqual([true]);
  });

  test('classes of which the device says that more wait are not forgotten', () => {
    const guard = new ReplayGuard();
    guard.settle();
    guard.admit(...timed('a'));
    guard.settle();
    guard.settle(7, 2);
    expect(guard.admit(...timed('a'))).toEqual([false]);
  });

  test('what it remembers is bounded', () => {
    const guard = new ReplayGuard();
    for (let i = 0; i < 20_000; i++) guard.admit([i], () => true);
    expect(guard.remembered().length).toBeLessThanOrEqual(5001);
  });

  test('out of doubt, an equal event with a time is a repetition', () => {
    const guard = new ReplayGuard();
    guard.settle();
    guard.admit(...timed('x'));
    expect(guard.admit(...timed('x', 'y'))).toEqual([false, true]);
  });

  test('keys tell kind, index, value, flags and time apart', () => {
    const keys = new Set<number>();
    let made = 0;
    for (const kind of ['binary', 'analog'] as const)
      for (let index = 0; index < 20; index++)
        for (const value of [0, 1, -1, 0.5, 1e9])
          for (const flags of [0, 1, 0x81])
            for (const time of [null, 0, 1_700_000_000_000, 1_700_000_000_001]) {
              keys.add(eventKey(kind, index, value, flags, time));
              made++;
            }
    expect(keys.size).toBe(made);
    expect([...keys].every(Number.isSafeInteger)).toBe(true);
  });
});
