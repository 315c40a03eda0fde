import type { Instant, Session } from '../../../session/index.ts';
import type { TrialEffect } from '../../client.ts';
import { MmsClient } from '../../mms/client.ts';
import { callingSettings } from '../../mms/settings.ts';
import { type ClientSettings } from '../settings.ts';

/*
 * A first conversation with a server that is not in service yet: associates, asks what it is and what logical devices
 * it has, and concludes. It changes nothing.
 *
 * Rules:
 * 1. A server need not say what it is: an error is odd and no more.
 * 2. A server without a logical device is none of IEC 61850.
 */

type Step = 'associate' | 'identify' | 'model';
const SHOWN_DEVICES = 5;

export class Trial implements Session<never, TrialEffect> {
  private effects: TrialEffect[] = [];
  private step: Step | null = null;
  private since: Instant = 0;
  private readonly client: MmsClient;

  constructor(settings: ClientSettings) {
    this.client = new MmsClient(
      { ...callingSettings(settings), responseTimeoutMs: settings.responseTimeoutMs },
      () => {},
    );
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

  private begin(step: Step, words: string, now: Instant): void {
    this.step = step;
    this.since = now;
    this.effects.push({ type: 'step', step, state: 'running', words, meaning: '' });
  }

  private collect(now: Instant): void {
    for (const effect of this.client.take()) {
      if (effect.type === 'send') this.effects.push(effect);
      else if (effect.type === 'open') {
        const { size, called } = effect.agreement;
        this.say(
          'associate',
          'good',
          `associated after ${now - this.since} ms: ${size ?? '?'} octets, ${called} requests at once`,
        );
        this.identify(now);
      } else if (effect.type === 'closed') this.onClosed(effect.words);
    }
  }

  private identify(now: Instant): void {
    this.begin('identify', 'asking what it is', now);
    this.client.ask(
      'identify',
      {},
      (answer, at) => {
        if (this.step === null) return;
        if (answer.ok) {
          const { vendor, model, revision } = answer.response;
          this.say(
            'identify',
            'good',
            `it says ${[vendor, model, revision].filter(Boolean).join(', ')}, after ${at - this.since} ms`,
          );
        } else this.say('identify', 'odd', answer.words);
        this.model(at);
      },
      now,
    );
    this.collect(now);
  }

  private model(now: Instant): void {
    this.begin('model', 'asking for its logical devices', now);
    this.client.ask(
      'nameList',
      { class: 'domain', domain: null, after: null },
      (answer, at) => {
        if (this.step === null) return;
        if (!answer.ok) return this.end(answer.words, 'It associates, but does not say what it has.');
        const { names } = answer.response;
        if (names.length === 0) return this.end('it has no logical device', 'It speaks MMS, but has no model.');
        const shown = names.slice(0, SHOWN_DEVICES).join(', ');
        const more = names.length > SHOWN_DEVICES ? ` and ${names.length - SHOWN_DEVICES} more` : '';
        this.say('model', 'good', `it has ${shown}${more}, after ${at - this.since} ms`);
        this.finish(true);
        this.client.conclude(at);
      },
      now,
    );
  }

  private onClosed(words: string): void {
    if (this.step === null) return;
    const meaning =
      this.step === 'associate'
        ? 'Its selectors or its title may be others, it may ask for a password, or know its clients by their addresses.'
        : 'It ended the association in the middle of it.';
    this.end(words, meaning);
  }

  private say(step: Step, state: 'good' | 'odd' | 'bad', words: string, meaning = ''): void {
    this.effects.push({ type: 'step', step, state, words, meaning });
  }

  private end(words: string, meaning: string): void {
    if (this.step !== null) this.say(this.step, 'bad', words, meaning);
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
