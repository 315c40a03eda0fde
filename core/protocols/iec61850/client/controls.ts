import { switchesOn, wholeOf } from '../../../point/index.ts';
import type { Instant, Result } from '../../../session/index.ts';
import type { ControlOrder, ControlStep } from '../../control.ts';
import type { MmsClient, Told } from '../../mms/client.ts';
import type { Data, TypeOf } from '../../mms/wire/data.ts';
import { accessErrorWords } from '../../mms/wire/data.ts';
import { MODELS, type ControlModel } from '../control.ts';
import { typeIn } from '../model/model.ts';
import { toMms, type Reference } from '../model/reference.ts';
import { referenceOf, type IecAt } from '../points.ts';
import { ORIGINS, type ClientSettings } from '../settings.ts';
import { Operation } from './operating.ts';
import { variableOf } from './reads.ts';
import type { NodeTypes } from './wanted.ts';

/*
 * The controls that are given to a device.
 *
 * Rules:
 *  1. What is operated goes by the control model that the device has for it, which is asked for the first time.
 *  2. One control of an object at a time; a second one fails before anything is sent.
 *  3. What was selected for somebody and is operated with the same value within its time is not selected again.
 *  4. What was selected and is not operated within its time, or with another value, is let go of at the device.
 *  5. A setting is written once; the answer to the write is its end.
 */

const MAX_WAITING = 32;
/** A selection of ours is used for so long; devices have their own limits (common practice: 30 s and more). */
const SELECTED_MS = 25_000;
const MODEL_UNKNOWN = 'how it is operated is not known';

interface Running {
  control: ControlOrder<IecAt>;
  operation: Operation | null;
}

export class Controls {
  private readonly running = new Map<string, Running>();
  private readonly models = new Map<string, ControlModel>();
  private readonly selected = new Map<string, { value: string; number: number; until: Instant; by: Operation }>();
  private number = 0;

  constructor(
    private readonly settings: ClientSettings,
    private readonly report: (id: string, step: ControlStep) => void,
  ) {}

  get size(): number {
    return this.running.size;
  }

  get deadline(): Instant {
    const running = [...this.running.values()].map(({ operation }) => operation?.deadline ?? Infinity);
    return Math.min(Infinity, ...running, ...[...this.selected.values()].map(({ until }) => until));
  }

  add(control: ControlOrder<IecAt>, client: MmsClient, types: NodeTypes, now: Instant): void {
    const reference = referenceOf(control.at);
    const key = objectKey(reference);
    const fail = (words: string): void =>
      this.report(control.id, { step: 'failed', words: `${words}; nothing was sent` });
    if (this.running.size >= MAX_WAITING) return fail(`${MAX_WAITING} controls are under way already`);
    if (this.running.has(key)) return fail('another control of it is under way');
    const type = types(reference.device, reference.node);
    if (type === null) return fail(`there is no node ${reference.device}/${reference.node}`);
    this.running.set(key, { control, operation: null });
    if (reference.fc !== 'CO') this.write(key, reference, type, client, now);
    else this.operate(key, reference, type, client, now);
  }

  /** What is told unasked may belong to one of them. */
  onTold({ variables, results }: Told): boolean {
    return [...this.running.values()].some(({ operation }) => operation?.onReport(variables, results) ?? false);
  }

  wake(now: Instant): void {
    for (const { operation } of this.running.values()) operation?.wake(now);
    for (const [key, { until, by }] of this.selected) {
      if (now < until) continue;
      this.selected.delete(key);
      by.release(now);
    }
  }

  /** The association is gone: whoever was waited for has been told by the loss of its request. */
  lost(): void {
    this.selected.clear();
    this.models.clear();
    for (const [key, { control }] of this.running)
      this.end(key, control.id, {
        step: 'unknown',
        words: 'operate was sent, but the association was lost before its end',
      });
  }

  private end(key: string, id: string, step: ControlStep): void {
    this.running.delete(key);
    this.report(id, step);
  }

