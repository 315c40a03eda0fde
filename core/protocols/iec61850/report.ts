import type { Result } from '../../session/index.ts';
import type { AccessResult, Data } from '../mms/wire/data.ts';

/*
 * Reports (IEC 61850-7-2, clause 17; their order of values after IEC 61850-8-1, 17.2). An information report of the list
 * RPT has one after the other:
 *
 *   report id   optional fields, 10 bits: 1 sequence number, 2 time, 3 reasons, 4 name of the data set, 5 references,
 *                                         6 buffer overflow, 7 entry id, 8 revision, 9 segmentation
 *   then, each where its bit is set: sequence number, time of entry, data set, overflow, entry id, revision,
 *   sub-sequence number and whether more segments follow
 *   inclusion, a bit for each member of the data set
 *   of each member that is there: its reference (bit 5); then all values; then their reasons (bit 3)
 */

/** Optional fields, by their bits. */
export const OPTION = {
  sequence: 1,
  time: 2,
  reasons: 3,
  dataSet: 4,
  references: 5,
  overflow: 6,
  entry: 7,
  revision: 8,
  segments: 9,
} as const;
export const OPTION_BITS = 10;

/** Why a member is in a report, by its bits (IEC 61850-8-1, 17.2.3; the last one since edition 2). */
export const REASONS = [
  'reserved',
  'data change',
  'quality change',
  'data update',
  'integrity',
  'general interrogation',
  'application',
] as const;
export type Reason = (typeof REASONS)[number];

export interface ReportMember {
  /** Its place in the data set. */
  place: number;
  /** As the server names it; null: it does not. */
  reference: string | null;
  value: AccessResult;
  /** Empty: not said. */
  reasons: readonly Reason[];
  /** The message that it came in, and its number among the values there; absent: it is not from one. */
  from?: { message: Uint8Array; at: number };
}

export interface Report {
  id: string;
  sequence: number | null;
  /** Six octets: see `decodeEntryTime`. */
  time: Uint8Array | null;
  dataSet: string | null;
  /** Entries were lost in the buffer before this one. */
  overflow: boolean | null;
  /** By which a buffered report goes on. */
  entry: Uint8Array | null;
  revision: number | null;
  segment: { number: number; more: boolean } | null;
  /** Members of the data set. */
  size: number;
  members: readonly ReportMember[];
}

/** More members than any data set has. */
const MAX_MEMBERS = 10_000;

class NotAReport extends Error {}

/** `message`: the octets that the values stand in. */
export function decodeReport(results: readonly AccessResult[], message?: Uint8Array): Result<Report, string> {
  try {
    return { ok: true, value: reportOf(results, message) };
  } catch (error) {
    if (error instanceof NotAReport) return { ok: false, problem: error.message };
    throw error;
  }
}

function reportOf(results: readonly AccessResult[], message: Uint8Array | undefined): Report {
  let at = 0;
  const next = <Type extends Data['type']>(type: Type, what: string): Extract<Data, { type: Type }> => {
    const value = results[at++];
    if (value === undefined) throw new NotAReport(`it ends before its ${what}`);
    if (value.type !== type) throw new NotAReport(`its ${what} is no ${type}, but ${value.type}`);
    return value as Extract<Data, { type: Type }>;
  };
  const number = (what: string): number => {
    const value = results[at++];
    if (value === undefined) throw new NotAReport(`it ends before its ${what}`);
    if (value.type !== 'unsigned' && value.type !== 'integer') throw new NotAReport(`its ${what} is no number`);
    return Number(value.value);
  };
  const { text: id } = next('text', 'report id');
  const { bits: options } = next('bits', 'optional fields');
  const has = (option: number): boolean => options[option] ?? false;
  const head = {
    id,
    sequence: has(OPTION.sequence) ? number('sequence number') : null,
    time: has(OPTION.time) ? next('binaryTime', 'time').octets : null,
    dataSet: has(OPTION.dataSet) ? next('text', 'data set').text : null,
    overflow: has(OPTION.overflow) ? next('boolean', 'overflow').value : null,
    entry: has(OPTION.entry) ? next('octets', 'entry id').octets : null,
    revision: has(OPTION.revision) ? number('revision') : null,
    segment: has(OPTION.segments)
      ? { number: number('number of the segment'), more: next('boolean', 'sign of more segments').value }
      : null,
  };
  const { bits: inclusion } = next('bits', 'inclusion');
  if (inclusion.length > MAX_MEMBERS) throw new NotAReport(`its data set has ${inclusion.length} members`);
  const places = inclusion.flatMap((is, place) => (is ? [place] : []));
  const references = has(OPTION.references) ? places.map(() => next('text', 'references').text) : null;
  const first = at;
  const values = places.map(() => {
    const value = results[at++];
    if (value === undefined) throw new NotAReport(`it has fewer values than the ${places.length} that are included`);
    return value;
  });
  const reasons = has(OPTION.reasons) ? places.map(() => reasonsOf(next('bits', 'reasons').bits)) : null;
  if (at < results.length) throw new NotAReport(`${results.length - at} values are left over`);
  const members = places.map((place, n) => ({
    ...{ place, value: values[n] },
    ...{ reference: references?.[n] ?? null, reasons: reasons?.[n] ?? [] },
    ...(message === undefined ? {} : { from: { message, at: first + n } }),
  }));
  return { ...head, size: inclusion.length, members };
}

