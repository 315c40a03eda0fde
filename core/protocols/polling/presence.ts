import type { Instant } from '../../session/index.ts';

/**
 * Whether a device that is asked is there. What gives it up is its session's affair: how many requests have to go without an
 * answer, and which.
 *
 * is         what happens                                  becomes    and then
 * ---------  --------------------------------------------  ---------  ----------------------------------
 * unknown    an answer                                     answering
 * unknown    it is given up                                silent     what waits fails
 * answering  it is given up, or no link for the patience   silent     what waits fails
 * silent     an answer                                     answering  everything is asked for
 *
 * A silent device is asked again now and then (`nextProbe`), with one request at a time.
 */
export class Presence {
  state: 'unknown' | 'answering' | 'silent' = 'unknown';
  nextProbe: Instant = 0;
  /** When a link that is not there makes it silent; null: the link has brought answers since. */
  private lossAt: Instant | null;

  constructor(
    now: Instant,
    /** So long a device may be without its link, milliseconds. */
    private readonly patienceMs: () => number,
  ) {
    this.lossAt = now + patienceMs();
  }

  get isSilent(): boolean {
    return this.state === 'silent';
  }

  linkLost(now: Instant): void {
    this.lossAt ??= now + this.patienceMs();
  }

  /** When a device that has no link is to be given up; null: not for that. */
  get givenUpAt(): Instant | null {
    return this.isSilent ? null : this.lossAt;
  }

  /** It has answered; returns what it was before. */
  answered(): Presence['state'] {
    const { state } = this;
    this.lossAt = null;
    this.state = 'answering';
    return state;
  }

  /** It is given up, and asked again so much later, milliseconds; returns whether that is news. */
  giveUp(now: Instant, probeAfterMs: number): boolean {
    const isNews = !this.isSilent;
    this.state = 'silent';
    this.nextProbe = now + probeAfterMs;
    return isNews;
  }

  /** Why nobody can operate it; null: somebody can, or may be able to as soon as there is a link again. */
  get refuses(): string | null {
    return this.isSilent ? NO_ANSWER : null;
  }

  /** Why nothing can be sent to it at all; null: something can. */
  hindrance(isUp: boolean): string | null {
    if (!isUp) return 'no connection to the device';
    return this.refuses;
  }
}

const NO_ANSWER = 'the device does not answer';
