import type { Instant } from '@halvix/core/session';
import { clock } from './clock.ts';

/** The machine's timers are a millisecond or two late: the last part of a wait is looked at in each turn of the loop. */
const LOOKED_AT_MS = 2.2;
/** So many waits at a time are looked at; what is more takes the machine's timers as they are. */
const MOST_LOOKED_AT = 8;

let lookedAt = 0;

/**
 * Calls `run` when the clock has reached `at`, within a fraction of a millisecond: for silences on a line, which are a few
 * milliseconds long; never before it returns. Returns what ends the wait.
 */
export function exactly(at: Instant, run: () => void): () => void {
  let timer: NodeJS.Timeout | null = null;
  let next: NodeJS.Immediate | null = null;
  let looks = false;
  const rest = (): void => {
    if (looks) lookedAt--;
    looks = false;
  };
  const look = (): void => {
    if (at - clock.fine() > 0) return wait();
    rest();
    run();
  };
  const wait = (): void => {
    const left = at - clock.fine();
    if (!looks && (left > LOOKED_AT_MS || lookedAt >= MOST_LOOKED_AT)) {
      timer = setTimeout(look, Math.max(1, Math.floor(left) - 1));
      return;
    }
    if (!looks) lookedAt++;
    looks = true;
    next = setImmediate(look);
  };
  wait();
  return () => {
    rest();
    if (timer !== null) clearTimeout(timer);
    if (next !== null) clearImmediate(next);
  };
}