const reasonsOf = (bits: readonly boolean[]): Reason[] => REASONS.filter((_, bit) => bits[bit]);

/** The values of a report, in the order in which they go out. */
export function encodeReport(report: Report): AccessResult[] {
  const { id, sequence, time, dataSet, overflow, entry, revision, segment, size } = report;
  // Which they are is told by bits alone: they go in the order of the data set.
  const members = [...report.members].sort((a, b) => a.place - b.place);
  const withReferences = members.length > 0 && members.every(({ reference }) => reference !== null);
  const withReasons = members.length > 0 && members.every(({ reasons }) => reasons.length > 0);
  const options = new Array<boolean>(OPTION_BITS).fill(false);
  const included = new Array<boolean>(size).fill(false);
  for (const { place } of members) included[place] = true;
  const out: AccessResult[] = [];
  /** A field that is only there when it has something to say. */
  const optional = (option: number, value: AccessResult | null): void => {
    options[option] = value !== null;
    if (value !== null) out.push(value);
  };
  const text = (value: string): Data => ({ type: 'text', text: value, wide: false });
  const unsigned = (value: number): Data => ({ type: 'unsigned', value });
  optional(OPTION.sequence, sequence === null ? null : unsigned(sequence));
  optional(OPTION.time, time === null ? null : { type: 'binaryTime', octets: time });
  optional(OPTION.dataSet, dataSet === null ? null : text(dataSet));
  optional(OPTION.overflow, overflow === null ? null : { type: 'boolean', value: overflow });
  optional(OPTION.entry, entry === null ? null : { type: 'octets', octets: entry });
  optional(OPTION.revision, revision === null ? null : unsigned(revision));
  optional(OPTION.segments, segment === null ? null : unsigned(segment.number));
  if (segment !== null) out.push({ type: 'boolean', value: segment.more });
  options[OPTION.references] = withReferences;
  options[OPTION.reasons] = withReasons;
  out.push({ type: 'bits', bits: included });
  if (withReferences) for (const { reference } of members) out.push(text(reference ?? ''));
  for (const { value } of members) out.push(value);
  if (withReasons)
    for (const { reasons } of members) out.push({ type: 'bits', bits: REASONS.map((one) => reasons.includes(one)) });
  return [text(id), { type: 'bits', bits: options }, ...out];
}

/** Why members are in a report, each reason once. */
export const reasonsIn = ({ members }: Pick<Report, 'members'>): string[] => [
  ...new Set(members.flatMap((one) => one.reasons)),
];

/** The same in words: ` (data change)`; empty: it does not say. */
export function reasonsWords(report: Pick<Report, 'members'>): string {
  const reasons = reasonsIn(report);
  return reasons.length > 0 ? ` (${reasons.join(', ')})` : '';
}

/** What a report says, for people: `rptF1 seq 41: 3 of 12 (data change)`. */
export function reportWords({ id, sequence, overflow, segment, size, members }: Report): string {
  const parts = [
    `${id}${sequence === null ? '' : ` seq ${sequence}`}${segment === null ? '' : ` part ${segment.number}`}:`,
    `${members.length} of ${size}${reasonsWords({ members })}`,
    ...(overflow ? ['after an overflow of the buffer'] : []),
  ];
  return parts.join(' ');
}

/** What came of a report that may be a segment of one. */
export interface Assembled {
  /** Null: more is to come, or it is spoilt. */
  report: Report | null;
  /** What was lost; null: nothing. */
  problem: string | null;
}

/** Puts the segments of reports together; one that is missing spoils its report, which is said. */
export class Segments {
  private parts: Report[] = [];

  take(report: Report): Assembled {
    const { segment } = report;
    const before = this.parts;
    const goesOn =
      segment !== null &&
      segment.number === before.length &&
      (before.length === 0 || (before[0].id === report.id && before[0].sequence === report.sequence));
    const problem =
      before.length > 0 && !goesOn
        ? `the rest of a report of ${before[0].id} in segments did not come`
        : segment !== null && !goesOn && segment.number > 0
          ? `segment ${segment.number} of ${report.id} came without those before it`
          : null;
    this.parts = [];
    if (segment === null) return { report, problem };
    if (!goesOn && segment.number > 0) return { report: null, problem };
    const parts = [...(goesOn ? before : []), report];
    if (parts.length > MAX_SEGMENTS)
      return { report: null, problem: `more than ${MAX_SEGMENTS} segments of ${report.id}` };
    if (segment.more) {
      this.parts = parts;
      return { report: null, problem };
    }
    return { report: { ...report, segment: null, members: parts.flatMap(({ members }) => members) }, problem };
  }
}
const MAX_SEGMENTS = 1000;
