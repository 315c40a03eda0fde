import { Quality } from './quality.ts';

/** A linear scaling: engineering value = raw × gain + offset. */
export interface Scaling {
  gain: number;
  offset: number;
}

/** Two pairs of raw and engineering values that the scaling line goes through. */
export interface ScalingPairs {
  rawLow: number;
  rawHigh: number;
  low: number;
  high: number;
}

/**
 * What counts as outside the range of the raw pair.
 *
 * - none: nothing.
 * - ends: beyond either end.
 * - liveZero: a current loop whose raw pair stands for 4 and 20 mA, after NAMUR NE 43: a measurement lies from 3.8 to
 *   20.5 mA; 3.6 mA and less, or 21 mA and more, is a failure of the transmitter or the loop.
 */
export const RANGE_CHECKS = ['none', 'ends', 'liveZero'] as const;
export type RangeCheck = (typeof RANGE_CHECKS)[number];

export interface ScaledPoint extends Scaling {
  pairs: ScalingPairs | null;
  range: RangeCheck;
}

/** Gain and offset of the line through two pairs; null when the raw values are equal. */
export function lineThrough({ rawLow, rawHigh, low, high }: ScalingPairs): Scaling | null {
  if (rawLow === rawHigh) return null;
  const gain = (high - low) / (rawHigh - rawLow);
  return { gain, offset: low - rawLow * gain };
}

export const scale = (raw: number, { gain, offset }: Scaling): number => raw * gain + offset;

/** The linear scaling that a point's settings amount to. */
export const scalingOf = (point: ScaledPoint): Scaling => (point.pairs && lineThrough(point.pairs)) ?? point;

/** A point's raw value in its unit. Through two pairs, so that both ends come out exactly. */
export function scaledValue(raw: number, point: ScaledPoint): number {
  const { pairs } = point;
  if (pairs === null || pairs.rawLow === pairs.rawHigh) return bounded(scale(raw, point), raw);
  const share = (raw - pairs.rawLow) / (pairs.rawHigh - pairs.rawLow);
  return bounded(pairs.low * (1 - share) + pairs.high * share, raw);
}

/** The largest numbers stay numbers, however they are scaled. */
function bounded(value: number, raw: number): number {
  if (Number.isFinite(value)) return value;
  return Math.sign(Number.isNaN(value) ? raw : value) * Number.MAX_VALUE;
}

/** The raw value behind a value in the point's unit, not rounded: the inverse of `scaledValue`. */
export function rawValue(value: number, point: ScaledPoint): number {
  const { pairs } = point;
  if (pairs === null || pairs.rawLow === pairs.rawHigh) return (value - point.offset) / point.gain;
  if (pairs.low === pairs.high) return pairs.rawLow;
  const share = (value - pairs.low) / (pairs.high - pairs.low);
  return pairs.rawLow * (1 - share) + pairs.rawHigh * share;
}

/**
 * The whole number that a number is meant to be; null: it is none. A float of 32 bits has about seven digits: what comes out
 * of one by scaling is missed by as much.
 */
export function wholeOf(counts: number): number | null {
  const whole = Math.round(counts);
  const noise = Math.min(0.4, Math.max(1e-6, Math.abs(whole) * 1.2e-7));
  return Math.abs(counts - whole) <= noise ? whole : null;
}

/** Whether a point's values are its counts. */
export const isPlain = ({ gain, offset, pairs }: ScaledPoint): boolean => pairs === null && gain === 1 && offset === 0;

/** NAMUR NE 43 limits as milliamperes on a loop whose zero is 4 mA and whose span is 16 mA. */
const NE43 = { failLow: 3.6, low: 3.8, high: 20.5, failHigh: 21 };
const ROUNDING = 1e-9;

/** The reasons that a raw value gives against its range, as bits of `Quality`. */
export function rangeQuality(raw: number, { pairs, range }: ScaledPoint): number {
  if (pairs === null || range === 'none' || pairs.rawLow === pairs.rawHigh) return Quality.good;
  const share = (raw - pairs.rawLow) / (pairs.rawHigh - pairs.rawLow);
  if (range === 'ends')
    return share < -ROUNDING ? Quality.underRange : share > 1 + ROUNDING ? Quality.overRange : Quality.good;
  const milliamperes = 4 + 16 * share;
  if (milliamperes <= NE43.failLow + ROUNDING) return Quality.underRange | Quality.signalFailure;
  if (milliamperes >= NE43.failHigh - ROUNDING) return Quality.overRange | Quality.signalFailure;
  if (milliamperes < NE43.low - ROUNDING) return Quality.underRange;
  if (milliamperes > NE43.high + ROUNDING) return Quality.overRange;
  return Quality.good;
}

/** Span of the engineering range; null when no pairs give one. */
export const spanOf = ({ pairs }: ScaledPoint): number | null => (pairs ? Math.abs(pairs.high - pairs.low) : null);

/** Decimals worth showing for a scaling: 0.01 → 2. Whole numbers need none. */
export function decimals({ gain, offset }: Scaling): number {
  const places = (x: number): number => {
    for (let n = 0; n < 6; n++) if (Math.abs(x * 10 ** n - Math.round(x * 10 ** n)) < 1e-9) return n;
    // No round number: as many as make one count visible.
    return Math.min(6, Math.max(0, Math.ceil(-Math.log10(Math.abs(x)))));
  };
  return Math.max(places(gain), offset === Math.round(offset) ? 0 : Math.min(3, places(offset)));
}
