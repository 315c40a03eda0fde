import { INVALID, Quality } from '../../point/index.ts';

/*
 * Quality (IEC 61850-7-3, 6.2; as a bit string of 13 bits after IEC 61850-8-1, 8.1.3.5), the first bit first:
 *
 *   0 1 validity   00 good, 01 invalid, 10 reserved, 11 questionable
 *   2   overflow   3 out of range   4 bad reference   5 oscillatory   6 failure   7 old data
 *   8   inconsistent   9 inaccurate   10 substituted   11 test   12 operator blocked
 */

export const QUALITY_BITS = 13;
const DETAILS: readonly (readonly [bit: number, quality: number, words: string])[] = [
  [2, Quality.overRange, 'overflow'],
  [3, Quality.overRange, 'out of range'],
  [4, Quality.referenceError, 'bad reference'],
  [5, Quality.chatter, 'oscillatory'],
  [6, Quality.signalFailure, 'failure'],
  [7, Quality.old, 'old data'],
  [8, Quality.inconsistent, 'inconsistent'],
  [9, Quality.inaccurate, 'inaccurate'],
  [10, Quality.forcedAtDevice, 'substituted'],
  [11, Quality.test, 'test'],
  [12, Quality.blocked, 'operator blocked'],
];
const VALIDITIES = ['good', 'invalid', 'reserved', 'questionable'] as const;

const validityOf = (bits: readonly boolean[]): (typeof VALIDITIES)[number] =>
  VALIDITIES[(bits[0] ? 2 : 0) + (bits[1] ? 1 : 0)];

/** The quality in our own terms. A validity that no detail explains is kept as such. */
export function qualityOf(bits: readonly boolean[]): number {
  let quality = 0;
  for (const [bit, own] of DETAILS) if (bits[bit]) quality |= own;
  const validity = validityOf(bits);
  if (validity === 'invalid' || validity === 'reserved') return quality | Quality.saidInvalid;
  return validity === 'questionable' ? quality | Quality.saidQuestionable : quality;
}

const QUESTIONABLE =
  Quality.overRange |
  Quality.underRange |
  Quality.chatter |
  Quality.old |
  Quality.rollover |
  Quality.discontinuity |
  Quality.referenceError |
  Quality.inconsistent |
  Quality.inaccurate |
  Quality.saidQuestionable;

/**
 * And back, for what we offer. What was forced anywhere is substituted seen from a client; a value that is beyond its
 * range is out of range, since it could be represented.
 */
export function bitsOf(quality: number): boolean[] {
  const bits = new Array<boolean>(QUALITY_BITS).fill(false);
  const has = (mask: number): boolean => (quality & mask) !== 0;
  const isInvalid = has(INVALID);
  bits[0] = !isInvalid && has(QUESTIONABLE);
  bits[1] = isInvalid || has(QUESTIONABLE);
  bits[3] = has(Quality.overRange | Quality.underRange);
  bits[4] = has(Quality.referenceError | Quality.notANumber);
  bits[5] = has(Quality.chatter);
  bits[6] = has(Quality.signalFailure | Quality.offline);
  bits[7] = has(Quality.old | Quality.commLost);
  bits[8] = has(Quality.inconsistent | Quality.discontinuity | Quality.rollover);
  bits[9] = has(Quality.inaccurate);
  bits[10] = has(Quality.forcedAtDevice | Quality.forcedHere);
  bits[11] = has(Quality.test);
  bits[12] = has(Quality.blocked);
  return bits;
}

/** In the standard's words: `questionable, old data, test`. */
export function bitWords(bits: readonly boolean[]): string {
  const details = DETAILS.filter(([bit]) => bits[bit]).map(([, , words]) => words);
  return [validityOf(bits), ...details].join(', ');
}
