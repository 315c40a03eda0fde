import type { SegmentState } from './path.ts';

/** How a segment of a path is drawn. */
export const STROKE: Record<SegmentState, string> = {
  good: 'var(--ink)',
  lost: 'var(--lost)',
  idle: 'var(--soft)',
  unknown: 'var(--soft)',
};

export const dash = (state: SegmentState): string | undefined =>
  state === 'idle' || state === 'unknown' ? '2 4' : undefined;
