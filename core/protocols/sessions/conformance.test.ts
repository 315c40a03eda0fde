import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { INVALID } from '../../point/index.ts';
import { DEVICE_PROTOCOLS, definitionOf } from '../definitions.ts';
import { Both, SUBJECTS } from './conformance.ts';

/* What every client and every server keeps to, whatever the protocol. */
const ANALOGS = ['analog', 'analog', 'analog'] as const;
/** After so long without an answer any device counts as silent, and one that is back has been asked again. */
const LONG_MS = 180_000;

test('every protocol that is client and server is tried', () => {
  const both = DEVICE_PROTOCOLS.filter((code) => definitionOf(code).device && definitionOf(code).offers);
  expect(new Set(SUBJECTS.map(({ code }) => code))).toEqual(new Set(both));
});

describe.each(SUBJECTS.map((subject) => [`${subject.code} ${subject.framing}`.trim(), subject] as const))(
  '%s',
  (_name, subject) => {
    const begun = (kinds: ConstructorParameters<typeof Both>[1] = ANALOGS): Both =>
      new Both(subject, kinds).set(100, 200, 300).connect().run(30_000);
    const seen = (both: Both): (number | undefined)[] => both.seen.map(({ id }) => both.latest.get(id)?.raw);

    test('what is there is read, and what changes comes', () => {
      const both = begun();
      expect([seen(both), both.states]).toEqual([[100, 200, 300], ['answering']]);
      both.set(101, null, 303).run(10_000);
      expect(seen(both)).toEqual([101, 200, 303]);
    });

    test('one that is silent is said to be, is not waited for for ever, and is taken up again with all that it has', () => {
      const both = begun();
      both.delayMs = null;
      both.run(LONG_MS);
      expect(both.states.at(-1)).toBe('silent');
      both.set(111, 222, 333).run(1000);
      both.delayMs = 0;
      both.run(LONG_MS);
      expect([both.states.at(-1), seen(both)]).toEqual(['answering', [111, 222, 333]]);
    });

    test('one whose connection is lost is said to be silent, and is taken up again', () => {
      const both = begun();
      both.cut().run(LONG_MS);
      expect(both.states.at(-1)).toBe('silent');
      both.set(11, 22, 33).connect().run(LONG_MS);
      expect([both.states.at(-1), seen(both)]).toEqual(['answering', [11, 22, 33]]);
    });

    test('one whose connection comes and goes, without an answer, is said to be silent, and is taken up again', () => {
      const both = begun();
      both.delayMs = null;
      for (let ms = 0; ms < LONG_MS; ms += 400) both.cut().run(200).connect().run(199);
      expect(both.states.at(-1)).toBe('silent');
      both.delayMs = 0;
      both.set(12, 23, 34).cut().connect().run(LONG_MS);
      expect([both.states.at(-1), seen(both)]).toEqual(['answering', [12, 23, 34]]);
    });

    test('late answers are no answers to something else: a point never has a value that it never had', () => {
      const both = begun();
      for (let n = 1; n <= 30; n++) {
        both.delayMs = [0, 900, 1100, 2500, 4000][n % 5];
        both.set(1000 + n, 2000 + n, 3000 + n).run(1500);
      }
      both.delayMs = 0;
      both.run(LONG_MS);
      expect(seen(both)).toEqual([1030, 2030, 3030]);
      for (const [id, values] of both.values)
        for (const value of values.filter((one) => one > 300)) expect(Math.floor(value / 1000)).toBe(id + 1);
    });

    test('the line is released: while nothing answers, others get their turn', () => {
      const both = begun();
      both.delayMs = null;
      let free = 0;
      for (let n = 0; n < 600; n++) {
        both.run(200);
        if (!both.client.holdsLine) free++;
      }
      expect(free).toBeGreaterThan(0);
    });

    test('a point that is not there is nobody else’s value; it comes once it is there', () => {
      const kinds = ANALOGS;
      const both = new Both(subject, kinds, (_point, id) => id !== 1);
      both.set(100, null, 300).connect().run(60_000);
      const lacking = both.latest.get(1);
      expect(lacking === undefined || (lacking.quality & INVALID) !== 0, 'the one that is missing').toBe(true);
      const told = both.news.filter((one) => one.type === 'unreadable').flatMap(({ points }) => points);
      expect(
        told.filter((id) => id !== 1),
        'said to be unreadable',
      ).toEqual([]);
      expect([both.latest.get(0)?.raw, both.latest.get(2)?.raw]).toEqual([100, 300]);
      both.server.command({ type: 'setPoints', points: both.offered }, both.now);
      both.set(100, 222, 300).cut().run(2000).connect().run(900_000);
      expect(seen(both)).toEqual([100, 222, 300]);
    });

    test('what nobody sent brings neither end down, and afterwards all is as it was', () => {
      fc.assert(
        fc.property(
          fc.array(fc.tuple(fc.uint8Array({ minLength: 1, maxLength: 60 }), fc.boolean()), {
            minLength: 1,
            maxLength: 8,
          }),
          (pieces) => {
            const both = begun();
            for (const [octets, toServer] of pieces) {
              both.inject(octets, toServer);
              both.run(100);
            }
            both.cut().run(2000).set(7, 8, 9).connect().run(LONG_MS);
            expect(seen(both)).toEqual([7, 8, 9]);
          },
        ),
        { numRuns: 15 },
      );
    });

    test('octets that were changed on the way never become a value that was not there, where the protocol can tell', () => {
      let seed = 1;
      const chance = (): number => (seed = (seed * 48_271) % 2_147_483_647) / 2_147_483_647;
      const both = begun();
      // A connection has its own checksums; a protocol without any is not to fall, and to find its way back.
      both.spoil = (octets) => {
        if (chance() < 0.7) return octets;
        const spoilt = octets.slice();
        if (chance() < 0.3) return spoilt.subarray(0, Math.floor(chance() * spoilt.length));
        spoilt[Math.floor(chance() * spoilt.length)] ^= 1 << Math.floor(chance() * 8);
        return spoilt;
      };
      for (let n = 0; n < 40; n++) both.set(100 + n, 200 + n, 300 + n).run(700);
      both.spoil = (octets) => octets;
      both.cut().run(2000).set(7, 8, 9).connect().run(LONG_MS);
      expect(seen(both)).toEqual([7, 8, 9]);
    });

    const operable = ['analog', 'analog', 'analog', 'output'] as const;

    test('a control goes out once and says what came of it', () => {
      const both = begun(operable).operate(3).run(20_000);
      expect([both.operations, both.steps.at(-1)?.step]).toEqual([1, 'operated']);
      both.run(LONG_MS);
      expect(both.operations).toBe(1);
    });

    test('a control that is not answered is never repeated, over silence, return and a new connection', () => {
      const both = begun(operable);
      both.answersControls = false;
      both.operate(3).run(LONG_MS);
      both.cut().run(2000).connect().run(LONG_MS);
      expect(both.operations).toBeLessThanOrEqual(1);
      expect(['unknown', 'failed', 'refused', 'expired']).toContain(both.steps.at(-1)?.step);
    });

    test.each([0, 1, 2, 3, 4, 5, 8, 13, 21, 34])(
      'a control whose answers end after %i pieces is carried out once at most, and is never said to be done when it was not',
      (pieces) => {
        const both = begun(operable);
        let left = pieces;
        both.spoil = (octets, fromServer) => {
          if (fromServer) left--;
          return fromServer && left < 0 ? new Uint8Array(0) : octets;
        };
        both.operate(3).run(LONG_MS);
        both.spoil = (octets) => octets;
        both.run(LONG_MS).cut().run(2000).connect().run(LONG_MS);
        expect(both.operations).toBeLessThanOrEqual(1);
        if (both.steps.at(-1)?.step === 'operated') expect(both.operations).toBe(1);
        else expect(['unknown', 'failed', 'expired', 'refused']).toContain(both.steps.at(-1)?.step);
      },
    );

    test('a control for a device that is not there is not sent, now or later', () => {
      const both = begun(operable);
      both.cut().run(1000).operate(3).run(LONG_MS).connect().run(LONG_MS);
      expect([both.operations, ['failed', 'expired'].includes(both.steps.at(-1)?.step ?? '')]).toEqual([0, true]);
    });
  },
);
