import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { Quality } from '../../point/index.ts';
import { flagsOf, flagWords, isTimeValid, qualityOf } from './quality.ts';
import { decode, encode, INDICATIONS, partsOf, pointTypeOf, typeOf } from './types.ts';

/* IEC 60870-6-802, clause 6, as remembered: there was no copy of it at hand. */
const flags = (text: string): boolean[] => [...text].map((bit) => bit === '1');

describe('points', () => {
  test('every type is known by its shape, and no other has it but where the standard has the same', () => {
    // A state with its supplement has the same octets as one without: the agreement says which it is.
    for (const type of INDICATIONS) {
      const found = pointTypeOf(typeOf(type));
      expect(found, type).toBe(type.replace('StateSupplemental', 'State'));
    }
    expect(pointTypeOf(typeOf('Command'))).toBe('Command');
    expect(pointTypeOf({ type: 'utcTime' })).toBeNull();
  });

  test('a value comes back as it went, with what its type has beside it', () => {
    fc.assert(
      fc.property(
        fc.constantFrom(...INDICATIONS),
        fc.integer({ min: 0, max: 3 }),
        fc.integer({ min: 0, max: 2_000_000_000 }),
        fc.integer({ min: 0, max: 999 }),
        fc.array(fc.boolean(), { minLength: 6, maxLength: 6 }),
        (type, value, seconds, milliseconds, bits) => {
          const own = [false, false, ...bits];
          const time = seconds * 1000 + milliseconds;
          const back = decode(encode(type, { value, flags: own, time, changes: 7 }));
          const { base, form } = partsOf(type);
          expect(back?.value).toBe(value);
          if (form !== '' || base === 'State') expect(back?.flags).toEqual(own);
          if (form === 'QTimeTagExtended') expect(back?.time).toBe(time);
          if (form === 'QTimeTag' || form === 'Extended') expect(back?.time).toBe(seconds * 1000);
          expect(back?.changes).toBe(form === 'Extended' ? 7 : null);
        },
      ),
    );
  });

  test('by the agreement a value is told from another of the same shape, and one that is of another type is none', () => {
    const beside = { flags: null, time: null, changes: null };
    const supplemental = encode('StateSupplemental', { ...beside, value: 2 });
    // Its tag and its expected state are no flags.
    expect(decode(supplemental)?.flags).toContain(true);
    expect(decode(supplemental, 'StateSupplemental')).toEqual({ ...beside, value: 2 });
    const flags = [false, false, true, false, false, false, false, false];
    const tagged = encode('StateSupplementalQ', { ...beside, value: 1, flags });
    expect(decode(tagged, 'StateSupplemental')).toMatchObject({ value: 1, flags });
    const [state, discrete, real] = (['StateQ', 'Discrete', 'RealQTimeTag'] as const).map((type) =>
      encode(type, { ...beside, value: 2 }),
    );
    expect(decode(state, 'State')?.value).toBe(2);
    for (const agreed of ['Discrete', 'Real'] as const) {
      expect(decode(state, agreed)).toBeNull();
      expect(decode(discrete, agreed)?.value).toBe(2);
      expect(decode(real, agreed)?.value).toBe(2);
    }
    for (const other of [discrete, real]) expect(decode(other, 'State')).toBeNull();
  });

  test('what is no point is none', () => {
    expect(decode({ type: 'structure', items: [] })).toBeNull();
    expect(decode({ type: 'text', text: 'x', wide: false })).toBeNull();
    expect(decode({ type: 'failure', code: 10 })).toBeNull();
  });
});

describe('flags', () => {
  test.each([
    ['00000000', 0, 'valid'],
    ['00010000', Quality.old, 'held'],
    ['00100000', Quality.saidQuestionable, 'suspect'],
    ['00110000', Quality.saidInvalid, 'not valid'],
    ['00001000', Quality.forcedAtDevice, 'valid, entered'],
    ['00000100', 0, 'valid, calculated'],
    ['00001100', 0, 'valid, estimated'],
    ['00000011', 0, 'valid, not its normal value, time not valid'],
  ])('%s', (text, quality, words) => {
    expect(qualityOf(flags(text))).toBe(quality);
    expect(flagWords(flags(text))).toBe(words);
  });

  test.each([
    [0, 'valid'],
    [Quality.old, 'held'],
    [Quality.old | Quality.forcedHere, 'held, entered'],
    [Quality.chatter, 'suspect'],
    [Quality.old | Quality.chatter, 'suspect'],
    [Quality.commLost, 'not valid'],
    [Quality.notSet, 'not valid'],
    [Quality.forcedAtDevice, 'valid, entered'],
  ])('of quality %i', (quality, words) => expect(flagWords(flagsOf(quality, true))).toBe(words));

  test('of each reason alone there is one word (docs/quality.md)', () => {
    const said: Record<string, string[]> = {};
    for (const [name, quality] of Object.entries(Quality))
      if (quality !== Quality.good) (said[flagWords(flagsOf(quality, true))] ??= []).push(name);
    expect(said).toEqual({
      'not valid': [
        'commLost',
        'restart',
        'notSet',
        'offline',
        'signalFailure',
        'outOfService',
        'saidInvalid',
        'notANumber',
      ],
      'valid, entered': ['forcedAtDevice', 'forcedHere'],
      suspect: [
        ...['overRange', 'chatter', 'rollover', 'discontinuity', 'referenceError', 'underRange'],
        ...['inaccurate', 'inconsistent', 'test', 'blocked', 'saidQuestionable'],
      ],
      held: ['old'],
    });
  });

  test('the time says by itself whether it is valid', () => {
    expect(isTimeValid(flagsOf(0, true))).toBe(true);
    expect(isTimeValid(flagsOf(0, false))).toBe(false);
  });
});
