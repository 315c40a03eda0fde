import { describe, expect, test } from 'vitest';
import { Playing, playSchema, playWords, rowsOf } from './playing.ts';

const values = (play: object, times: readonly number[], kind: 'analog' | 'binary' = 'analog'): number[] => {
  const playing = new Playing(playSchema.parse(play), kind, 1000, () => 1);
  return times.map((at) => playing.valueAt(1000 + at));
};
const between = { low: 10, high: 20, periodMs: 1000 };

describe('a value that plays', () => {
  test('goes up and down, in waves, from one to the other, and by chance within its ends', () => {
    expect(values({ shape: 'ramp', ...between }, [0, 250, 500, 750, 1000])).toEqual([10, 15, 20, 15, 10]);
    expect(values({ shape: 'sine', ...between }, [0, 250, 500, 1250]).map((v) => Math.round(v * 1e6) / 1e6)).toEqual([
      10, 15, 20, 15,
    ]);
    expect(values({ shape: 'square', ...between }, [0, 499, 500, 1000])).toEqual([10, 10, 20, 10]);
    expect(values({ shape: 'walk', low: 10, high: 20, step: 4 }, [0, 1, 2, 3])).toEqual([19, 20, 20, 20]);
  });

  test('of a state is a state', () => {
    expect(values({ shape: 'ramp', low: 0, high: 1, periodMs: 1000 }, [0, 240, 260, 500], 'binary')).toEqual([
      0, 0, 1, 1,
    ]);
  });

  test('from a file comes at its times, again and again or once', () => {
    const csv = 'time,value\n2026-11-27T06:00:00Z,1\n2026-11-27T06:00:02Z,2.5\n';
    expect(values({ shape: 'replay', csv }, [0, 1999, 2000, 2999, 3000])).toEqual([1, 1, 2.5, 2.5, 1]);
    expect(values({ shape: 'replay', csv, again: false }, [3000, 90_000])).toEqual([2.5, 2.5]);
    expect(rowsOf('500;7\r\n750;8')).toEqual({
      ok: true,
      value: [
        { atMs: 0, value: 7 },
        { atMs: 250, value: 8 },
      ],
    });
  });

  test.each([
    ['time,value', 'there is no row with a time and a value'],
    ['0,1\n5,x', 'line 2: x is not a value'],
    ['0,1\nnoon,2', 'line 2: noon is not a time'],
    ['5,1\n4,2', 'line 2: 4 is before the time of the row above'],
    [Array.from({ length: 5001 }, (_, n) => `${n},1`).join('\n'), 'line 5001: at most 5000 rows'],
  ])('a file that is none tells its line', (csv, problem) => expect(rowsOf(csv)).toEqual({ ok: false, problem }));

  test.each([
    [{ shape: 'circle' }, 'shape is ramp, sine, square, walk or replay'],
    [{ shape: 'sine', low: 5, high: 1, periodMs: 1000 }, 'The low end is above the high one'],
    [{ shape: 'sine', low: 1, high: 5, periodMs: 1 }, 'A period is at least 200 ms'],
    [{ shape: 'walk', low: 1, high: 5, step: 0 }, 'A step is more than 0'],
  ])('what cannot be played says why', (play, words) => {
    const read = playSchema.safeParse(play);
    expect(read.error?.issues.map(({ message }) => message)).toEqual([words]);
  });

  test('is told in a word', () => {
    expect(playWords(playSchema.parse({ shape: 'sine', ...between }))).toBe('sine 10 to 20, 1 s');
  });
});
