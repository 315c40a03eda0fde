import type { Instant } from '../../../../session/index.ts';

export const POLLS = ['integrity', 'class1', 'class2', 'class3'] as const;
export type PollName = (typeof POLLS)[number];

/** From this period on the first round of a poll comes a part of it earlier, so that many devices are not asked at one time. */
const SPREAD_FROM_MS = 5000;

/** When each poll of a master is due, milliseconds; each keeps to a grid of its own, a period of 0 switches it off. */
export class PollSchedule {
  private due: Record<PollName, Instant | null>;

  constructor(
    private readonly periods: Readonly<Record<PollName, number>>,
    now: Instant,
    /** Which part of a long period passes before its first round: above 0, at most 1. */
    private readonly phase = 1,
  ) {
    this.due = this.firstDue(now);
  }

  private firstDue(now: Instant): Record<PollName, Instant | null> {
    const at = (poll: PollName): Instant | null => {
      const period = this.periods[poll];
      if (period <= 0) return null;
      return now + (period >= SPREAD_FROM_MS ? Math.ceil(period * this.phase) : period);
    };
    return { integrity: at('integrity'), class1: at('class1'), class2: at('class2'), class3: at('class3') };
  }

  /** Begins anew: the first round of each is a period away, or the part of it. */
  restart(now: Instant): void {
    this.due = this.firstDue(now);
  }

  at(poll: PollName): Instant | null {
    return this.due[poll];
  }

  /** Asked for after each octet that comes: without lists. */
  get earliest(): Instant | null {
    const { integrity, class1, class2, class3 } = this.due;
    const earliest = Math.min(integrity ?? Infinity, class1 ?? Infinity, class2 ?? Infinity, class3 ?? Infinity);
    return earliest === Infinity ? null : earliest;
  }

  /** Since when a poll is due; null: it is not. */
  dueSince(poll: PollName, now: Instant): Instant | null {
    const at = this.due[poll];
    return at !== null && now >= at ? at : null;
  }

  /** On to its next time; rounds that were missed are left out. */
  advance(poll: PollName, now: Instant): void {
    const at = this.due[poll];
    const period = this.periods[poll];
    if (at !== null) this.due[poll] = at + period * Math.max(1, Math.ceil((now - at + 1) / period));
  }
}
