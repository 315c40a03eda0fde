import type { Instant } from '../../session/index.ts';

/** From this period on the first round of a poll comes a part of it earlier, so that many devices are not asked at one time. */
const SPREAD_FROM_MS = 5000;

/** How long after its beginning a poll has its first round: a period, or that part (above 0, at most 1) of a long one. */
export const firstRoundMs = (periodMs: number, phase: number): number =>
  periodMs >= SPREAD_FROM_MS ? Math.ceil(periodMs * phase) : periodMs;

/** When each poll is due, milliseconds; each keeps to a grid of its own, a period of 0 switches it off. */
export class PollSchedule<Poll extends string> {
  private due: Record<Poll, Instant | null>;
  private readonly polls: readonly Poll[];

  constructor(
    private readonly periods: Readonly<Record<Poll, number>>,
    now: Instant,
    /** Which part of a long period passes before its first round: above 0, at most 1. */
    private readonly phase = 1,
  ) {
    this.polls = Object.keys(periods) as Poll[];
    this.due = this.firstDue(now);
  }

  private firstDue(now: Instant): Record<Poll, Instant | null> {
    const due = this.polls.map((poll) => {
      const period = this.periods[poll];
      return [poll, period > 0 ? now + firstRoundMs(period, this.phase) : null] as const;
    });
    return Object.fromEntries(due) as Record<Poll, Instant | null>;
  }

  /** Begins anew: the first round of each is a period away, or the part of it. */
  restart(now: Instant): void {
    this.due = this.firstDue(now);
  }

  at(poll: Poll): Instant | null {
    return this.due[poll];
  }

  /** Asked for after each octet that comes: without lists. */
  get earliest(): Instant | null {
    let earliest = Infinity;
    for (const poll of this.polls) earliest = Math.min(earliest, this.due[poll] ?? Infinity);
    return earliest === Infinity ? null : earliest;
  }

  /** Since when a poll is due; null: it is not. */
  dueSince(poll: Poll, now: Instant): Instant | null {
    const at = this.due[poll];
    return at !== null && now >= at ? at : null;
  }

  /** On to its next time; rounds that were missed are left out. */
  advance(poll: Poll, now: Instant): void {
    const at = this.due[poll];
    const period = this.periods[poll];
    if (at !== null) this.due[poll] = at + period * Math.max(1, Math.ceil((now - at + 1) / period));
  }
}
