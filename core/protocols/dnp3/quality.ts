import { hasStates, isScaled, Quality, type PointKind } from '../../point/index.ts';
import { Flag } from './wire/objects.ts';

/** A value of which any of these is said is not online towards a centre. */
const NOT_ONLINE =
  Quality.commLost |
  Quality.notSet |
  Quality.restart |
  Quality.offline |
  Quality.signalFailure |
  Quality.outOfService |
  Quality.saidInvalid |
  Quality.notANumber;

/** Of which the reference error of an analog value tells. */
const REFERENCE = Quality.referenceError | Quality.signalFailure | Quality.discontinuity | Quality.notANumber;

const isCounter = (kind: PointKind): boolean => kind === 'counter' || kind === 'frozenCounter';

/** The table from DNP3 flags to quality (IEEE 1815, clause 11.6). */
export function qualityFromFlags(kind: PointKind, flags: number): number {
  let quality = Quality.good as number;
  if (!(flags & Flag.online)) quality |= flags & (Flag.commLost | Flag.restart) ? 0 : Quality.offline;
  if (flags & Flag.restart) quality |= Quality.restart;
  if (flags & Flag.commLost) quality |= Quality.commLost;
  if (flags & (Flag.remoteForced | Flag.localForced)) quality |= Quality.forcedAtDevice;
  if (flags & Flag.chatterOrOverRange)
    quality |= hasStates(kind) ? Quality.chatter : isCounter(kind) ? Quality.rollover : Quality.overRange;
  if (flags & Flag.referenceOrDiscontinuity) {
    if (isCounter(kind)) quality |= Quality.discontinuity;
    else if (isScaled(kind)) quality |= Quality.referenceError;
  }
  return quality;
}

/**
 * And back, for what we report to a centre. What was forced in the device is remotely forced seen from us; what was
 * forced here is locally forced. A value whose source is lost is not online.
 */
export function flagsFromQuality(kind: PointKind, quality: number): number {
  let flags = 0;
  if (quality & (Quality.restart | Quality.notSet)) flags |= Flag.restart;
  if (quality & Quality.commLost) flags |= Flag.commLost;
  if (quality & Quality.forcedAtDevice) flags |= Flag.remoteForced;
  if (quality & Quality.forcedHere) flags |= Flag.localForced;
  if (quality & (Quality.overRange | Quality.underRange | Quality.chatter | Quality.rollover))
    flags |= Flag.chatterOrOverRange;
  if (isScaled(kind) && quality & REFERENCE) flags |= Flag.referenceOrDiscontinuity;
  if (!(quality & NOT_ONLINE)) flags |= Flag.online;
  return flags;
}

const FLAG_WORDS: Record<'binary' | 'analog' | 'counter', readonly (readonly [number, string])[]> = {
  binary: [[Flag.chatterOrOverRange, 'chatter filter']],
  analog: [
    [Flag.chatterOrOverRange, 'over range'],
    [Flag.referenceOrDiscontinuity, 'reference error'],
  ],
  counter: [
    [Flag.chatterOrOverRange, 'rollover'],
    [Flag.referenceOrDiscontinuity, 'discontinuity'],
  ],
};

/** The flags octet in the standard's words: `online, local forced`. */
export function flagWords(kind: PointKind, flags: number): string {
  const common: readonly (readonly [number, string])[] = [
    [Flag.online, 'online'],
    [Flag.restart, 'restart'],
    [Flag.commLost, 'communication lost'],
    [Flag.remoteForced, 'remote forced'],
    [Flag.localForced, 'local forced'],
  ];
  const own = FLAG_WORDS[hasStates(kind) ? 'binary' : isCounter(kind) ? 'counter' : 'analog'];
  const words = [...common, ...own].filter(([bit]) => flags & bit).map(([, word]) => word);
  return words.length > 0 ? words.join(', ') : 'none set';
}
