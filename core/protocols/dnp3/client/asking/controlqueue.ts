import type { Instant } from '../../../../session/index.ts';
import { iinWords, refusalOf, type Fragment } from '../../wire/application.ts';
import { parseHeaders } from '../../wire/header.ts';
import { ControlStatus, controlStatusWords, readControlBlock, readSetpoint } from '../../control.ts';
import type { ControlStep } from '../../../control.ts';
import type { ControlRequest } from '../mastermessages.ts';
import { WaitingControls } from '../../../polling/waitingcontrols.ts';
import type { TaskOf } from '../task.ts';

type ControlTask = TaskOf<'control'>;

/**
 * The controls that wait at a master, and what each of them ends in: operated, refused (with the device's status),
 * failed (nothing was operated), expired, or unknown (sent, and no answer came). None is ever sent twice.
 */
export class ControlQueue {
  private readonly waiting: WaitingControls<ControlRequest>;

  constructor(private readonly report: (id: string, step: ControlStep) => void) {
    this.waiting = new WaitingControls(report);
  }

  get size(): number {
    return this.waiting.size;
  }

  /** `hindrance`: why nothing can be sent at all. */
  add(request: ControlRequest, hindrance: string | null, now: Instant): void {
    this.waiting.add(request, hindrance, now);
  }

  /** When the first of those that wait is over. */
  get nextExpiry(): Instant {
    return this.waiting.nextExpiry;
  }

  expire(now: Instant): void {
    this.waiting.expire(now);
  }

  /** The one whose turn is next, after those whose time is over are gone. */
  next(now: Instant): ControlRequest | undefined {
    this.expire(now);
    return this.waiting.first;
  }

  take(request: ControlRequest): void {
    this.waiting.take(request);
  }

  failAll(words: string): void {
    this.waiting.failAll(words);
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
    if (request.text !== undefined) {
      const refusal = refusalOf(fragment);
      if (refusal) this.report(id, { step: 'failed', words: `the device refused: ${iinWords(refusal).join(', ')}` });
      else this.report(id, { step: 'operated' });
      return false;
    }
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

/** The device's status for our control, or what is wrong with its answer. */
function controlEcho(fragment: Fragment, request: ControlRequest): number | string {
  const refusal = refusalOf(fragment);
  const { headers } = parseHeaders(fragment.octets, fragment.objectsAt, true);
  const header = headers.find((h) => h.type?.what === (request.setpoint ? 'setpoint' : 'control'));
  const item = header?.items.find(({ index }) => index === request.index);
  if (item === undefined)
    return refusal ? `the device refused the request: ${iinWords(refusal).join(', ')}` : 'the answer names no control';
  if (request.setpoint) {
    const { value, variation } = request.setpoint;
    if (header?.variation !== variation) return 'the answer does not repeat what was sent';
    const echo = readSetpoint(fragment.octets, item.at, variation);
    if (echo.value !== (variation === 3 ? Math.fround(value) : value))
      return 'the answer does not repeat what was sent';
    return judged(echo.status & 0x7f, refusal);
  }
  const echo = readControlBlock(fragment.octets, item.at);
  const { code, count, onMs, offMs } = request.block;
  if (echo.code !== code || echo.count !== count || echo.onMs !== onMs || echo.offMs !== offMs)
    return 'the answer does not repeat what was sent';
  return judged(echo.status & 0x7f, refusal);
}

/** A device that refuses the request has not taken the control, whatever status it repeats. */
const judged = (status: number, refusal: number): number | string =>
  status === 0 && refusal ? `the device refused the request: ${iinWords(refusal).join(', ')}` : status;
