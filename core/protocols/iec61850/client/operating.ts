import type { Instant } from '../../../session/index.ts';
import type { ControlStep } from '../../control.ts';
import type { Answer, MmsClient } from '../../mms/client.ts';
import { accessErrorWords, type AccessResult, type TypeOf } from '../../mms/wire/data.ts';
import type { ObjectName } from '../../mms/wire/names.ts';
import type { ServiceName, Variables } from '../../mms/wire/services.ts';
import {
  applicationErrorOf,
  applicationErrorWords,
  causeWords,
  controlData,
  isEnhanced,
  isSelected,
  type ApplicationError,
  type ControlModel,
  type ControlValue,
} from '../control.ts';

/*
 * One control of a data object, by its control model (IEC 61850-7-2, clause 20; carried after IEC 61850-8-1, clause 20).
 * Nothing of it is sent twice.
 *
 * model                         select                operate        end
 * ----------------------------  --------------------  -------------  ------------------------------------------------
 * direct                        –                     write Oper     with the answer to the write
 * selectBeforeOperate           read SBO: a name      write Oper     with the answer to the write
 * directEnhanced                –                     write Oper     command termination: a report of Oper; with
 * selectBeforeOperateEnhanced   write SBOw            write Oper     LastApplError in front it was not done
 *
 * A refusal is an access error; why, says the LastApplError that was reported just before it.
 */

export interface Operating {
  domain: string;
  /** Of the data object: `CSWI1$CO$Pos`. */
  item: string;
  model: ControlModel;
  control: ControlValue;
  /** Types of what is written. */
  oper: TypeOf;
  selectWithValue: TypeOf | null;
  cancel: TypeOf | null;
  /** How long the end of an enhanced one may take. */
  terminationMs: number;
  expiresAt: Instant;
  selectOnly: boolean;
  /** It was selected before, with the same number. */
  isSelected: boolean;
}

const SELECT_FAILED = 3;

export class Operation {
  private phase: 'select' | 'operate' | 'termination' | 'ended' = 'select';
  private lastError: ApplicationError | null = null;
  deadline: Instant | null = null;

  constructor(
    private readonly client: MmsClient,
    private readonly wish: Operating,
    private readonly report: (step: ControlStep) => void,
  ) {}

  get hasEnded(): boolean {
    return this.phase === 'ended';
  }

  start(now: Instant): void {
    const { model } = this.wish;
    if (model === 'statusOnly') this.end({ step: 'failed', words: 'it can only be seen; nothing was sent' });
    else if (isSelected(model) && !this.wish.isSelected) this.select(now);
    else if (this.wish.selectOnly) this.end({ step: 'selected' });
    else this.operate(now);
  }

  private nameOf(part: string): ObjectName {
    const { domain, item } = this.wish;
    return { scope: 'domain', domain, item: `${item}$${part}` };
  }

  private select(now: Instant): void {
    const { model, selectWithValue, control } = this.wish;
    if (!isEnhanced(model)) {
      this.report({ step: 'selectSent' });
      const variables = { names: [{ name: this.nameOf('SBO') }] };
      this.client.ask('read', { variables }, (answer, at) => this.onSelected(answer, at), now, true);
      return;
    }
    const data = selectWithValue && controlData(selectWithValue, control);
    if (data === null || !data.ok) {
      this.end({
        step: 'failed',
        words: `it cannot be selected: ${data?.problem ?? 'it has no SBOw'}; nothing was sent`,
      });
      return;
    }
    this.report({ step: 'selectSent' });
    const request = { variables: { names: [{ name: this.nameOf('SBOw') }] }, values: [data.value] };
    this.client.ask('write', request, (answer, at) => this.onWritten(answer, at), now, true);
  }

  /** The answer to the read of SBO: the name of what is selected; empty: it is not. */
  private onSelected(answer: Answer<'read'>, now: Instant): void {
    if (this.hasEnded) return;
    if (!answer.ok) return this.onFailed(answer, 'select');
    const [name] = answer.response.results;
    if (name?.type === 'failure') return this.refused(accessErrorWords(name.code));
    if (name?.type !== 'text' || name.text === '') return this.refused(causeWords(SELECT_FAILED));
    this.selected(now);
  }

