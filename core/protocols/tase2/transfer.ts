import type { AccessResult, Data, TypeOf } from '../mms/wire/data.ts';
import type { ObjectName } from '../mms/wire/names.ts';
import { MESSAGES } from './messages.ts';

/*
 * Data set transfer sets (IEC 60870-6-503, clause 7.1, and -702; from memory): what a client asks of one, as one structure
 * in the order of `ATTRIBUTES`, and what stands in a report in front of the data.
 */

/** Names that every agreement has beside its points. */
export const SPECIAL = {
  version: 'TASE2_Version',
  features: 'Supported_Features',
  table: 'Bilateral_Table_ID',
  next: 'Next_DSTransfer_Set',
  setName: 'Transfer_Set_Name',
  conditions: 'DSConditions_Detected',
  event: 'Event_Code_Detected',
  time: 'Transfer_Set_Time_Stamp',
  acknowledge: 'Transfer_Report_ACK',
  refuse: 'Transfer_Report_NACK',
  ...{ messages: MESSAGES.set, header: MESSAGES.header, buffer: MESSAGES.buffer },
} as const;
/** Names of the acknowledgement that are in use (from memory): whichever the other end has. */
export const ACKNOWLEDGEMENTS: readonly string[] = [SPECIAL.acknowledge, 'DSTransfer_Report_ACK'];
export const SPECIAL_NAMES: ReadonlySet<string> = new Set([...Object.values(SPECIAL), ...ACKNOWLEDGEMENTS]);

/** What a client tells of a critical report that it has: which, by its set and its time. */
export const ACK_TYPE = (): TypeOf => structure(['TransferSetName', NAME_TYPE], ['TimeStamp', INT32]);
export const ackData = (set: ObjectName, seconds: number): Data => ({
  type: 'structure',
  items: [nameData(set), { type: 'integer', value: seconds }],
});

/** Conditions, by their bits. */
export const CONDITIONS = [
  'interval time-out',
  'integrity time-out',
  'object change',
  'operator request',
  'other external event',
] as const;
export type Condition = (typeof CONDITIONS)[number];
export const conditionBits = (...on: readonly Condition[]): Data => ({
  type: 'bits',
  bits: CONDITIONS.map((one) => on.includes(one)),
});
export const conditionsOf = (data: AccessResult | undefined): Condition[] =>
  data?.type === 'bits' ? CONDITIONS.filter((_, at) => data.bits[at]) : [];

/** Features, by their bits: the conformance blocks 1 to 9. */
export const BLOCKS = { periodic: 0, exception: 1, blocked: 2, messages: 3, control: 4 } as const;
export const featureBits = (...on: readonly number[]): Data => ({
  type: 'bits',
  bits: Array.from({ length: 12 }, (_, at) => on.includes(at)),
});

const INT32: TypeOf = { type: 'integer', bits: 32 };
const BOOLEAN: TypeOf = { type: 'boolean' };
const IDENTIFIER: TypeOf = { type: 'text', size: -32 };
const structure = (...components: readonly (readonly [string, TypeOf])[]): TypeOf => ({
  type: 'structure',
  components: components.map(([name, of]) => ({ name, of })),
});
/** The name of an object as a value: its scope is 0 for the whole centre, 1 for a domain, 2 for an association. */
export const NAME_TYPE = structure(
  ['Scope', { type: 'unsigned', bits: 8 }],
  ['DomainName', IDENTIFIER],
  ['Name', IDENTIFIER],
);
export const VERSION_TYPE = structure(['MajorVersionNumber', INT32], ['MinorVersionNumber', INT32]);

const text = (value: string): Data => ({ type: 'text', text: value, wide: false });
const SCOPES = ['vmd', 'domain', 'association'] as const;

export const nameData = (name: ObjectName): Data => ({
  type: 'structure',
  items: [
    { type: 'unsigned', value: SCOPES.indexOf(name.scope) },
    text(name.scope === 'domain' ? name.domain : ''),
    text(name.item),
  ],
});
/** Null: it is no name. */
export function nameOf(data: AccessResult | undefined): ObjectName | null {
  if (data?.type !== 'structure' || data.items.length !== 3) return null;
  const [scope, domain, item] = data.items;
  if (domain.type !== 'text' || item.type !== 'text' || item.text === '') return null;
  const number = scope.type === 'unsigned' || scope.type === 'integer' ? Number(scope.value) : -1;
  // Whoever numbers scopes in another way means a domain where one is named.
  return domain.text !== ''
    ? { scope: 'domain', domain: domain.text, item: item.text }
    : { scope: number === 2 ? 'association' : 'vmd', item: item.text };
}

/** What a client wants of a transfer set; times in seconds. */
export interface TransferSetValues {
  dataSet: ObjectName;
  start: number;
  interval: number;
  limit: number;
  buffer: number;
  integrity: number;
  conditions: readonly Condition[];
  blocked: boolean;
  critical: boolean;
  byException: boolean;
  all: boolean;
  enabled: boolean;
  /** Of the external event. */
  eventCode: number;
}

export const SET_TYPE = structure(
  ['DataSetName', NAME_TYPE],
  ['StartTime', INT32],
  ['Interval', INT32],
  ['TLE', INT32],
  ['BufferTime', INT32],
  ['IntegrityCheck', INT32],
  ['DSConditionsRequested', { type: 'bits', size: 5 }],
  ['BlockData', BOOLEAN],
  ['Critical', BOOLEAN],
  ['RBE', BOOLEAN],
  ['AllChangesReported', BOOLEAN],
  ['Status', BOOLEAN],
  ['EventCodeRequested', { type: 'integer', bits: 16 }],
);
export const ATTRIBUTES = SET_TYPE.type === 'structure' ? SET_TYPE.components.map(({ name }) => name) : [];

export function wantedData(wanted: TransferSetValues): Data {
  const number = (value: number): Data => ({ type: 'integer', value: Math.round(value) });
  const flag = (value: boolean): Data => ({ type: 'boolean', value });
  return {
    type: 'structure',
    items: [
      nameData(wanted.dataSet),
      ...[wanted.start, wanted.interval, wanted.limit, wanted.buffer, wanted.integrity].map(number),
      conditionBits(...wanted.conditions),
      ...[wanted.blocked, wanted.critical, wanted.byException, wanted.all, wanted.enabled].map(flag),
      number(wanted.eventCode),
    ],
  };
}
