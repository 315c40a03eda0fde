/** Quality: one set of reasons for all protocols, as bits. None of them set means good. */
export const Quality = {
  good: 0,
  commLost: 1 << 0,
  restart: 1 << 1,
  forcedAtDevice: 1 << 2,
  forcedHere: 1 << 3,
  overRange: 1 << 4,
  chatter: 1 << 5,
  old: 1 << 6,
  notSet: 1 << 7,
  offline: 1 << 8,
  rollover: 1 << 9,
  discontinuity: 1 << 10,
  referenceError: 1 << 11,
  underRange: 1 << 12,
  /** The measuring signal itself has failed: a broken loop, a transmitter that says so. */
  signalFailure: 1 << 13,
  outOfService: 1 << 14,
  /** Less exact than it should be. */
  inaccurate: 1 << 15,
  /** It does not go with other values of the device. */
  inconsistent: 1 << 16,
  /** Made for a test: nobody is to act on it. */
  test: 1 << 17,
  /** An operator there has stopped its updates. */
  blocked: 1 << 18,
  /** The device says so without saying why. */
  saidQuestionable: 1 << 19,
  saidInvalid: 1 << 20,
  /** What came stands for no number: a float that is none, decimal digits beyond 9. */
  notANumber: 1 << 21,
} as const;

export type Validity = 'good' | 'questionable' | 'invalid';

/** Any of these makes a value one not to be used. */
export const INVALID =
  Quality.commLost |
  Quality.notSet |
  Quality.offline |
  Quality.restart |
  Quality.signalFailure |
  Quality.outOfService |
  Quality.saidInvalid |
  Quality.notANumber;
const FORCED = Quality.forcedAtDevice | Quality.forcedHere;

/** A forced value is valid: somebody wanted it so. */
export function validity(quality: number): Validity {
  if (quality & INVALID) return 'invalid';
  return quality & ~FORCED ? 'questionable' : 'good';
}

export const isForced = (quality: number): boolean => (quality & FORCED) !== 0;

const WORDS: readonly (readonly [number, string])[] = [
  [Quality.outOfService, 'out of service'],
  [Quality.notSet, 'never answered'],
  [Quality.commLost, 'no communication'],
  [Quality.offline, 'off line at the device'],
  [Quality.restart, 'device restarted, not yet measured'],
  [Quality.forcedAtDevice, 'forced at the device'],
  [Quality.forcedHere, 'forced here'],
  [Quality.notANumber, 'not a number'],
  [Quality.signalFailure, 'signal failed'],
  [Quality.overRange, 'over range'],
  [Quality.underRange, 'under range'],
  [Quality.chatter, 'chattering'],
  [Quality.old, 'old'],
  [Quality.rollover, 'counter rolled over'],
  [Quality.discontinuity, 'counter discontinuity'],
  [Quality.referenceError, 'reference error'],
  [Quality.saidInvalid, 'invalid, as the device says'],
  [Quality.saidQuestionable, 'questionable, as the device says'],
  [Quality.inaccurate, 'inaccurate'],
  [Quality.inconsistent, 'inconsistent'],
  [Quality.test, 'test'],
  [Quality.blocked, 'blocked by an operator there'],
];

/** The reasons in words, worst first; empty when good. */
export const qualityWords = (quality: number): string =>
  WORDS.filter(([bit]) => quality & bit)
    .map(([, word]) => word)
    .join(', ');