  private selected(now: Instant): void {
    this.report({ step: 'selected' });
    if (this.wish.selectOnly) this.phase = 'ended';
    else if (now >= this.wish.expiresAt) {
      this.release(now);
      this.end({ step: 'expired', words: 'it expired after the select' });
    } else this.operate(now);
  }

  /** Lets go of what was selected (IEC 61850-7-2, 20.5: Cancel). Whether the device takes it changes nothing any more. */
  release(now: Instant): void {
    const data = this.wish.cancel && controlData(this.wish.cancel, this.wish.control);
    if (data === null || !data.ok) return;
    const request = { variables: { names: [{ name: this.nameOf('Cancel') }] }, values: [data.value] };
    this.client.ask('write', request, () => {}, now, true);
  }

  private operate(now: Instant): void {
    const data = controlData(this.wish.oper, this.wish.control);
    if (!data.ok)
      return this.end({ step: 'failed', words: `it cannot be operated: ${data.problem}; nothing was operated` });
    this.phase = 'operate';
    this.lastError = null;
    this.report({ step: 'operateSent' });
    const request = { variables: { names: [{ name: this.nameOf('Oper') }] }, values: [data.value] };
    this.client.ask('write', request, (answer, at) => this.onWritten(answer, at), now, true);
  }

  /** The answer to the write of SBOw or Oper. */
  private onWritten(answer: Answer<'write'>, now: Instant): void {
    if (this.hasEnded) return;
    if (!answer.ok) return this.onFailed(answer, this.phase === 'select' ? 'select' : 'operate');
    const [error = null] = answer.response.results;
    if (error !== null) return this.refused(accessErrorWords(error));
    if (this.phase === 'select') return this.selected(now);
    if (!isEnhanced(this.wish.model)) return this.end({ step: 'operated' });
    // Its end may have been reported before the answer came.
    if (this.phase !== 'operate') return;
    this.phase = 'termination';
    this.deadline = now + this.wish.terminationMs;
  }

  private onFailed(answer: Answer<ServiceName> & { ok: false }, phase: 'select' | 'operate'): void {
    if (!answer.lost) this.refused(answer.words);
    else if (phase === 'select') this.end({ step: 'failed', words: `select: ${answer.words}; nothing was operated` });
    else this.end({ step: 'unknown', words: `operate was sent, but ${answer.words}` });
  }

  /** With the cause that the device gave for it; without one, with its words. */
  private refused(words: string): void {
    const { lastError } = this;
    const status = lastError?.cause ?? 0;
    this.end({ step: 'refused', status, words: lastError === null ? words : applicationErrorWords(lastError) });
  }

  /** A report that is none of a report control block; returns whether it belongs to this control. */
  onReport(variables: Variables, results: readonly AccessResult[]): boolean {
    if (variables.list !== undefined) return false;
    const names = variables.names.map(({ name }) => name);
    const at = names.findIndex((name) => name.scope === 'vmd' && name.item === 'LastApplError');
    const own = names.some((name) => this.isOwn(name, 'Oper'));
    if (at >= 0) {
      const error = results[at] && applicationErrorOf(results[at]);
      if (!error?.ok || !this.isAbout(error.value)) return false;
      this.lastError = error.value;
    }
    if (!own || (this.phase !== 'operate' && this.phase !== 'termination')) return at >= 0;
    if (at >= 0) this.refused('');
    else this.end({ step: 'operated' });
    return true;
  }

  private isOwn(name: ObjectName, part: string): boolean {
    const { domain, item } = this.wish;
    return name.scope === 'domain' && name.domain === domain && name.item === `${item}$${part}`;
  }

  private isAbout({ object, number }: ApplicationError): boolean {
    const { domain, item, control } = this.wish;
    return object.startsWith(`${domain}/${item}$`) && number === (control.number & 0xff);
  }

  wake(now: Instant): void {
    if (this.deadline === null || now < this.deadline) return;
    this.end({
      step: 'unknown',
      words: `operate was accepted, but its end was not told in ${this.wish.terminationMs} ms`,
    });
  }

  private end(step: ControlStep): void {
    if (this.hasEnded) return;
    this.phase = 'ended';
    this.deadline = null;
    this.report(step);
  }
}
