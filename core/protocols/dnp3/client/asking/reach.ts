import { Presence } from '../../../polling/presence.ts';
import type { Task } from '../task.ts';
import { rulesOf } from '../tasks/index.ts';

/** After so many a device counts as not knowing such a request. */
export const MAX_UNANSWERED = 2;
/** After so many connections that were closed at it too. */
const MAX_CLOSINGS = 3;

/** What is known of whether the device answers, and of what it does not. */
export class Reach extends Presence {
  /** Requests that were not answered since the last answer. */
  triesSpent = 0;
  private probes = 0;
  /** How often a request that a device may do without was not answered. */
  private readonly unanswered = new Map<Task['type'], number>();
  /** How often in a row the connection was closed at one. */
  private readonly closings = new Map<Task['type'], number>();

  times(type: Task['type']): number {
    return this.unanswered.get(type) ?? 0;
  }

  isDeclined(type: Task['type']): boolean {
    return this.times(type) >= MAX_UNANSWERED;
  }

  /**
   * The connection was closed while a request that a device may do without was under way; says whether that is now one which
   * it does not bear.
   */
  closedAt(type: Task['type']): boolean {
    const times = (this.closings.get(type) ?? 0) + 1;
    this.closings.set(type, times);
    if (times !== MAX_CLOSINGS) return false;
    this.unanswered.set(type, MAX_UNANSWERED);
    return true;
  }

  /** It was answered: what closed the connection before was something else. */
  bore(type: Task['type']): void {
    this.closings.delete(type);
  }

  note(type: Task['type']): void {
    this.unanswered.set(type, this.times(type) + 1);
  }

  /** What it never answers, in words. */
  get declined(): string[] {
    const types = [...this.unanswered.keys()].filter((type) => this.isDeclined(type));
    const what = (type: Task['type']): string =>
      (this.closings.get(type) ?? 0) >= MAX_CLOSINGS ? 'it closes the connection at' : 'it does not answer';
    return types.map((type) => `${what(type)}: ${rulesOf({ type } as Task).dispensable ?? type}`);
  }

  /** Perhaps it does not know the first request of the start-up: every other time it is asked for its data. */
  probe(): 'whole' | 'withoutFirst' {
    return this.probes++ % 2 === 1 && this.times('disableUnsolicited') > 0 ? 'withoutFirst' : 'whole';
  }
}
