import type { Instant, Session } from '@halvix/core/session';
import { clock } from './clock.ts';
import { exactly } from './exact.ts';

const LONGEST_TIMER_MS = 2_000_000_000;
/** Waits up to so long are a line's silences, where a session is fine. */
const SILENCE_MS = 8;

/**
 * Gives a session time and carries out its effects, in order. Effects may call the driver again; what that brings
 * about is carried out after them.
 */
export class Driver<Command, Effect> {
  private timer: (() => void) | null = null;
  /** When the timer goes off; it is left alone while that is no later than the session's deadline. */
  private goesOffAt: Instant = 0;
  private settling = false;
  private readonly now: () => Instant;

  constructor(
    private readonly session: Session<Command, Effect>,
    private readonly onEffect: (effect: Effect) => void,
  ) {
    this.now = session.isFine ? clock.fine : clock.now;
    this.settle();
  }

  start(): void {
    this.session.start(this.now());
    this.settle();
  }

  stop(): void {
    this.session.stop(this.now());
    this.settle();
  }

  receive(bytes: Uint8Array): void {
    this.session.receive(bytes, this.now());
    this.settle();
  }

  command(command: Command): void {
    this.session.command(command, this.now());
    this.settle();
  }

  /** No more timers: the session is given up. */
  close(): void {
    this.timer?.();
    this.settling = true;
  }

  /** Carries out what the session has to have done: after it was changed from outside. */
  settle(): void {
    if (this.settling) return;
    this.settling = true;
    for (let effects = this.session.take(); effects.length > 0; effects = this.session.take())
      for (const effect of effects) this.onEffect(effect);
    this.settling = false;
    this.arm();
  }

  private arm(): void {
    const { deadline } = this.session;
    if (this.timer !== null) {
      // Deadlines are put off with each message: the timer sees that when it goes off.
      if (deadline !== null && this.goesOffAt <= deadline) return;
      this.timer();
      this.timer = null;
    }
    if (deadline === null) return;
    const now = this.now();
    const wait = Math.min(LONGEST_TIMER_MS, Math.max(0, deadline - now));
    this.goesOffAt = now + wait;
    if (this.session.isFine && wait > 0 && wait <= SILENCE_MS) {
      this.timer = exactly(deadline, this.goOff);
      return;
    }
    const timer = setTimeout(this.goOff, wait);
    this.timer = () => clearTimeout(timer);
  }

  private readonly goOff = (): void => {
    this.timer = null;
    const now = this.now();
    if (now >= (this.session.deadline ?? Infinity)) this.session.wake(now);
    this.settle();
  };
}
