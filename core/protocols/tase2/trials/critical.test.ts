import { beforeEach, describe, expect, test } from 'vitest';
import { Quality } from '../../../point/index.ts';
import { MOST_WAITING } from '../server/critical.ts';
import { Both, listed, offered } from './both.ts';

const OFFERS = [offered('analog', 'TIE_MW', 'RealQTimeTag'), offered('binary', 'LINE', 'StateQTimeTag')];
const LIST = [listed(1, 'analog', 'HALVIX/TIE_MW'), listed(2, 'binary', 'HALVIX/LINE')];
let pair: Both;
beforeEach(() => {
  pair = new Both([...LIST], OFFERS, { client: { critical: true } }).start().run(500);
});
const events = (id: number): number[] =>
  pair
    .readings(id)
    .filter(({ event }) => event)
    .map(({ raw }) => raw);
let value = 0;
const change = (count: number): void => {
  for (let n = 0; n < count; n++) {
    pair.update('TIE_MW', ++value);
    pair.run(20);
  }
};
beforeEach(() => {
  value = 0;
});
const upTo = (last: number): number[] => Array.from({ length: last }, (_, n) => n + 1);

/* IEC 60870-6-503 has the acknowledgement of critical reports; that changes wait for a peer that is away is ours. */
describe('critical changes', () => {
  test('wait for a peer that is away, and come first when it is back: each once, in order', () => {
    change(3);
    pair.cut();
    change(20);
    expect(pair.server.eventsWaiting).toBe(20);
    pair.start().run(3000);
    change(2);
    pair.run(1000);
    expect(events(1)).toEqual(upTo(25));
    expect(pair.owed.size).toBe(0);
  });

  test.each([
    ['piece by piece', false],
    ['in one piece', true],
  ])('survive our restarts, remembered %s; what comes meanwhile is owed too', (_words, anew) => {
    change(3);
    pair.cut();
    change(5);
    pair.restartServer(anew);
    change(5);
    pair.restartServer(anew);
    change(5);
    pair.start().run(3000);
    expect(events(1)).toEqual(upTo(18));
    expect(pair.owed.size).toBe(0);
  });

  test('that went out and were not acknowledged come again', () => {
    pair.mute = true;
    change(2);
    pair.cut();
    pair.mute = false;
    change(2);
    pair.start().run(3000);
    expect(events(1).slice(-4)).toEqual([1, 2, 3, 4]);
  });

  test('of a peer that does without them wait for nobody', () => {
    const other = new Both([...LIST], OFFERS).start().run(500);
    other.update('TIE_MW', 1);
    other.cut();
    other.update('TIE_MW', 2);
    expect([other.server.eventsWaiting, other.owed.size]).toEqual([0, 0]);
  });

  test('have a bound: beyond it an object has its last value only', () => {
    pair.cut();
    for (let n = 1; n <= MOST_WAITING + 50; n++) pair.update('TIE_MW', n);
    pair.update('LINE', 1);
    expect(pair.server.eventsWaiting).toBeLessThanOrEqual(MOST_WAITING + 1);
    expect(pair.owed.size).toBe(pair.server.eventsWaiting);
    pair.start().run(60_000);
    expect(events(1).at(-1)).toBe(MOST_WAITING + 50);
    expect(events(2)).toEqual([1]);
  });

  test('what is shown and not told is no change', () => {
    pair.update('TIE_MW', 5);
    pair.run(200);
    pair.serve({
      ...{ type: 'update', manner: 'shown' },
      updates: [{ kind: 'analog', at: OFFERS[0].at, value: 5, quality: Quality.commLost, time: pair.now }],
    });
    pair.update('TIE_MW', 5);
    pair.run(500);
    expect(events(1)).toEqual([5]);
  });
});
