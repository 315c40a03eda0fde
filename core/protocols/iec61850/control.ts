import type { Refusal } from '../control.ts';
import type { Instant, Result } from '../../session/index.ts';
import type { AccessResult, Data, TypeOf } from '../mms/wire/data.ts';
import { encodeEntryTime, encodeStamp } from './time.ts';

/*
 * Controls (IEC 61850-7-2, clause 20; IEC 61850-8-1, clause 20): what is written to `Oper`, `SBOw` and `Cancel` of a data
 * object, and what its server says when it does not do it.
 *
 *   Oper, SBOw   ctlVal   operTm   origin { orCat, orIdent }   ctlNum   T   Test   Check (2 bits: synchrocheck, interlock)
 *   Cancel       the same without Check
 *   LastApplError   CntrlObj   Error   Origin { orCat, orIdent }   ctlNum   AddCause
 */

/** The control models, by the number that a server has for each (`ctlModel`). */
export const MODELS = [
  'statusOnly',
  'direct',
  'selectBeforeOperate',
  'directEnhanced',
  'selectBeforeOperateEnhanced',
] as const;
export type ControlModel = (typeof MODELS)[number];
export const isSelected = (model: ControlModel): boolean =>
  model === 'selectBeforeOperate' || model === 'selectBeforeOperateEnhanced';
/** The server says what came of it when the process is done (command termination). */
export const isEnhanced = (model: ControlModel): boolean =>
  model === 'directEnhanced' || model === 'selectBeforeOperateEnhanced';

/** Who operates, by category (IEC 61850-7-3: originator). */
export const ORIGIN_CATEGORIES = [
  'not supported',
  'bay',
  'station',
  'remote',
  'automatic bay',
  'automatic station',
  'automatic remote',
  'maintenance',
  'process',
] as const;

export interface Origin {
  category: number;
  identity: Uint8Array;
}

export interface ControlValue {
  value: Data;
  origin: Origin;
  /** Counts the controls of one client, 0 to 255. */
  number: number;
  time: Instant;
  test: boolean;
  synchrocheck: boolean;
  interlock: boolean;
}

/** Additional causes (IEC 61850-7-2, table 58; those from 24 on since edition 2). */
export const CAUSES = [
  'unknown',
  'not supported',
  'blocked by switching hierarchy',
  'select failed',
  'invalid position',
  'position reached',
  'parameter change in execution',
  'step limit',
  'blocked by mode',
  'blocked by process',
  'blocked by interlocking',
  'blocked by synchrocheck',
  'command already in execution',
  'blocked by health',
  'one of n control',
  'aborted by cancel',
  'time limit over',
  'aborted by trip',
  'object not selected',
  'object already selected',
  'no access authority',
  'ended with overshoot',
  'aborted due to deviation',
  'aborted by loss of communication',
  'blocked by command',
  'none',
  'inconsistent parameters',
  'locked by other client',
] as const;
export const causeWords = (cause: number): string => CAUSES[cause] ?? `cause ${cause}`;

const ERRORS = ['no error', 'unknown', 'time-out of the test', 'refused by the operator there'];

export interface ApplicationError {
  object: string;
  error: number;
  origin: Origin;
  number: number;
  cause: number;
}

export const applicationErrorWords = ({ error, cause }: ApplicationError): string =>
  error === 0 ? causeWords(cause) : `${causeWords(cause)} (${ERRORS[error] ?? `error ${error}`})`;

/**
 * What is written to `Oper`, `SBOw` or `Cancel`, in the parts that its type has; or why it cannot be. Edition 1 has times
 * of six octets.
 */
export function controlData(of: TypeOf, control: ControlValue): Result<Data, string> {
  if (of.type !== 'structure') return { ok: false, problem: 'it is no structure that can be operated' };
  const items: Data[] = [];
  for (const { name, of: part } of of.components) {
    const item = partOf(name, part, control);
    if (typeof item === 'string') return { ok: false, problem: item };
    items.push(item);
  }
  return { ok: true, value: { type: 'structure', items } };
}

function partOf(name: string, of: TypeOf, control: ControlValue): Data | string {
  const { value, origin, number, time, test, synchrocheck, interlock } = control;
  switch (name) {
    case 'ctlVal':
      return value;
    case 'origin':
      return {
        type: 'structure',
        items: [
          { type: 'integer', value: origin.category },
          { type: 'octets', octets: origin.identity },
        ],
      };
    case 'ctlNum':
      return { type: 'unsigned', value: number & 0xff };
    case 'T':
    case 'operTm':
      return timeOf(of, name === 'T' ? time : 0);
    case 'Test':
      return { type: 'boolean', value: test };
    case 'Check':
      return { type: 'bits', bits: [synchrocheck, interlock] };
    default:
      return `it wants ${name}, which is not known here`;
  }
}

