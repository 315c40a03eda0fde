import type { Instant } from '../../../session/index.ts';
import type { ControlStep } from '../../control.ts';
import { placeWords, type ModbusAt } from '../points.ts';
import type { ClientSettings } from '../settings.ts';
import { ExceptionCode, exceptionWords, type Answer } from '../wire/pdu.ts';
import { WaitingControls } from '../../polling/waitingcontrols.ts';
import { endOf, firstRequest, writeAfterRead, type Writing } from './writes.ts';

const EMPTY = new Uint8Array(0);
/** So long after its time the end of a pulse is still written, milliseconds. */
const END_PATIENCE_MS = 60_000;

/** A write that follows another one: the end of a pulse, or what a register is to be after it was read. */
interface Follower {
  at: Instant;
  /** When it is of no use any more. */
  until: Instant;
  writing: Writing;
}

/**
 * The controls that wait at a client, the ends of pulses that are due later, and what each control ends in: operated,
 * refused (with the server's exception), failed (nothing was written), expired, or unknown (written, and no answer came).
 * Nothing is ever written twice. A pulse of which nobody knows whether it has begun is ended all the same; where its end
 * cannot be written in time, that is said, and it is written when the device can be reached again.
 */
export class WriteQueue {
  private readonly controls: WaitingControls<Writing['control']>;
  private followers: Follower[] = [];

  constructor(
    private readonly settings: ClientSettings,
    private readonly tells: {
      report: (id: string, step: ControlStep) => void;
      /** Of a control that has been told of already. */
      note: (what: 'noted' | 'diagnostic', words: string) => void;
    },
  ) {
    this.controls = new WaitingControls(tells.report);
  }

  get size(): number {
    return this.controls.size + this.followers.length;
  }

  /** When a write is to go out next; infinite: none is. */
  get nextDue(): Instant {
    return this.controls.size > 0 ? 0 : Math.min(Infinity, ...this.followers.map(({ at }) => at));
  }

  /** When the first of what waits is over. */
  get nextExpiry(): Instant {
    return Math.min(this.controls.nextExpiry, ...this.followers.map(({ until }) => until));
  }

  private tell({ control }: Writing, step: ControlStep): void {
    this.tells.report(control.id, step);
  }

  /** `hindrance`: why nothing can be sent at all. */
  add(control: Writing['control'], hindrance: string | null, now: Instant): void {
    const first = firstRequest(control, this.settings);
    const problem = hindrance ?? (typeof first === 'string' ? first : null);
    // There is no select on the line: whoever selects is told that it may operate.
    if (problem === null && control.mode === 'selectOnly' && now < control.expiresAt)
      this.tells.report(control.id, { step: 'selected' });
    else this.controls.add(control, problem, now);
  }

