import { INVALID, Quality, validity } from '../../point/index.ts';

/*
 * Flags of TASE.2 (IEC 60870-6-802, clause 6; from memory), eight bits:
 *
 *   2 3  validity         00 valid, 01 held, 10 suspect, 11 not valid
 *   4 5  current source   00 telemetered, 01 calculated, 10 entered, 11 estimated
 *   6    normal value     1: it is not
 *   7    time stamp       1: it is not valid
 */

const VALIDITIES = ['valid', 'held', 'suspect', 'not valid'] as const;
const SOURCES = ['telemetered', 'calculated', 'entered', 'estimated'] as const;
const pair = (bits: readonly boolean[], at: number): number => (bits[at] ? 2 : 0) + (bits[at + 1] ? 1 : 0);
const OF_VALIDITY = [0, Quality.old, Quality.saidQuestionable, Quality.saidInvalid] as const;
const ENTERED = 2;

/** In our own terms. */
export const qualityOf = (flags: readonly boolean[]): number =>
  OF_VALIDITY[pair(flags, 2)] | (pair(flags, 4) === ENTERED ? Quality.forcedAtDevice : 0);

export const isTimeValid = (flags: readonly boolean[]): boolean => !flags[7];

/** And back. What is only old is held; whatever else is doubtful is suspect. */
export function flagsOf(quality: number, timeIsValid: boolean): boolean[] {
  const state = validity(quality);
  const isHeld = state === 'questionable' && (quality & ~(Quality.forcedAtDevice | Quality.forcedHere)) === Quality.old;
  const said = (quality & INVALID) !== 0 ? 3 : state === 'good' ? 0 : isHeld ? 1 : 2;
  const source = quality & (Quality.forcedAtDevice | Quality.forcedHere) ? ENTERED : 0;
  return [
    ...[false, false, (said & 2) !== 0, (said & 1) !== 0],
    ...[(source & 2) !== 0, (source & 1) !== 0, false, !timeIsValid],
  ];
}

/** `suspect, entered`. */
export const flagWords = (flags: readonly boolean[]): string =>
  [
    VALIDITIES[pair(flags, 2)],
    ...(pair(flags, 4) === 0 ? [] : [SOURCES[pair(flags, 4)]]),
    ...(flags[6] ? ['not its normal value'] : []),
    ...(flags[7] ? ['time not valid'] : []),
  ].join(', ');
