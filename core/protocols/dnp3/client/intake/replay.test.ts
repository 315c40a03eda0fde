import { describe, expect, test } from 'vitest';
import { eventKey, ReplayGuard, type Carried, type EventLike } from './replay.ts';

const READ: Carried = { scope: 7, first: true, final: true, unsolicited: false, overflow: false, waiting: 0 };
const contact = (value: number, time: number | null = null, index = 0): EventLike => ({
  kind: 'binary',
  index,
  value,
  flags: 1,
  time,
});
const timed = (...values: number[]): EventLike[] => values.map((value) => contact(value % 2, 1_000_001 + 7 * value));
const fresh = (guard: ReplayGuard, events: EventLike[], carried: Partial<Carried> = {}): boolean[] =>
  guard.admit(events, { ...READ, ...carried }).fresh;

describe('events with times of their own', () => {
  test('after a restart what was kept is not new, what follows it is', () => {
    const first = new ReplayGuard();
    expect(fresh(first, timed(1, 2))).toEqual([true, true]);
    const after = new ReplayGuard(first.remembered());
    expect(fresh(after, timed(1, 2, 3))).toEqual([false, false, true]);
  });

  test('are recognised in other groupings, until the device has answered for all classes', () => {
    const guard = new ReplayGuard();
    fresh(guard, timed(1, 2, 3));
    expect(fresh(guard, timed(2))).toEqual([false]);
    expect(fresh(guard, timed(1, 3, 4))).toEqual([false, false, true]);
    guard.settle(7);
    guard.settle(7);
    expect(fresh(guard, timed(2))).toEqual([true]);
  });

  test('a read of other classes says nothing about them', () => {
    const guard = new ReplayGuard();
    fresh(guard, timed(1));
    guard.settle(7);
    fresh(guard, timed(5), { scope: 3 });
    guard.settle(3);
    expect(fresh(guard, timed(1), { scope: 4 })).toEqual([false]);
  });

  test('what came unasked is done with once the next comes too soon for the device to have waited in vain', () => {
    const unasked = { unsolicited: true };
    const guard = new ReplayGuard();
    const empty = guard.remembered().length;
    for (let round = 0; round < 100; round++)
      expect(fresh(guard, timed(2 * round, 2 * round + 1), { ...unasked, soon: round > 0 })).toEqual([true, true]);
    // The last one alone is in question.
    const last = new ReplayGuard();
    fresh(last, timed(198, 199), unasked);
    expect(guard.remembered().length - empty).toBe(last.remembered().length - empty);
    expect(fresh(guard, timed(198))).toEqual([false]);
  });

  test('unless it comes again, or came later', () => {
    for (const soon of [true, false]) {
      const guard = new ReplayGuard();
      fresh(guard, timed(1, 2), { unsolicited: true });
      expect(fresh(guard, timed(1, 2, 3), { unsolicited: true, soon })).toEqual([false, false, true]);
      const later = new ReplayGuard();
      fresh(later, timed(1, 2), { unsolicited: true });
      fresh(later, timed(3), { unsolicited: true, soon });
      expect(fresh(later, timed(1, 2))).toEqual([soon, soon]);
    }
  });

  test('nor does an answer of a device that says that more wait', () => {
    const guard = new ReplayGuard();
    fresh(guard, timed(1));
    guard.settle(7);
    guard.settle(7, 2);
    expect(fresh(guard, timed(1))).toEqual([false]);
  });

  test('what came unasked may come again in an answer', () => {
    const guard = new ReplayGuard();
    fresh(guard, timed(1, 2), { unsolicited: true });
    expect(fresh(guard, timed(1, 2, 3))).toEqual([false, false, true]);
  });
});

describe('events that may come about again', () => {
  test('the whole list again is a repetition, a part of it is not', () => {
    const guard = new ReplayGuard();
    fresh(guard, [contact(1), contact(0), contact(1)]);
    guard.settle(7);
    expect(fresh(guard, [contact(1), contact(0), contact(1), contact(0)])).toEqual([false, false, false, true]);
    guard.settle(7);
    expect(fresh(guard, [contact(1), contact(0)])).toEqual([true, true]);
  });

  test('an empty answer to the same read shows that the confirm arrived', () => {
    const guard = new ReplayGuard();
    fresh(guard, [contact(1)]);
    guard.settle(7);
    expect(guard.hasAmbiguous).toBe(true);
    guard.settle(7);
    expect(guard.hasAmbiguous).toBe(false);
    expect(fresh(guard, [contact(1)])).toEqual([true]);
  });

  test('a clock of whole seconds makes them so, one of milliseconds does not', () => {
    const guard = new ReplayGuard();
    expect(guard.admit([contact(1, 5_000_000)], READ).ambiguous).toBe(true);
    expect(guard.admit([contact(0, 5_000_123)], READ).ambiguous).toBe(false);
  });

  test('a clock that stands still makes them so', () => {
    const guard = new ReplayGuard();
    guard.admit([contact(1, 5_000_123)], READ);
    expect(guard.admit([contact(0, 5_000_123)], READ).ambiguous).toBe(true);
  });
});

test('what it remembers is bounded, and survives its octets', () => {
  const guard = new ReplayGuard();
  for (let i = 0; i < 6000; i++) fresh(guard, [contact(0, 1_000_001 + 7 * i)]);
  const kept = guard.remembered();
  expect(kept.length).toBeLessThan(100_000);
  expect(kept.length % 8).not.toBe(0);
  expect(new ReplayGuard(kept).remembered()).toEqual(kept);
});

test('plain keys of older versions are understood', () => {
  const events = timed(1, 2, 3);
  const keys = events.map(({ kind, index, value, flags, time }) => eventKey(kind, index, value, flags, time));
  const guard = new ReplayGuard(new Uint8Array(Float64Array.from(keys).buffer));
  expect(fresh(guard, timed(2, 3, 4))).toEqual([false, false, true]);
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
