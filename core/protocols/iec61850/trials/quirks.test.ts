import { expect, test } from 'vitest';
import { ODDITIES, tryOddity } from './quirks.ts';

/* The same that `npm run bench -- quirks` counts. */
test.each(ODDITIES.map((one) => [one.name, one] as const))('a device with a model: %s', (_name, one) => {
  expect(tryOddity(one)).toEqual([]);
});