  private operate(key: string, reference: Reference, type: TypeOf, client: MmsClient, now: Instant): void {
    const model = this.models.get(key);
    if (model !== undefined) return this.operateBy(model, key, reference, type, client, now);
    const variables = { names: [variableOf({ ...reference, fc: 'CF', path: [...reference.path, 'ctlModel'] })] };
    client.ask(
      'read',
      { variables },
      (answer, at) => {
        const control = this.running.get(key)?.control;
        if (control === undefined) return;
        const [value] = answer.ok ? answer.response.results : [];
        const found = value?.type === 'integer' || value?.type === 'unsigned' ? MODELS[Number(value.value)] : undefined;
        if (found === undefined) {
          const why = !answer.ok
            ? answer.words
            : value?.type === 'failure'
              ? accessErrorWords(value.code)
              : 'no such model';
          this.end(key, control.id, { step: 'failed', words: `${MODEL_UNKNOWN}: ${why}; nothing was sent` });
          return;
        }
        this.models.set(key, found);
        if (at >= control.expiresAt)
          this.end(key, control.id, { step: 'expired', words: 'it expired before it was sent' });
        else this.operateBy(found, key, reference, type, client, at);
      },
      now,
      true,
    );
  }

  private operateBy(
    model: ControlModel,
    key: string,
    reference: Reference,
    type: TypeOf,
    client: MmsClient,
    now: Instant,
  ): void {
    const running = this.running.get(key);
    if (running === undefined) return;
    const { control } = running;
    const { id } = control;
    const part = (name: string): TypeOf | null => typeIn(type, { ...reference, path: [...reference.path, name] });
    const [oper, selectWithValue, cancel] = [part('Oper'), part('SBOw'), part('Cancel')];
    const value = oper?.type === 'structure' ? oper.components.find(({ name }) => name === 'ctlVal')?.of : undefined;
    if (oper === null || value === undefined)
      return this.end(key, id, { step: 'failed', words: 'it has nothing to be operated with; nothing was sent' });
    const data = controlValue(control, value);
    if (!data.ok) return this.end(key, id, { step: 'failed', words: `${data.problem}; nothing was sent` });
    const written = JSON.stringify(data.value);
    const selection = this.selected.get(key);
    const isSelected = selection !== undefined && selection.value === written && now < selection.until;
    const number = isSelected ? selection.number : this.nextNumber();
    this.selected.delete(key);
    if (selection !== undefined && !isSelected) selection.by.release(now);
    const { domain, item } = toMms(reference);
    const selectOnly = control.mode === 'selectOnly';
    const operation = new Operation(
      client,
      {
        ...{ domain, item, model, oper, selectWithValue, cancel, selectOnly, isSelected: isSelected && !selectOnly },
        control: {
          value: data.value,
          origin: {
            category: ORIGINS[this.settings.origin],
            identity: new TextEncoder().encode(this.settings.originator),
          },
          ...{ number, time: now, test: false },
          ...{ synchrocheck: this.settings.synchrocheck, interlock: this.settings.interlock },
        },
        terminationMs: this.settings.terminationMs,
        expiresAt: control.expiresAt,
      },
      (step) => {
        const isOver =
          step.step !== 'selectSent' && step.step !== 'operateSent' && (step.step !== 'selected' || selectOnly);
        if (step.step === 'selected' && selectOnly)
          this.selected.set(key, { value: written, number, until: now + SELECTED_MS, by: operation });
        if (isOver) this.running.delete(key);
        this.report(id, step);
      },
    );
    running.operation = operation;
    operation.start(now);
  }

  private nextNumber(): number {
    this.number = (this.number + 1) & 0xff;
    return this.number;
  }

