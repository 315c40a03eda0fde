import type { ClientPoint } from '../../client.ts';
import { ask, demand, Refusal, type Dialogue } from '../../mms/dialogue.ts';
import { accessErrorWords, type TypeOf } from '../../mms/wire/data.ts';
import { nameWords, type ObjectName } from '../../mms/wire/names.ts';
import type { Variable } from '../../mms/wire/services.ts';
import { packedSize } from '../blocks.ts';
import { nameOfPoint, type TaseAt } from '../points.ts';
import type { ClientSettings } from '../settings.ts';
import { ATTRIBUTES, CONDITIONS, nameOf, SPECIAL, wantedData, type TransferSetValues } from '../transfer.ts';

/*
 * A data set of ours and the transfer set that reports it (IEC 60870-6-503, 7.1; from memory).
 *
 * step     what is asked                                           when it is refused
 * -------  ------------------------------------------------------  -----------------------------------------------
 * define   the data set, with what says which report it is         deleted, if it is an old one of ours, and again;
 *                                                                  then failed
 * next     Next_DSTransfer_Set is read: the name of a free one     failed: none is free
 * ask      its attributes are written, all of them at once         part by part, the one that enables it last
 */

/** Points that are reported together. */
export interface Subscribed {
  dataSet: ObjectName;
  transferSet: ObjectName;
  points: readonly ClientPoint<TaseAt>[];
  /** What the members of the data set are, in their order; null: none of the points. */
  members: readonly (ClientPoint<TaseAt> | null)[];
  /** The same by their names, and, where reports are packed, their types; null: they are not. */
  names: readonly ObjectName[];
  byName: ReadonlyMap<string, ClientPoint<TaseAt>>;
  types: readonly TypeOf[] | null;
}

/** A critical report is repeated after so many seconds. */
const REPEAT_S = 10;

const HEAD = [SPECIAL.setName, SPECIAL.conditions, SPECIAL.time] as const;
const inDomain = (domain: string, item: string): ObjectName => ({ scope: 'domain', domain, item });

/** What stands in front of the data, as far as the peer has it; `names`: those of its domain, null: not told. */
function headOf(domain: string, names: ReadonlySet<string> | null): Variable[] {
  return HEAD.filter((one) => names === null || names.has(one)).map((one) => ({ name: inDomain(domain, one) }));
}

export function* subscribe(
  points: readonly ClientPoint<TaseAt>[],
  item: string,
  names: ReadonlySet<string> | null,
  { domain, integrityMs, bufferMs, critical, pollMs }: ClientSettings,
  { packed, byException }: { packed: boolean; byException: boolean },
): Dialogue<Subscribed> {
  const dataSet = inDomain(domain, item);
  const head = headOf(domain, names);
  const variables = [...head, ...points.map(({ at }) => ({ name: nameOfPoint(at) }))];
  const first = yield* ask('defineList', { name: dataSet, names: variables });
  if (!first.ok) {
    // One that an earlier session of ours has left.
    yield* ask('deleteList', { names: [dataSet] });
    yield* demand('defineList', { name: dataSet, names: variables }, `data set ${dataSet.item}`);
  }
  const told = packed ? yield* typesOf(variables) : null;
  // A point that cannot be packed would be left out, and nobody would know.
  const types = told?.slice(head.length).every((one) => packedSize(one) !== null) ? told : null;
  const next = yield* demand(
    'read',
    { variables: { names: [{ name: inDomain(domain, SPECIAL.next) }] } },
    'the next transfer set',
  );
  const transferSet = nameOf(next.results[0]);
  if (transferSet === null) throw new Refusal('no transfer set is free');
  yield* write(transferSet, {
    ...{ dataSet, start: 0, eventCode: 0, blocked: types !== null, critical, enabled: true },
    limit: critical ? REPEAT_S : 0,
    ...(byException
      ? {
          ...{ interval: 0, buffer: Math.ceil(bufferMs / 1000), integrity: Math.ceil(integrityMs / 1000) },
          conditions: ['object change', ...(integrityMs > 0 ? (['integrity time-out'] as const) : [])],
          ...{ byException: true, all: true },
        }
      : {
          // A peer that has no reports by exception tells everything in intervals (conformance block 1).
          ...{ interval: Math.max(1, Math.ceil((pollMs || integrityMs) / 1000)), buffer: 0, integrity: 0 },
          ...{ conditions: ['interval time-out'], byException: false, all: false },
        }),
  });
  const members = [...head.map(() => null), ...points];
  const byName = new Map(points.map((point) => [nameWords(nameOfPoint(point.at)), point] as const));
  return { dataSet, transferSet, points, members, names: variables.map(({ name }) => name), byName, types };
}

/** What the members are; null: one of them does not say. */
function* typesOf(variables: readonly Variable[]): Dialogue<TypeOf[] | null> {
  const types: TypeOf[] = [];
  for (const { name } of variables) {
    const answer = yield* ask('attributes', { name });
    if (!answer.ok) return null;
    types.push(answer.response.of);
  }
  return types;
}

function* write(set: ObjectName, wanted: TransferSetValues): Dialogue<void> {
  const data = wantedData(wanted);
  const whole = yield* ask('write', { variables: { names: [{ name: set }] }, values: [data] });
  const error = whole.ok ? (whole.response.results[0] ?? null) : 0;
  if (whole.ok && error === null) return;
  if (data.type !== 'structure' || set.scope === 'association') return;
  // A peer may take its attributes one by one only.
  const wordsOf = (code: number): string => `transfer set ${set.item}: ${accessErrorWords(code)}`;
  for (const attribute of [
    'DataSetName',
    'Interval',
    'BufferTime',
    'IntegrityCheck',
    'DSConditionsRequested',
    'TLE',
    ...(data.items[ATTRIBUTES.indexOf('BlockData')].type === 'boolean' && wanted.blocked ? ['BlockData'] : []),
    'Critical',
    'RBE',
    'Status',
  ]) {
    const name = { ...set, item: `${set.item}$${attribute}` };
    const value = data.items[ATTRIBUTES.indexOf(attribute)];
    const request = { variables: { names: [{ name }] }, values: [value] };
    const { results } = yield* demand('write', request, `transfer set ${set.item}`);
    const [refused = null] = results;
    if (refused !== null) throw new Refusal(wordsOf(whole.ok && error !== null ? error : refused));
  }
}

/** Lets go of it; what the peer says to that changes nothing any more. */
export function* unsubscribe({ dataSet, transferSet }: Subscribed): Dialogue<void> {
  if (transferSet.scope !== 'domain') return;
  const name = { ...transferSet, item: `${transferSet.item}$Status` };
  yield* ask('write', { variables: { names: [{ name }] }, values: [{ type: 'boolean', value: false }] });
  yield* ask('deleteList', { names: [dataSet] });
}

export const conditionWords = (conditions: readonly (typeof CONDITIONS)[number][]): string =>
  conditions.length === 0 ? '' : ` (${conditions.join(', ')})`;
