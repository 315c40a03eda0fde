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
  const timed = (...keys: string[]): { key: string; timed: boolean }[] => keys.map((key) => ({ key, timed: true }));
  const untimed = (...keys: string[]): { key: string; timed: boolean }[] => keys.map((key) => ({ key, timed: false }));

  test('after a restart the last stored fragment is not stored again, what follows it is', () => {
    const first = new ReplayGuard();
    first.settle();
    expect(first.admit(timed('a', 'b'))).toEqual([true, true]);
    const afterRestart = new ReplayGuard(first.remembered());
    expect(afterRestart.admit(timed('a', 'b', 'c'))).toEqual([false, false, true]);
  });

  test('events in other groupings are recognised until the device has answered for all classes', () => {
    const guard = new ReplayGuard(['a', 'b', 'c']);
    expect(guard.admit(timed('b'))).toEqual([false]);
    expect(guard.admit(timed('a', 'c', 'd'))).toEqual([false, false, true]);
    guard.settle();
    expect(guard.admit(timed('b'))).toEqual([true]);
  });

  test('out of doubt, an equal event without a time is new', () => {
    const guard = new ReplayGuard();
    guard.settle();
    guard.admit(untimed('x'));
    expect(guard.admit(untimed('x'))).toEqual([true]);
    guard.doubt();
    expect(guard.admit(untimed('x', 'x'))).toEqual([false, true]);
  });

  test('out of doubt, an equal event with a time is a repetition', () => {
    const guard = new ReplayGuard();
    guard.settle();
    guard.admit(timed('x'));
    expect(guard.admit(timed('x', 'y'))).toEqual([false, true]);
  });

  test('keys tell value, flags and time apart', () => {
    expect(
      new Set([eventKey(1, 0, 1, 5), eventKey(1, 1, 1, 5), eventKey(1, 0, 0, 5), eventKey(1, 0, 1, null)]).size,
    ).toBe(4);
  });
});
