import type { Instant, Session } from '../../session/index.ts';
import type { TrialEffect } from '../client.ts';
import { MmsClient, type MmsClientSettings } from './client.ts';
import { hold, type Dialogue } from './dialogue.ts';

/*
 * A first conversation with a server that is not in service yet: associates, asks what its protocol wants to know step by
 * step, and concludes. It changes nothing.
 */

/** What came of a step; bad: the others are not tried. */
export interface Outcome {
  state: 'good' | 'odd' | 'bad';
  words: string;
  meaning?: string;
}

export interface TrialStep {
  step: string;
  /** `asking what it is`. */
  words: string;
  ask: () => Dialogue<Outcome>;
  /** What a refusal means. */
  meaning: string;
}

export class MmsTrial implements Session<never, TrialEffect> {
  private effects: TrialEffect[] = [];
  /** The step under way; null: none is. */
  private step: string | null = null;
  private since: Instant = 0;
  private readonly client: MmsClient;

  constructor(
    settings: MmsClientSettings,
    private readonly steps: readonly TrialStep[],
  ) {
    this.client = new MmsClient(settings, () => {});
  }

  get deadline(): Instant | null {
    return this.step === null ? null : this.client.deadline;
  }

  start(now: Instant): void {
    this.begin('associate', 'asking for an association', now);
    this.client.start(now);
    this.collect(now);
  }

  stop(now: Instant): void {
    this.client.lost(now);
    if (this.step !== null)
      this.end(
        'the other end closed the connection',
        'It took the connection but not us: it may know its clients by their IP addresses, or have no association left.',
      );
  }

  receive(bytes: Uint8Array, now: Instant): void {
    this.client.receive(bytes, now);
    this.collect(now);
  }

  wake(now: Instant): void {
    this.client.wake(now);
    this.collect(now);
  }

  command(): void {
    // There is nothing to say to it.
  }

  private begin(step: string, words: string, now: Instant): void {
    this.step = step;
    this.since = now;
    this.effects.push({ type: 'step', step, state: 'running', words, meaning: '' });
  }

  private collect(now: Instant): void {
    for (const effect of this.client.take()) {
      if (effect.type === 'send') this.effects.push(effect);
      else if (effect.type === 'open') {
        const { size, called } = effect.agreement;
        const words = `associated after ${now - this.since} ms: ${size ?? '?'} octets, ${called} requests at once`;
        this.say('associate', { state: 'good', words });
        this.next(0, now);
      } else if (effect.type === 'closed') this.onClosed(effect.words);
    }
  }

  private next(at: number, now: Instant): void {
    const one = this.steps[at];
    if (one === undefined) {
      this.finish(true);
      this.client.conclude(now);
      return;
    }
    const { step, words, ask, meaning } = one;
    this.begin(step, words, now);
    hold(
      this.client,
      ask(),
      (outcome, later) => {
        if (this.step === null) return;
        if (!outcome.ok) return this.end(outcome.problem, meaning);
        const { value } = outcome;
        this.say(step, { ...value, words: `${value.words}, after ${later - this.since} ms` });
        if (value.state === 'bad') this.finish(false);
        else this.next(at + 1, later);
      },
      now,
    );
    for (const effect of this.client.take()) if (effect.type === 'send') this.effects.push(effect);
  }

  private onClosed(words: string): void {
    if (this.step === null) return;
    const meaning =
      this.step === 'associate'
        ? 'Its selectors or its title may be others, it may ask for a password, or know its clients by their addresses.'
        : 'It ended the association in the middle of it.';
    this.end(words, meaning);
  }

  private say(step: string, { state, words, meaning = '' }: Outcome): void {
    this.effects.push({ type: 'step', step, state, words, meaning });
  }

  private end(words: string, meaning: string): void {
    if (this.step !== null) this.say(this.step, { state: 'bad', words, meaning });
    this.finish(false);
  }

  private finish(good: boolean): void {
    this.step = null;
    this.effects.push({ type: 'ended', good });
  }

  take(): TrialEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }
}
