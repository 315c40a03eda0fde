import { beforeEach, describe, expect, test } from 'vitest';
import { Two } from './two.ts';

let two: Two;
beforeEach(() => {
  two = new Two().connect();
});
const states = (side: 'west' | 'east'): string[] =>
  two.news[side].flatMap((one) => (one.type === 'communication' ? [one.state] : []));

describe('two centres over one association', () => {
  test('each sees what the other one offers, and its changes', () => {
    expect(two.west.client.ways).toEqual({ reported: 1, polled: 0 });
    expect(two.east.client.ways).toEqual({ reported: 1, polled: 0 });
    two.update('west', 17);
    two.update('east', 23);
    expect([two.last('east'), two.last('west')]).toEqual([17, 23]);
    // One association was asked for, and neither end had anything that it did not expect.
    expect(two.east.server.counters.values.associations).toBe(1);
    for (const { counters } of [two.west.client, two.west.server, two.east.client, two.east.server])
      expect(counters.values.odd).toBe(0);
  });

  test('nothing is lost that comes together with the answer to the association', () => {
    const together = new Two();
    together.gathers = true;
    together.connect();
    expect(together.west.client.counters.values.odd).toBe(0);
    expect(together.east.client.counters.values.errors).toBe(0);
    expect(together.east.client.ways).toEqual({ reported: 1, polled: 0 });
    together.update('west', 31);
    expect(together.last('east')).toBe(31);
  });

  test('each operates at the other one, once', () => {
    two.control('west', 'EAST');
    two.control('east', 'WEST');
    expect([two.controls.east.length, two.controls.west.length]).toEqual([1, 1]);
    for (const side of ['west', 'east'] as const)
      expect(
        two.news[side]
          .filter((one) => one.type === 'control')
          .map(({ step }) => step)
          .at(-1),
      ).toBe('operated');
  });

  test('acknowledgements of critical reports get to the end that sent them, in both directions', () => {
    two = new Two(true).connect();
    two.update('west', 5);
    two.update('east', 6);
    const before = two.sent.length;
    two.run(30_000);
    // Nothing is repeated: only the question whether the other end is there.
    const values = two.news.west.concat(two.news.east).filter(({ type }) => type === 'readings').length;
    two.run(30_000);
    expect(two.news.west.concat(two.news.east).filter(({ type }) => type === 'readings')).toHaveLength(values);
    expect(two.sent.length).toBeGreaterThan(before);
    expect([two.last('east'), two.last('west')]).toEqual([5, 6]);
  });

  test('with the connection both are lost, and both come back by themselves', () => {
    two.cut().run(20_000);
    expect([states('west').at(-1), states('east').at(-1)]).toEqual(['silent', 'silent']);
    two.connect().run(1000);
    expect([states('west').at(-1), states('east').at(-1)]).toEqual(['answering', 'answering']);
    two.update('west', 3);
    two.update('east', 4);
    expect([two.last('east'), two.last('west')]).toEqual([3, 4]);
  });

  test('a guest that goes leaves the host as it is: nobody is there to be asked', () => {
    two.west.client.command({ type: 'guest', what: 'goes' }, two.now);
    two.west.server.command({ type: 'went', peer: 1 }, two.now);
    two.update('east', 9);
    expect(two.last('west')).toBe(9);
    // What the other end still asks is rejected, and in the end it gives up asking, not the association.
    two.run(60_000);
    expect(two.west.client.counters.values.odd).toBeGreaterThan(0);
    two.west.client.command({ type: 'guest', what: 'comes' }, two.now);
    two.run(1000);
    expect(two.news.west.filter((one) => one.type === 'guest' && one.what === 'begins')).toHaveLength(2);
  });
});
