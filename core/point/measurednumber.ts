import { Quality } from './quality.ts';

/**
 * A number as it came over a line, as a reading has it: what is no number is 0 and says so, and what is infinite is the
 * largest that there is, beyond its range. Lists, charts and JSON know neither.
 */
export function measuredNumber(value: number): { raw: number; quality: number } {
  if (Number.isFinite(value)) return { raw: value, quality: Quality.good };
  if (Number.isNaN(value)) return { raw: 0, quality: Quality.notANumber };
  return value > 0
    ? { raw: Number.MAX_VALUE, quality: Quality.overRange }
    : { raw: -Number.MAX_VALUE, quality: Quality.underRange };
}

/** And back, for a form that knows both. */
export function numberOnWire(value: number, quality: number): number {
  if (quality & Quality.notANumber) return Number.NaN;
  return Math.abs(value) === Number.MAX_VALUE ? Math.sign(value) * Infinity : value;
}
