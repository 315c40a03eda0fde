import type { Instant } from '../../../../session/index.ts';
import type { OrderAnswer } from '../../../client.ts';
import { allNames, ask, demand, Refusal, type Dialogue } from '../../../mms/dialogue.ts';
import { accessErrorWords, type AccessResult, type Data, type TypeOf } from '../../../mms/wire/data.ts';
import type { Variable } from '../../../mms/wire/services.ts';
import { typeIn } from '../../model/model.ts';
import { fromMms, print, toMms, type Constraint, type Reference } from '../../model/reference.ts';
import { decodeEntryTime } from '../../time.ts';
import { attributeWords, leavesIn } from '../attributes.ts';
import { controlValue } from '../controls.ts';

export type Inquiry = Dialogue<OrderAnswer>;

/** Variables of one request. */
const AT_ONCE = 40;

export const variable = (domain: string, item: string): Variable => ({ name: { scope: 'domain', domain, item } });
export const placeOf = (reference: Reference): Variable => {
  const { domain, item, part } = toMms(reference);
  return { name: { scope: 'domain', domain, item }, ...(part.length > 0 ? { part } : {}) };
};

export function* devicesOf(): Dialogue<string[]> {
  const names = yield* allNames('domain', null);
  if (names === null) throw new Refusal('its logical devices: not told');
  return names;
}

/** Values in their order; what cannot be read is a failure. */
export function* readAll(variables: readonly Variable[]): Dialogue<AccessResult[]> {
  const values: AccessResult[] = [];
  for (let from = 0; from < variables.length; from += AT_ONCE) {
    const names = variables.slice(from, from + AT_ONCE);
    const answer = yield* ask('read', { variables: { names } });
    names.forEach((_, at) =>
      values.push((answer.ok ? answer.response.results[at] : undefined) ?? { type: 'failure', code: NOT_THERE }),
    );
  }
  return values;
}
const NOT_THERE = 10;

/** Attributes of a logical device with their values, object by object as the device names them. */
export function* valuesWith(
  device: string,
  takes: (fc: Constraint) => boolean,
): Dialogue<{ reference: Reference; data: AccessResult }[]> {
  const names = (yield* allNames('variable', device)) ?? [];
  const objects = names.flatMap((item) => {
    const read = fromMms(device, item);
    return read.ok && read.value.path.length === 1 && takes(read.value.fc) ? [read.value] : [];
  });
  const values = yield* readAll(objects.map(placeOf));
  const types = new Map<string, TypeOf | null>();
  const found: { reference: Reference; data: AccessResult }[] = [];
  for (const [at, whole] of objects.entries()) {
    const { node } = whole;
    if (!types.has(node)) types.set(node, yield* typeOf(variable(device, node)));
    const type = types.get(node);
    const of = type ? typeIn(type, whole) : null;
    const data = values[at];
    if (of === null || data.type === 'failure') found.push({ reference: whole, data });
    else
      for (const { path, data: inside } of leavesIn(of, data))
        found.push({ reference: { ...whole, path: [...whole.path, ...path] }, data: inside });
  }
  return found;
}

/** Writes one value; a refusal ends the whole. */
export function* write(place: Variable, value: Data, what: string): Dialogue<void> {
  const { results } = yield* demand('write', { variables: { names: [place] }, values: [value] }, what);
  const [error = null] = results;
  if (error !== null) throw new Refusal(`${what}: ${accessErrorWords(error)}`);
}

/** Null: it is not told, or not there. */
export function* typeOf(place: Variable): Dialogue<TypeOf | null> {
  const answer = yield* ask('attributes', { name: place.name });
  return answer.ok ? answer.response.of : null;
}

export const numberIn = (data: AccessResult | undefined): number | null =>
  data?.type === 'unsigned' || data?.type === 'integer' ? Number(data.value) : null;
export const yes = (data: AccessResult | undefined): boolean => data?.type === 'boolean' && data.value;
export const words = (path: readonly string[], data: AccessResult | null | undefined): string =>
  data == null || data.type === 'failure' ? '–' : attributeWords(path, data);

/** What of a structure is its value, and its quality, in words. */
export function shownOf(of: TypeOf | null, data: AccessResult): [value: string, quality: string] {
  if (data.type === 'failure') return ['–', ''];
  if (of === null) return [words([], data), ''];
  const leaves = leavesIn(of, data);
  const value = leaves.find(({ path }) => VALUE.test(path[0] ?? '')) ?? leaves[0];
  const quality = leaves.find(({ path }) => path.at(-1) === 'q');
  return [words(value?.path ?? [], value?.data), quality === undefined ? '' : words(quality.path, quality.data)];
}
const VALUE = /^(stVal|mag|cVal|general|actVal|mxVal|phsA)$/;

export const timeWords = (time: Instant | null): string =>
  time === null || time <= 0 ? '–' : new Date(time).toISOString().slice(0, 23).replace('T', ' ');
export const entryTime = (data: AccessResult | undefined): Instant | null =>
  data?.type === 'binaryTime' && data.octets.some((octet) => octet !== 0) ? decodeEntryTime(data.octets) : null;

/** What somebody typed, as the device's type of value has it. */
export function typed(of: TypeOf, text: string, reference: Reference): Data {
  const given = text.trim();
  const isText = of.type === 'text' || of.type === 'wideText';
  const counts = /^(true|on|yes)$/i.test(given) ? 1 : /^(false|off|no)$/i.test(given) ? 0 : Number(given);
  if (!isText && (given === '' || !Number.isFinite(counts)))
    throw new Refusal(`${print(reference)}: "${given.slice(0, 40)}" is no number; nothing was sent`);
  // Two bits are a position: 0 between, 1 off, 2 on, 3 bad state.
  if (of.type === 'bits' && Math.abs(of.size) === 2) {
    if (!Number.isInteger(counts) || counts < 0 || counts > 3)
      throw new Refusal(`${print(reference)}: a position is 0 to 3, not ${given}; nothing was sent`);
    return { type: 'bits', bits: [(counts & 2) !== 0, (counts & 1) !== 0] };
  }
  const data = controlValue({ operation: null, ...(isText ? { counts: null, text } : { counts }) }, of);
  if (!data.ok) throw new Refusal(`${print(reference)}: ${data.problem}; nothing was sent`);
  return data.value;
}
