import type { Instant } from '../../../session/index.ts';
import type { TypeOf } from '../../mms/wire/data.ts';
import type { Variable, Variables } from '../../mms/wire/services.ts';
import { typeIn } from '../model/model.ts';
import { toMms, type Reference } from '../model/reference.ts';
import type { DataSet } from './blocks.ts';
import { broughtBy, placed, type NodeTypes, type Placing, type Wanted } from './wanted.ts';

/** One request of a round, with what it brings. */
export interface PlannedRead {
  variables: Variables;
  members: readonly Reference[];
  placings: readonly (readonly Placing[])[];
  words: string;
}

/** Octets that a value may take in a message, with what stands around it. */
export function octetsOfType(of: TypeOf): number {
  switch (of.type) {
    case 'structure':
      return 4 + of.components.reduce((sum, one) => sum + octetsOfType(one.of), 0);
    case 'array':
      return 4 + of.count * octetsOfType(of.element);
    case 'boolean':
      return 3;
    case 'bits':
      return 4 + Math.ceil(Math.abs(of.size) / 8);
    case 'octets':
    case 'text':
    case 'wideText':
      return 4 + Math.min(MOST_TEXT, Math.abs(of.size));
    case 'integer':
    case 'unsigned':
      return 3 + of.bits / 8;
    case 'float':
      return 3 + of.width / 8;
    case 'binaryTime':
      return 8;
    case 'utcTime':
      return 10;
    case 'name':
      return 20;
    default:
      return of satisfies never;
  }
}
const MOST_TEXT = 255;
/** A device has to have room for all of a request's names, and for what it answers. */
const MOST_VARIABLES = 60;
const NAME_OCTETS = 24;
/** A data set is read as such when at least this part of it is wanted. */
const WORTH_IT = 0.5;

/** The name of a variable, and which part of it. */
export const variableOf = (reference: Reference): Variable => {
  const { domain, item, part } = toMms(reference);
  return { name: { scope: 'domain', domain, item }, ...(part.length > 0 ? { part } : {}) };
};

/** The requests that bring what is wanted: data sets first, the rest by name, as much in each as fits `size` octets. */
export function planReads(
  wanted: readonly Wanted[],
  sets: readonly DataSet[],
  types: NodeTypes,
  size: number,
): PlannedRead[] {
  const reads: PlannedRead[] = [];
  const missing = new Set(wanted);
  for (const set of sets) {
    const placings = placed(set.members, [...missing], types);
    const brings = broughtBy(placings);
    const used = placings.filter((ones) => ones.length > 0).length;
    if (brings.size < 2 || used < set.members.length * WORTH_IT) continue;
    const octets = set.members.reduce((sum, one) => sum + octetsAt(one, types), 0);
    if (octets > size * FULL) continue;
    const slash = set.name.indexOf('/');
    const list = { scope: 'domain' as const, domain: set.name.slice(0, slash), item: set.name.slice(slash + 1) };
    const words = `data set ${set.name}`;
    reads.push({ variables: { list }, members: set.members, placings, words });
    for (const one of brings) missing.delete(one);
  }
  const wholes = new Map<string, Reference>();
  for (const { whole } of missing) wholes.set(keyOf(whole), whole);
  let members: Reference[] = [];
  let octets = 0;
  const left = [...missing];
  const end = (): void => {
    if (members.length === 0) return;
    const words = `${members.length} ${members.length === 1 ? 'object' : 'objects'} from ${keyOf(members[0])} on`;
    const variables = { names: members.map(variableOf) };
    reads.push({ variables, members, placings: placed(members, left, types), words });
    [members, octets] = [[], 0];
  };
  for (const whole of wholes.values()) {
    const own = octetsAt(whole, types);
    const asked = (members.length + 1) * (NAME_OCTETS + MOST_NAME);
    if (members.length >= MOST_VARIABLES || octets + own > size * FULL || asked > size * FULL) end();
    members.push(whole);
    octets += own;
  }
  end();
  return reads;
}
/** The same in smaller pieces, for a device that does not answer it whole; null: it is one value. */
export function inPieces({ members, placings }: PlannedRead, types: NodeTypes): PlannedRead[] | null {
  const wanted = [...new Set(placings.flat().map((one) => one.wanted))];
  const read = (some: readonly Reference[]): PlannedRead => ({
    variables: { names: some.map(variableOf) },
    members: some,
    placings: placed(some, wanted, types),
    words: `${some.length} ${some.length === 1 ? 'object' : 'objects'} from ${keyOf(some[0])} on`,
  });
  const unique = (references: readonly Reference[]): Reference[] => [
    ...new Map(references.map((one) => [keyOf(one), one] as const)).values(),
  ];
  const wholes = unique(wanted.map(({ whole }) => whole));
  if (wholes.length > 1) {
    const middle = wholes.length >> 1;
    return [read(wholes.slice(0, middle)), read(wholes.slice(middle))];
  }
  const parts = unique(wanted.flatMap((one) => [one.value, one.quality, one.time].filter((part) => part !== null)));
  const isPart = members.length === 1 && parts.some((one) => keyOf(one) === keyOf(members[0]));
  return isPart || parts.length === 0 ? null : parts.map((one) => read([one]));
}

/** How much of a message its values may take. */
const FULL = 0.9;
const MOST_NAME = 40;

const octetsAt = (reference: Reference, types: NodeTypes): number => {
  const node = types(reference.device, reference.node);
  const of = node && typeIn(node, reference);
  return of === null ? NAME_OCTETS : octetsOfType(of);
};
const keyOf = ({ device, node, fc, path }: Reference): string => `${device}/${[node, ...path].join('.')}[${fc}]`;

/** Requests that go out again and again. */
export interface Round {
  read: PlannedRead;
  periodMs: number;
  due: Instant | null;
  underWay: boolean;
  /** It was asked at least once. */
  asked: boolean;
  /** Is over when it is answered. */
  once?: true;
}
