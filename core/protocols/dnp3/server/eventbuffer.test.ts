import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { EventBuffer, type BufferedEvent } from './eventbuffer.ts';

type Class = 1 | 2 | 3;
const event = (eventClass: Class, index = 0): Omit<BufferedEvent, 'number'> => ({
  ...{ kind: 'analog', index, class: eventClass, value: 0, flags: 1, time: 0, variation: 1 },
});
const numbers = (buffer: EventBuffer, wanted: (event: BufferedEvent) => boolean = () => true, limit?: number) =>
  [...buffer.waiting(wanted, limit)].map(({ number }) => number);

/** The same, in the simplest form: one list that is searched. */
class Plain {
  list: { number: number; class: Class; reported: boolean }[] = [];
  next = 1;
  dropped = 0;
  constructor(readonly perClass: number) {}
  add(of: Class): void {
    const same = this.list.filter((one) => one.class === of);
    if (same.length >= this.perClass) {
      this.list.splice(this.list.indexOf(same[0]), 1);
      this.dropped++;
    }
    this.list.push({ number: this.next++, class: of, reported: false });
  }
}

describe('the events that wait', () => {
  test('come in the order in which they came about, whatever their class, as many as are wanted', () => {
    const buffer = new EventBuffer(10);
    for (const of of [2, 1, 3, 1, 2] as const) buffer.add(event(of), 0);
    expect(numbers(buffer)).toEqual([1, 2, 3, 4, 5]);
    expect(numbers(buffer, (one) => one.class !== 1)).toEqual([1, 3, 5]);
    expect(numbers(buffer, () => true, 2)).toEqual([1, 2]);
  });

  test('behave like one list that is searched, whatever happens to them', () => {
    const step = fc.oneof(
      { weight: 6, arbitrary: fc.record({ do: fc.constant('add' as const), of: fc.constantFrom<Class>(1, 2, 3) }) },
      fc.record({ do: fc.constant('report' as const), most: fc.integer({ min: 0, max: 9 }) }),
      fc.record({ do: fc.constant('confirm' as const) }),
      fc.record({ do: fc.constant('unmark' as const) }),
      fc.record({ do: fc.constant('keep' as const), not: fc.integer({ min: 2, max: 5 }) }),
    );
    fc.assert(
      fc.property(fc.array(step, { maxLength: 200 }), fc.integer({ min: 1, max: 20 }), (steps, perClass) => {
        const [buffer, plain] = [new EventBuffer(perClass), new Plain(perClass)];
        for (const one of steps) {
          if (one.do === 'add') {
            buffer.add(event(one.of), 0);
            plain.add(one.of);
          } else if (one.do === 'report') {
            const some = numbers(buffer, () => true, one.most);
            expect(buffer.markReported(new Set(some)).map(({ number }) => number)).toEqual(some);
            for (const held of plain.list) held.reported ||= some.includes(held.number);
          } else if (one.do === 'confirm') {
            const done = plain.list.filter(({ reported }) => reported).map(({ number }) => number);
            expect(buffer.confirm().map(({ number }) => number)).toEqual(done);
            plain.list = plain.list.filter(({ reported }) => !reported);
          } else if (one.do === 'unmark') {
            buffer.unmark();
            for (const held of plain.list) held.reported = false;
          } else {
            buffer.keepOnly(({ number }) => number % one.not !== 0);
            plain.list = plain.list.filter(({ number }) => number % one.not !== 0);
          }
          const waiting = plain.list.filter(({ reported }) => !reported);
          expect(numbers(buffer)).toEqual(waiting.map(({ number }) => number));
          expect([buffer.size, buffer.dropped]).toEqual([plain.list.length, plain.dropped]);
          for (const of of [1, 2, 3] as const)
            expect(buffer.hasWaiting(of)).toBe(waiting.some((held) => held.class === of));
        }
      }),
    );
  });

  test('of one class do not hold back what is settled of another', () => {
    const buffer = new EventBuffer(10);
    for (const of of [3, 1, 1] as const) buffer.add(event(of), 0);
    buffer.markReported(new Set([2]));
    buffer.confirm();
    expect(buffer.takeSettled()).toEqual([{ class: 1, position: 2, beyond: [] }]);
    expect(buffer.takeSettled()).toEqual([]);
  });

  test('that are settled out of turn are named until those before them are', () => {
    const buffer = new EventBuffer(10);
    for (const of of [1, 1, 1] as const) buffer.add(event(of), 0);
    buffer.markReported(new Set([2]));
    buffer.confirm();
    expect(buffer.takeSettled()).toEqual([{ class: 1, position: 0, beyond: [2] }]);
    buffer.markReported(new Set([1]));
    buffer.confirm();
    expect(buffer.takeSettled()).toEqual([{ class: 1, position: 2, beyond: [] }]);
  });

  test('have numbers that follow the clock, and ascend although it is set back', () => {
    const buffer = new EventBuffer(10, { lastNumber: 7_000_000, owes: false });
    const given = [8000, 8000, 1000, 9000].map((now) => buffer.add(event(1), now).number);
    expect(given).toEqual([8_000_000, 8_000_001, 8_000_002, 9_000_000]);
  });
});
