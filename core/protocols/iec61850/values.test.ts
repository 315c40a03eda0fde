import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { fromHex } from '../../bytes/index.ts';
import { Quality, validity } from '../../point/index.ts';
import { bitsOf, bitWords, QUALITY_BITS, qualityOf } from './quality.ts';
import { decodeEntryTime, decodeStamp, encodeEntryTime, encodeStamp, uncertaintyMs, type Stamp } from './time.ts';

const bits = (text: string): boolean[] => [...text.padEnd(QUALITY_BITS, '0')].map((bit) => bit === '1');

// The tables of IEC 61850-7-3, 6.2 and of 8-1, 8.1.3.5 and 8.1.3.6, from memory.
describe('quality', () => {
  test.each([
    ['', 0, 'good', 'good'],
    ['01', Quality.saidInvalid, 'invalid', 'invalid'],
    ['10', Quality.saidInvalid, 'invalid', 'reserved'],
    ['11', Quality.saidQuestionable, 'questionable', 'questionable'],
    ['1101', Quality.saidQuestionable | Quality.overRange, 'questionable', 'questionable, out of range'],
    ['0100001', Quality.saidInvalid | Quality.signalFailure, 'invalid', 'invalid, failure'],
    ['11000001', Quality.saidQuestionable | Quality.old, 'questionable', 'questionable, old data'],
    ['0000000000100', Quality.forcedAtDevice, 'good', 'good, substituted'],
    ['0000000000010', Quality.test, 'questionable', 'good, test'],
    ['0000000000001', Quality.blocked, 'questionable', 'good, operator blocked'],
  ])('%s', (text, quality, ours, words) => {
    expect([qualityOf(bits(text)), validity(qualityOf(bits(text))), bitWords(bits(text))]).toEqual([
      quality,
      ours,
      words,
    ]);
  });

  test.each([
    [0, ''],
    [Quality.commLost, '01000001'],
    [Quality.old, '11000001'],
    [Quality.overRange, '1101'],
    [Quality.forcedHere, '0000000000100'],
    [Quality.signalFailure | Quality.overRange, '0101001'],
    [Quality.test, '0000000000010'],
  ])('and back: %i', (quality, text) => {
    expect(bitsOf(quality)).toEqual(bits(text));
  });

  test('what is good, questionable or invalid there is so here, and the other way round', () => {
    fc.assert(
      fc.property(fc.nat(2 ** 21 - 1), (quality) => {
        const own = validity(quality & ~(Quality.test | Quality.blocked));
        expect(bitWords(bitsOf(quality)).split(',')[0]).toBe(own);
        const back = qualityOf(bitsOf(quality));
        expect(validity(back & ~(Quality.test | Quality.blocked))).toBe(own);
      }),
    );
  });
});

describe('time stamps', () => {
  const stamp = (change: Partial<Stamp>): Stamp => ({
    ...{ time: 0, leapSecondsKnown: true, clockFailure: false, notSynchronised: false, accuracyBits: 10 },
    ...change,
  });

  test('a second and a half after 1970, not synchronised', () => {
    const octets = fromHex('00 00 00 01 80 00 00 2a');
    const value = stamp({ time: 1500, leapSecondsKnown: false, notSynchronised: true });
    expect(decodeStamp(octets)).toEqual({ ok: true, value });
    expect(encodeStamp(value)).toEqual(octets);
  });

  test('every millisecond comes back as it was, with all that is said of the clock', () => {
    const any = fc.record({
      time: fc.integer({ min: 0, max: 4_294_967_295_999 }),
      leapSecondsKnown: fc.boolean(),
      clockFailure: fc.boolean(),
      notSynchronised: fc.boolean(),
      accuracyBits: fc.option(fc.integer({ min: 0, max: 24 })),
    });
    fc.assert(
      fc.property(any, (value) => {
        const read = decodeStamp(encodeStamp(value));
        expect(read.ok && { ...read.value, time: Math.round(read.value.time) }).toEqual(value);
      }),
    );
  });

  test('what cannot be said becomes the nearest that can', () => {
    const times = [-5, 2 ** 32 * 1000 + 7].map((time) => decodeStamp(encodeStamp(stamp({ time }))));
    expect(times.map((one) => one.ok && Math.floor(one.value.time / 1000))).toEqual([0, 2 ** 32 - 1]);
    expect(decodeStamp(new Uint8Array(7)).ok).toBe(false);
    expect([uncertaintyMs(10), uncertaintyMs(0), uncertaintyMs(null)]).toEqual([1000 / 1024, 1000, null]);
  });

  test('entry times', () => {
    const noon = Date.UTC(2026, 10, 27, 12, 0, 0, 123);
    expect(decodeEntryTime(encodeEntryTime(noon))).toBe(noon);
    expect(decodeEntryTime(fromHex('00 00 00 00 00 01'))).toBe(Date.UTC(1984, 0, 2));
    expect(decodeEntryTime(new Uint8Array(4))).toBeNull();
  });
});
