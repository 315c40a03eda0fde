import { expect, test } from 'vitest';
import type { ClientPoint } from '../../client.ts';
import type { TaseAt } from '../points.ts';
import { Both, listed, offered } from './both.ts';

/* A state and a supplemental one are the same octet: which of them it is says the agreement. */

const OFFERS = [
  offered('doubleBit', 'SWITCH', 'StateSupplemental'),
  offered('doubleBit', 'BREAKER', 'State'),
  offered('analog', 'STEP', 'Discrete'),
];
const as = (point: ClientPoint<TaseAt>, type: TaseAt['type']): ClientPoint<TaseAt> => ({
  ...point,
  at: { ...point.at, type },
});
const LIST = [
  as(listed(1, 'doubleBit', 'HALVIX/SWITCH'), 'StateSupplemental'),
  as(listed(2, 'doubleBit', 'HALVIX/BREAKER'), 'State'),
  as(listed(3, 'binary', 'HALVIX/BREAKER', 'poll'), 'State'),
  as(listed(4, 'analog', 'HALVIX/STEP'), 'Discrete'),
  as(listed(5, 'analog', 'HALVIX/BREAKER', 'poll'), 'Discrete'),
  as(listed(6, 'doubleBit', 'HALVIX/STEP', 'poll'), 'State'),
];

test.each([true, false])(
  'each value is what is agreed on, reported: %s; what is of another type is not taken',
  (reports) => {
    const pair = new Both([...LIST], OFFERS, { client: { reports, pollMs: 1000 } }).start().run(500);
    pair.update('SWITCH', 2);
    pair.update('BREAKER', 2);
    pair.update('STEP', 3);
    pair.run(3000);
    expect(pair.last(1)).toMatchObject({ raw: 2, quality: 0 });
    expect(pair.last(2)).toMatchObject({ raw: 2, quality: 0 });
    expect(pair.last(3)).toMatchObject({ raw: 1, quality: 0 });
    expect(pair.last(4)).toMatchObject({ raw: 3, quality: 0 });
    expect([pair.last(5), pair.last(6)]).toEqual([undefined, undefined]);
    const unreadable = pair.news.flatMap((one) => (one.type === 'unreadable' ? [one] : [])).at(-1);
    expect(unreadable?.points).toEqual([5, 6]);
    expect(unreadable?.words).toBe('HALVIX/STEP is not the State that is agreed on');
  },
);

test('without it a supplemental state is taken for a state, whose flags say what its tag says', () => {
  const pair = new Both([listed(1, 'doubleBit', 'HALVIX/SWITCH')], OFFERS, {}).start().run(500);
  pair.update('SWITCH', 2);
  pair.run(500);
  expect(pair.last(1)?.raw).toBe(2);
  expect(pair.last(1)?.quality).not.toBe(0);
});
