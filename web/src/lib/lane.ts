import type { LaneState } from '@halvix/core/path';

/** What a line's time went into, as shares of one; the rest is idle. */
export interface LineUse {
  sending: number;
  receiving: number;
  waiting: number;
  turning: number;
  idle: number;
  /** How long was looked at, milliseconds. */
  overMs: number;
}

/** Of the turns that the lane still knows, up to now. */
export function lineUse({ strip, at, turningMs, since }: LaneState): LineUse {
  const none = { sending: 0, receiving: 0, waiting: 0, turning: 0, idle: 1, overMs: 0 };
  const [first] = strip;
  if (first === undefined) return none;
  const overMs = Math.max(1, at - first.began);
  const share = (of: (turn: LaneState['strip'][number]) => number): number =>
    strip.reduce((sum, turn) => sum + of(turn), 0) / overMs;
  const sending = share((turn) => turn.sendingMs);
  const receiving = share((turn) => turn.receivingMs);
  const waiting = share((turn) => turn.waitingMs);
  // Turning round is counted for the whole life of the lane only.
  const turning = Math.min(turningMs / Math.max(1, at - since), Math.max(0, 1 - sending - receiving - waiting));
  return {
    sending,
    receiving,
    waiting,
    turning,
    idle: Math.max(0, 1 - sending - receiving - waiting - turning),
    overMs,
  };
}

/** The longest time from one poll of a device to its next. */
export function roundMs({ devices }: LaneState): number | null {
  const cycles = Object.values(devices).flatMap(({ cycleMs }) => cycleMs ?? []);
  return cycles.length > 0 ? Math.max(...cycles) : null;
}