  expire(now: Instant): void {
    this.controls.expire(now);
    const over = this.followers.filter(({ until }) => now >= until);
    if (over.length === 0) return;
    this.followers = this.followers.filter(({ until }) => now < until);
    for (const { writing } of over)
      if (isEnd(writing)) this.unended(writing, 'the device could not be reached');
      else this.tell(writing, { step: 'expired', words: EXPIRED });
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

  sent(writing: Writing, now: Instant): void {
    writing.sentAt = now;
    if (writing.step === 'write') this.tell(writing, { step: 'operateSent' });
  }

  /** Takes the server's answer; returns the place that was written, null: nothing was. */
  answered(writing: Writing, answer: Answer, now: Instant): ModbusAt | null {
    if (!answer.ok && answer.exception !== ExceptionCode.acknowledge) {
      const words = exceptionWords(answer.exception);
      if (isEnd(writing)) this.unended(writing, `its end was not taken: ${words}`);
      else this.tell(writing, { step: 'refused', status: answer.exception, words });
      return null;
    }
    if (writing.step === 'read') {
      if (now >= writing.control.expiresAt) {
        this.tell(writing, { step: 'expired', words: EXPIRED });
        return null;
      }
      this.follow(writing, 'write', answer, now, writing.control.expiresAt);
      return null;
    }
    if (writing.step === 'readEnd') {
      this.follow(writing, 'end', answer, now, now + END_PATIENCE_MS);
      return null;
    }
    if (writing.step === 'end') this.ended(writing);
    else if (!this.endLater(writing, now)) this.tell(writing, { step: 'operated' });
    return writing.control.at;
  }

  /** What a register is to be, now that it has been read. Whoever wrote it in between would be overruled: it goes out next. */
  private follow(writing: Writing, step: 'write' | 'end', answer: Answer, now: Instant, until: Instant): void {
    const register = answer.ok && 'data' in answer.response ? answer.response.data : EMPTY;
    const request = writeAfterRead(writing, register, this.settings);
    this.followers.unshift({ at: now, until, writing: { ...writing, step, request } });
  }

  /** No answer came. */
  lost(writing: Writing, words: string, now: Instant): void {
    if (writing.step === 'read') this.tell(writing, { step: 'failed', words: `${words} before it was written` });
    else if (writing.step === 'readEnd') this.unended(writing, `${words} before its end was written`);
    else if (writing.step === 'end') this.unended(writing, `its end was written, but ${words}`);
    else {
      const doubt = `it was written, but ${words}`;
      if (!this.endLater(writing, now, doubt)) this.tell(writing, { step: 'unknown', words: doubt });
    }
  }

  /** What has not been sent waits for the link; a pulse that lasts too long by that is told of now. */
  linkLost(now: Instant): void {
    this.tellLate('the link was lost', now);
  }

  /** The device is not there: nothing waits any longer but what ends a pulse. */
  failAll(words: string, now: Instant): void {
    this.controls.failAll(words);
    const ends = this.followers.filter(({ writing }) => isEnd(writing));
    const others = this.followers.filter(({ writing }) => !isEnd(writing));
    this.followers = ends;
    for (const { writing } of others) this.tell(writing, { step: 'failed', words });
    this.tellLate('the device does not answer', now);
  }

  // ---- the ends of pulses

  /** The end of a pulse is due after its time; false: it is none. */
  private endLater({ control, sentAt = 0 }: Writing, now: Instant, doubt?: string): boolean {
    const end = endOf(control, this.settings);
    if (end === null) return false;
    const wait = control.operation === 'pulseOff' ? control.offMs : control.onMs;
    const at = doubt === undefined ? now + wait : Math.max(now, sentAt + wait);
    this.followers.push({ at, until: at + END_PATIENCE_MS, writing: { control, doubt, ...end } });
    return true;
  }

  private ended(writing: Writing): void {
    const { doubt, control, isTold } = writing;
    if (isTold) this.tells.note('noted', `the pulse of ${placeWords(control.at)} was ended late`);
    else if (doubt === undefined) this.tell(writing, { step: 'operated' });
    else this.tell(writing, { step: 'unknown', words: `${doubt}; its end was taken, so that it is over` });
  }

  private unended(writing: Writing, why: string): void {
    const { doubt = 'the pulse was begun', control, isTold } = writing;
    const words = `${why}: ${stillWords(writing)}`;
    if (isTold) this.tells.note('diagnostic', `the pulse of ${placeWords(control.at)} was not ended; ${words}`);
    else this.tell(writing, { step: 'unknown', words: `${doubt}; ${words}` });
  }

  private tellLate(why: string, now: Instant): void {
    for (const { writing, until } of this.followers)
      if (isEnd(writing) && writing.isTold !== true) {
        const { doubt = 'the pulse was begun' } = writing;
        const again = `it is ended when the device can be reached within ${Math.ceil((until - now) / 1000)} s`;
        this.tell(writing, {
          step: 'unknown',
          words: `${doubt}; ${why} before its end was written: ${stillWords(writing)}; ${again}`,
        });
        writing.isTold = true;
      }
  }
}

const EXPIRED = 'it had expired before it was written';
const isEnd = ({ step }: Writing): boolean => step === 'end' || step === 'readEnd';
const stillWords = ({ control }: Writing): string =>
  `the output may still be ${control.operation === 'pulseOff' ? 'off' : 'on'}`;