  /** A setting that is written as it is. */
  private write(key: string, reference: Reference, type: TypeOf, client: MmsClient, now: Instant): void {
    const running = this.running.get(key);
    if (running === undefined) return;
    const { control } = running;
    const { id } = control;
    const of = typeIn(type, reference);
    const data: Result<Data, string> =
      of === null ? { ok: false, problem: 'it is not in the device' } : controlValue(control, of);
    if (!data.ok) return this.end(key, id, { step: 'failed', words: `${data.problem}; nothing was sent` });
    if (control.mode === 'selectOnly') return this.end(key, id, { step: 'selected' });
    this.report(id, { step: 'operateSent' });
    client.ask(
      'write',
      { variables: { names: [variableOf(reference)] }, values: [data.value] },
      (answer) => {
        if (!this.running.has(key)) return;
        if (answer.ok) {
          const [error = null] = answer.response.results;
          if (error === null) this.end(key, id, { step: 'operated' });
          else this.end(key, id, { step: 'refused', status: error, words: accessErrorWords(error) });
        } else if (answer.lost) this.end(key, id, { step: 'unknown', words: `it was written, but ${answer.words}` });
        else this.end(key, id, { step: 'refused', status: 0, words: answer.words });
      },
      now,
      true,
    );
  }
}

const objectKey = ({ device, node, path, fc }: Reference): string => `${device}/${[node, ...path].join('.')} ${fc}`;

/** What is wanted, as the device's type of value has it. */
export function controlValue(
  { operation, counts, text }: Pick<ControlOrder<IecAt>, 'operation' | 'counts' | 'text'>,
  of: TypeOf,
): Result<Data, string> {
  const wrong = (problem: string): Result<Data, string> => ({ ok: false, problem });
  if (operation !== null) {
    const on = switchesOn(operation);
    if (of.type === 'boolean') return { ok: true, value: { type: 'boolean', value: on } };
    // Steps: lower 1, higher 2 (IEC 61850-7-3: tcmd).
    if (of.type === 'bits' && Math.abs(of.size) === 2)
      return { ok: true, value: { type: 'bits', bits: on ? [true, false] : [false, true] } };
    return wrong('it takes no switching operation');
  }
  if (text !== undefined)
    return of.type === 'text' || of.type === 'wideText'
      ? { ok: true, value: { type: 'text', text, wide: of.type === 'wideText' } }
      : wrong('it takes no text');
  if (counts === null) return wrong('there is no value to set');
  switch (of.type) {
    case 'boolean':
      return counts === 0 || counts === 1
        ? { ok: true, value: { type: 'boolean', value: counts === 1 } }
        : wrong(`${counts} does not fit: it takes 0 or 1`);
    case 'integer':
    case 'unsigned': {
      const whole = wholeOf(counts);
      if (whole === null) return wrong(`${counts} is no whole number, and it takes no other`);
      const [low, high] =
        of.type === 'unsigned' ? [0, 2 ** of.bits - 1] : [-(2 ** (of.bits - 1)), 2 ** (of.bits - 1) - 1];
      return whole < low || whole > high
        ? wrong(`${whole} does not fit: it holds ${low} to ${high}`)
        : { ok: true, value: { type: of.type, value: whole } };
    }
    case 'float':
      return { ok: true, value: { type: 'float', value: counts, width: of.width === 64 ? 64 : 32 } };
    case 'structure': {
      // An analog value: as a number with a point, or as a whole one.
      const items: Data[] = [];
      for (const { name, of: part } of of.components) {
        if (name !== 'f' && name !== 'i') return wrong(`it takes ${name}, which is not known here`);
        // Beside a number with a point the whole one is what that is nearest to.
        const own = name === 'i' && of.components.length > 1 ? Math.round(counts) : counts;
        const inside = controlValue({ operation, counts: own }, part);
        if (!inside.ok) return inside;
        items.push(inside.value);
      }
      return { ok: true, value: { type: 'structure', items } };
    }
    case 'array':
    case 'bits':
    case 'octets':
    case 'text':
    case 'wideText':
    case 'binaryTime':
    case 'utcTime':
    case 'name':
      return wrong('it takes no number');
    default:
      return of satisfies never;
  }
}
