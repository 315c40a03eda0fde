import type { Instant } from '../../../session/index.ts';
import type { ControlStep } from '../../control.ts';
import type { ModbusAt } from '../points.ts';
import type { ClientSettings } from '../settings.ts';
import { ExceptionCode, exceptionWords, type Answer } from '../wire/pdu.ts';
import { WaitingControls } from '../../polling/waitingcontrols.ts';
import { endRequest, firstRequest, writeAfterRead, type Writing } from './writes.ts';

const EMPTY = new Uint8Array(0);

/**
 * The controls that wait at a client, the ends of pulses that are due later, and what each control ends in: operated,
 * refused (with the server's exception), failed (nothing was written), expired, or unknown (written, and no answer came).
 * Nothing is ever written twice.
 */
export class WriteQueue {
  private readonly controls: WaitingControls<Writing['control']>;
  /** Writes that follow another one: the ends of pulses, and what a register is to be after it was read. */
  private followers: { at: Instant; writing: Writing }[] = [];

  constructor(
    private readonly settings: ClientSettings,
    private readonly report: (id: string, step: ControlStep) => void,
  ) {
    this.controls = new WaitingControls(report);
  }

  get size(): number {
    return this.controls.size + this.followers.length;
  }

  /** When a write is to go out next; infinite: none is. */
  get nextDue(): Instant {
    return this.controls.size > 0 ? 0 : Math.min(Infinity, ...this.followers.map(({ at }) => at));
  }

  /** When the first control that waits is over. */
  get nextExpiry(): Instant {
    return this.controls.nextExpiry;
  }

  private tell({ control }: Writing, step: ControlStep): void {
    this.report(control.id, step);
  }

  /** `hindrance`: why nothing can be sent at all. */
  add(control: Writing['control'], hindrance: string | null, now: Instant): void {
    const first = firstRequest(control, this.settings);
    const problem = hindrance ?? (typeof first === 'string' ? first : null);
    // There is no select on the line: whoever selects is told that it may operate.
    if (problem === null && control.mode === 'selectOnly' && now < control.expiresAt)
      this.report(control.id, { step: 'selected' });
    else this.controls.add(control, problem, now);
  }

  expire(now: Instant): void {
    this.controls.expire(now);
  }

  /** What is to be written now, without taking it. */
  next(now: Instant): { writing: Writing; since: Instant } | null {
    const follower = this.followers.find(({ at }) => now >= at);
    if (follower) return { writing: follower.writing, since: follower.at };
    const control = this.controls.first;
    if (control === undefined) return null;
    const first = firstRequest(control, this.settings);
    // What cannot be sent has been refused when it came.
    return typeof first === 'string' ? null : { writing: { control, ...first }, since: now };
  }

  /** It waits no longer. */
  begin(writing: Writing): void {
    this.followers = this.followers.filter((follower) => follower.writing !== writing);
    this.controls.take(writing.control);
  }

  sent(writing: Writing): void {
    if (writing.step === 'write') this.tell(writing, { step: 'operateSent' });
  }

  /** Takes the server's answer; returns the place that was written, null: nothing was. */
  answered(writing: Writing, answer: Answer, now: Instant): ModbusAt | null {
    if (!answer.ok && answer.exception !== ExceptionCode.acknowledge) {
      const words = exceptionWords(answer.exception);
      if (writing.step === 'end') this.tell(writing, { step: 'unknown', words: `its end was not taken: ${words}` });
      else this.tell(writing, { step: 'refused', status: answer.exception, words });
      return null;
    }
    if (writing.step === 'read') {
      if (now >= writing.control.expiresAt) {
        this.tell(writing, { step: 'expired', words: 'it had expired before it was written' });
        return null;
      }
      const register = answer.ok && 'data' in answer.response ? answer.response.data : EMPTY;
      const request = writeAfterRead(writing, register, this.settings);
      // Whoever wrote the register in between would be overruled: the write goes out next.
      this.followers.unshift({ at: now, writing: { ...writing, step: 'write', request } });
      return null;
    }
    const { control } = writing;
    const end = writing.step === 'write' ? endRequest(writing, this.settings) : null;
    if (end === null) this.tell(writing, { step: 'operated' });
    else {
      const wait = control.operation === 'pulseOff' ? control.offMs : control.onMs;
      this.followers.push({ at: now + wait, writing: { ...writing, step: 'end', request: end } });
    }
    return control.at;
  }

  /** No answer came. */
  lost(writing: Writing, words: string): void {
    if (writing.step === 'read') this.tell(writing, { step: 'failed', words: `${words} before it was written` });
    else if (writing.step === 'write') this.tell(writing, { step: 'unknown', words: `it was written, but ${words}` });
    else this.tell(writing, { step: 'unknown', words: `the pulse was begun; its end was written, but ${words}` });
  }

  failAll(words: string): void {
    this.controls.failAll(words);
    for (const { writing } of this.followers.splice(0)) {
      const unknown = { step: 'unknown', words: `the pulse was begun, and could not be ended: ${words}` } as const;
      this.tell(writing, writing.step === 'end' ? unknown : { step: 'failed', words });
    }
  }
}
