import { beforeEach, describe, expect, test } from 'vitest';
import { SteadyClock } from './clock.ts';

let wall: number;
let steady: number;
let clock: SteadyClock;
const pass = (ms: number): void => {
  wall += ms;
  steady += ms;
};
beforeEach(() => {
  [wall, steady] = [1_000_000_000_000, 5000];
  clock = new SteadyClock({ wall: () => wall, steady: () => steady });
});

describe('the clock', () => {
  test('follows a step forward at once, and says for ten minutes that it may be wrong', () => {
    expect([clock.isDoubtful, clock.stepMs]).toEqual([false, 0]);
    wall += 3_600_000;
    expect(clock.now()).toBe(wall);
    expect([clock.isDoubtful, clock.stepMs]).toEqual([true, 3_600_000]);
    pass(599_000);
    expect(clock.isDoubtful).toBe(true);
    pass(2000);
    expect(clock.isDoubtful).toBe(false);
  });

  test('stays ahead of one that is set back, and says by how much', () => {
    wall += 3_600_000;
    clock.now();
    pass(60_000);
    const before = clock.now();
    wall -= 3_600_000;
    pass(10);
    expect(clock.now()).toBe(before + 10);
    expect(clock.aheadMs).toBe(3_600_000);
  });

  test('makes up for little by and by, without a word', () => {
    wall -= 900;
    expect(clock.aheadMs).toBe(0);
    const began = clock.now() - wall;
    for (let n = 0; n < 100; n++) {
      pass(200);
      clock.now();
    }
    expect(clock.now() - wall).toBeLessThan(began - 40);
    expect(clock.aheadMs).toBe(0);
  });

  test('never runs backwards by a fraction, not even while it is led back', () => {
    wall -= 900;
    let last = clock.fine();
    for (let n = 0; n < 1000; n++) {
      pass(0.3);
      expect(clock.fine()).toBeGreaterThanOrEqual(last);
      last = clock.fine();
    }
    expect(clock.now()).toBe(Math.floor(last));
  });
});
