import { expect, test } from 'vitest';
import { PastMessages } from './past.ts';

test('keeps the newest, the newest first, each under a name that stays', () => {
  const past = new PastMessages();
  for (let n = 1; n <= 10; n++) past.add(n * 1000, `reason ${n}`, () => [['P', String(n)]]);
  expect(past.shown.map(({ key, time }) => [key, time])).toEqual(
    [10, 9, 8, 7, 6, 5, 4, 3].map((n) => [String(n), n * 1000]),
  );
  expect(past.shown[0]).toEqual({ key: '10', time: 10_000, words: 'reason 10', values: [['P', '10']] });
});

test('puts nothing into words before somebody looks, and no more than there is room for', () => {
  const past = new PastMessages();
  let asked = 0;
  past.add(0, '', function* () {
    for (let n = 0; ; n++) {
      asked++;
      yield [`P${n}`, '1'];
    }
  });
  expect(asked).toBe(0);
  expect(past.shown[0].values).toHaveLength(80);
  expect(asked).toBeLessThan(90);
});
