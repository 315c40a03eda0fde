import type { Instant, Session } from '../../session/index.ts';
import type { TrialEffect } from '../client.ts';

/** Each request is sent so often before it counts as unanswered. */
export const TRIES = 2;

type State = 'good' | 'odd' | 'bad';

/**
 * The skeleton of a first conversation with a device that is polled and not in service yet: one step after the other, each
 * with one request; each ends as good, odd (went on all the same) or bad (the end).
 */
export abstract class PolledTrial<Step extends string> implements Session<never, TrialEffect> {
  private effects: TrialEffect[] = [];
  private tries = 0;
  /** The step under way; null: none is. */
  protected step: Step | null = null;
  protected sentAt: Instant = 0;
  deadline: Instant | null = null;

  constructor(
    private readonly first: Step,
    private readonly timeoutMs: number,
    /** Who it may be that took the connection and let us go. */
    private readonly closedMeans: string,
  ) {}

  /** `reading class 0`. */
  protected abstract wordsOf(step: Step): string;
  /** Sends the request of a step. */
  protected abstract ask(step: Step, now: Instant): void;
  /** No answer came, however often it was asked. */
  protected abstract unanswered(step: Step, now: Instant): void;
  abstract receive(bytes: Uint8Array, now: Instant): void;

  start(now: Instant): void {
    this.begin(this.first, now);
  }

  stop(_now: Instant): void {
    if (this.step !== null)
      this.end('the other end closed the connection', `It took the connection but not us: ${this.closedMeans}`);
  }

  wake(now: Instant): void {
    if (this.step === null || this.deadline === null || now < this.deadline) return;
    if (this.tries < TRIES) this.send(this.step, now);
    else this.unanswered(this.step, now);
  }

  command(): void {
    // There is nothing to say to it.
  }

  take(): TrialEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  protected begin(step: Step, now: Instant): void {
    this.step = step;
    this.tries = 0;
    this.report(step, 'running', this.wordsOf(step));
    this.send(step, now);
  }

  private send(step: Step, now: Instant): void {
    this.tries++;
    this.sentAt = now;
    this.waitOn(now);
    this.ask(step, now);
  }

  /** For an answer, or for the next part of it. */
  protected waitOn(now: Instant): void {
    this.deadline = now + this.timeoutMs;
  }

  protected out(octets: Uint8Array): void {
    this.effects.push({ type: 'send', octets });
  }

  protected report(step: Step, state: 'running' | State, words: string, meaning = ''): void {
    this.effects.push({ type: 'step', step, state, words, meaning });
  }

  /** It ends here: the step under way is bad. */
  protected end(words: string, meaning: string): void {
    if (this.step !== null) this.report(this.step, 'bad', words, meaning);
    this.finish(false);
  }

  protected finish(good: boolean): void {
    this.step = null;
    this.deadline = null;
    this.effects.push({ type: 'ended', good });
  }
}
