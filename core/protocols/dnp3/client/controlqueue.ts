import type { Instant } from '../../../session/index.ts';
import type { Fragment } from '../wire/application.ts';
import { ControlStatus, controlStatusWords } from '../control.ts';
import type { ControlStep } from './mastermessages.ts';
import { controlEcho, type ControlRequest, type Task } from './request.ts';

type ControlTask = Task & { type: 'control' };

const MAX_WAITING = 32;

/**
 * The controls that wait at a master, and what each of them ends in: operated, refused (with the device's status),
 * failed (nothing was operated), expired, or unknown (sent, and no answer came). None is ever sent twice.
 */
export class ControlQueue {
  private waiting: ControlRequest[] = [];

  constructor(private readonly report: (id: string, step: ControlStep) => void) {}

  get size(): number {
    return this.waiting.length;
  }

  /** `hindrance`: why nothing can be sent at all. */
  add(request: ControlRequest, hindrance: string | null): void {
    const full = this.waiting.length >= MAX_WAITING ? `${MAX_WAITING} controls wait already` : null;
    const words = hindrance ?? full;
    if (words === null) this.waiting.push(request);
    else this.report(request.id, { step: 'failed', words: `${words}; nothing was sent` });
  }

  /** The one whose turn is next, after those whose time is over are gone. */
  next(now: Instant): ControlRequest | undefined {
    this.waiting = this.waiting.filter(({ id, expiresAt }) => {
      if (now < expiresAt) return true;
      this.report(id, { step: 'expired', words: 'it had expired before it was sent' });
      return false;
    });
    return this.waiting[0];
  }

  shift(): void {
    this.waiting.shift();
  }

  failAll(words: string): void {
    for (const { id } of this.waiting.splice(0)) this.report(id, { step: 'failed', words });
  }

  sent({ request, phase }: ControlTask): void {
    this.report(request.id, { step: phase === 'select' ? 'selectSent' : 'operateSent' });
    if (request.mode === 'directNoAnswer') this.report(request.id, { step: 'unanswered' });
  }

  unanswered({ request, phase }: ControlTask, words: string): void {
    if (phase === 'select')
      this.report(request.id, { step: 'failed', words: `select: ${words}; nothing was operated` });
    else this.report(request.id, { step: 'unknown', words: `operate was sent, but ${words}` });
  }

  /** Takes the device's answer; returns whether the operate is to be sent now. */
  answered({ request, phase }: ControlTask, fragment: Fragment, now: Instant): boolean {
    const { id } = request;
    const status = controlEcho(fragment, request);
    if (typeof status === 'string') {
      const words = `${phase}: ${status}`;
      this.report(id, phase === 'select' ? { step: 'failed', words } : { step: 'unknown', words });
    } else if (status !== ControlStatus.success)
      this.report(id, { step: 'refused', status, words: controlStatusWords(status) });
    else if (phase === 'operate') this.report(id, { step: 'operated' });
    else {
      this.report(id, { step: 'selected' });
      if (request.mode === 'selectOnly') return false;
      if (now < request.expiresAt) return true;
      this.report(id, { step: 'expired', words: 'it expired after the select' });
    }
    return false;
  }
}
