import { scalingOf, spanOf, type ScaledPoint } from './scaling.ts';

/** By how much a value has to differ from the last reported one to be reported; 0: every change. */
export interface Deadband {
  value: number;
  of: 'absolute' | 'percentOfSpan';
}

/** The deadband in the point's unit; null when it is a share of a span that is not known. */
export function deadbandInUnits({ value, of }: Deadband, point: ScaledPoint): number | null {
  if (of === 'absolute') return value;
  const span = spanOf(point);
  return span === null ? null : (value / 100) * span;
}

/** The deadband in raw counts, rounded by nothing; 0 when it cannot be said. */
export function deadbandInCounts(deadband: Deadband, point: ScaledPoint): number {
  const units = deadbandInUnits(deadband, point) ?? 0;
  const { gain } = scalingOf(point);
  return gain === 0 ? 0 : units / Math.abs(gain);
}

/** Whether a value differs enough from the last reported one: by at least the deadband, and at all. */
export const exceedsDeadband = (value: number, reported: number, deadband: number): boolean =>
  value !== reported && Math.abs(value - reported) >= deadband * (1 - 1e-12);
