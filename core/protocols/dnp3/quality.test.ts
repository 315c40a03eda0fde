import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { fromHex } from '../../bytes/index.ts';
import { POINT_KINDS, Quality } from '../../point/index.ts';
import { describeFragment } from './describe.ts';
import { flagsFromQuality, flagWords, qualityFromFlags } from './quality.ts';

describe('flags and quality', () => {
  test.each([
    ['binary', 0x01, Quality.good],
    ['binary', 0x00, Quality.offline],
    ['binary', 0x02, Quality.restart],
    ['binary', 0x04, Quality.commLost],
    ['analog', 0x09, Quality.forcedAtDevice],
    ['analog', 0x11, Quality.forcedAtDevice],
    ['analog', 0x21, Quality.overRange],
    ['analog', 0x41, Quality.referenceError],
    ['binary', 0x21, Quality.chatter],
    ['counter', 0x21, Quality.rollover],
    ['counter', 0x41, Quality.discontinuity],
  ] as const)('%s flags %i', (kind, flags, quality) => expect(qualityFromFlags(kind, flags)).toBe(quality));

  test('towards a centre: forced there is remote forced, forced here local forced, lost is not online', () => {
    expect(flagsFromQuality('analog', Quality.forcedAtDevice)).toBe(0x09);
    expect(flagsFromQuality('analog', Quality.forcedHere)).toBe(0x11);
    expect(flagsFromQuality('analog', Quality.commLost)).toBe(0x04);
    expect(flagsFromQuality('analog', Quality.commLost | Quality.forcedAtDevice)).toBe(0x0c);
    expect(flagsFromQuality('binary', Quality.notSet)).toBe(0x02);
  });

  test('what a flag said is not lost on the way, whatever the kind', () => {
    fc.assert(
      fc.property(fc.constantFrom(...POINT_KINDS), fc.nat(0x7f), (kind, flags) => {
        const quality = qualityFromFlags(kind, flags);
        expect(qualityFromFlags(kind, flagsFromQuality(kind, quality))).toBe(quality);
      }),
    );
  });

  test('flags in words', () => {
    expect(flagWords('analog', 0x31)).toBe('online, local forced, over range');
    expect(flagWords('binary', 0)).toBe('none set');
  });
});

describe('a fragment in words', () => {
  test.each([
    ['c3 01 3c 02 06 3c 01 06', 'read 3: g60v2, g60v1'],
    [
      'e5 81 92 00 20 03 17 01 07 01 e1 10 00 00 00 3e 9a 8c 5e 01',
      'response 5, confirm asked: g32v3 × 1; class 1 events wait; needs time; restarted',
    ],
    ['c0 00', 'confirm 0'],
    ['c0 63', 'function code 99 0'],
    [
      'c1 81 00 00 1e 01 00 00 05 01',
      'response 1; not understood: g30v1 qualifier 00: 6 objects need 30 octets, 1 left',
    ],
    ['c0', 'fragment of 1 octets, at least 2'],
  ])('%s', (octets, words) => expect(describeFragment(fromHex(octets))).toBe(words));

  test('any octets have words', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 80 }), (octets) => {
        expect(describeFragment(octets)).not.toBe('');
      }),
    );
  });
});