function timeOf(of: TypeOf, time: Instant): Data {
  if (of.type === 'binaryTime') return { type: 'binaryTime', octets: encodeEntryTime(time) };
  const quality = { leapSecondsKnown: false, clockFailure: false, notSynchronised: false, accuracyBits: 10 };
  // A time of operation that is zero: at once.
  return { type: 'utcTime', octets: time === 0 ? new Uint8Array(8) : encodeStamp({ time, ...quality }) };
}

/** What a client has written, by the type of what it wrote to. */
export function controlOf(of: TypeOf, data: Data): Result<Omit<ControlValue, 'time'>, string> {
  const wrong = (problem: string): Result<Omit<ControlValue, 'time'>, string> => ({ ok: false, problem });
  if (of.type !== 'structure' || data.type !== 'structure') return wrong('it is no structure');
  if (of.components.length !== data.items.length)
    return wrong(`it has ${data.items.length} parts, of ${of.components.length}`);
  const part = (name: string): Data | undefined => data.items[of.components.findIndex((one) => one.name === name)];
  const value = part('ctlVal');
  if (value === undefined) return wrong('it has no value');
  const origin = originOf(part('origin'));
  const number = part('ctlNum');
  const test = part('Test');
  const check = part('Check');
  if (origin === null) return wrong('it does not say who operates');
  if (number?.type !== 'unsigned' && number?.type !== 'integer') return wrong('it has no control number');
  const [synchrocheck = false, interlock = false] = check?.type === 'bits' ? check.bits : [];
  return {
    ok: true,
    value: {
      ...{ value, origin, number: Number(number.value) },
      ...{ test: test?.type === 'boolean' && test.value, synchrocheck, interlock },
    },
  };
}

function originOf(data: AccessResult | undefined): Origin | null {
  if (data?.type !== 'structure') return null;
  const [category, identity] = data.items;
  if (category?.type !== 'integer' && category?.type !== 'unsigned') return null;
  return {
    category: Number(category.value),
    identity: identity?.type === 'octets' ? identity.octets : new Uint8Array(),
  };
}

/** `LastApplError`, as a report of the variable of that name brings it. */
export function applicationErrorOf(data: AccessResult): Result<ApplicationError, string> {
  const wrong = (problem: string): Result<ApplicationError, string> => ({ ok: false, problem });
  if (data.type !== 'structure' || data.items.length !== 5) return wrong('it has not the five parts of LastApplError');
  const [object, error, origin, number, cause] = data.items;
  const from = originOf(origin);
  const numbers = [error, number, cause].map((one) =>
    one.type === 'integer' || one.type === 'unsigned' ? Number(one.value) : NaN,
  );
  if (object.type !== 'text' || from === null || numbers.some(Number.isNaN))
    return wrong('a part of LastApplError is of another type');
  return {
    ok: true,
    value: { object: object.text, error: numbers[0], origin: from, number: numbers[1], cause: numbers[2] },
  };
}

export const applicationErrorData = ({ object, error, origin, number, cause }: ApplicationError): Data => ({
  type: 'structure',
  items: [
    { type: 'text', text: object, wide: false },
    { type: 'integer', value: error },
    {
      type: 'structure',
      items: [
        { type: 'integer', value: origin.category },
        { type: 'octets', octets: origin.identity },
      ],
    },
    { type: 'unsigned', value: number },
    { type: 'integer', value: cause },
  ],
});

/** What an additional cause means to whoever speaks another protocol; and the cause for what another protocol means. */
const REFUSALS: Partial<Record<(typeof CAUSES)[number], Refusal>> = {
  'not supported': 'notSupported',
  'blocked by switching hierarchy': 'local',
  'select failed': 'notSelected',
  'position reached': 'already',
  'step limit': 'outOfRange',
  'blocked by interlocking': 'interlocked',
  'blocked by synchrocheck': 'interlocked',
  'command already in execution': 'busy',
  'one of n control': 'interlocked',
  'aborted by cancel': 'cancelled',
  'object not selected': 'notSelected',
  'object already selected': 'busy',
  'no access authority': 'notAuthorized',
  'aborted by loss of communication': 'lost',
  'blocked by command': 'interlocked',
  'inconsistent parameters': 'outOfRange',
  'locked by other client': 'busy',
};
export const refusalOf = (cause: number): Refusal => {
  const words = CAUSES[cause] as (typeof CAUSES)[number] | undefined;
  return (words && REFUSALS[words]) ?? 'other';
};
export const CAUSE_WORDS_OF: Readonly<Record<Refusal, (typeof CAUSES)[number]>> = {
  local: 'blocked by switching hierarchy',
  interlocked: 'blocked by interlocking',
  notSelected: 'object not selected',
  busy: 'command already in execution',
  already: 'position reached',
  cancelled: 'aborted by cancel',
  notSupported: 'not supported',
  outOfRange: 'inconsistent parameters',
  notAuthorized: 'no access authority',
  lost: 'aborted by loss of communication',
  other: 'blocked by process',
};
