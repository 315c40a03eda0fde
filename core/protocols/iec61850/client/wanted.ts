import type { ClientPoint } from '../../client.ts';
import type { TypeOf } from '../../mms/wire/data.ts';
import { hasOrder, typeIn } from '../model/model.ts';
import { print, type Reference } from '../model/reference.ts';
import { referenceOf, type IecAt } from '../points.ts';

/** A point of the list, with where its value, quality and time stand in the device. */
export interface Wanted {
  point: ClientPoint<IecAt>;
  value: Reference;
  of: TypeOf;
  quality: Reference | null;
  time: Reference | null;
  /** What is read for it: the smallest structure that has all three. */
  whole: Reference;
}

/** The type of a node, by its functional constraints; null: not known. */
export type NodeTypes = (device: string, node: string) => TypeOf | null;

/** Values that are meant where a point names a data object, the first that there is (IEC 61850-7-3, from memory). */
const MEANT: readonly (readonly string[])[] = [
  ['stVal'],
  ['general'],
  ['mag', 'f'],
  ['mag', 'i'],
  ['cVal', 'mag', 'f'],
  ['cVal', 'mag', 'i'],
  ['instMag', 'f'],
  ['actVal'],
  ['mxVal', 'f'],
  ['mxVal', 'i'],
  ['valWTr', 'posVal'],
  ['setVal'],
  ['setMag', 'f'],
  ['setMag', 'i'],
  ['cnt'],
  ['f'],
  ['i'],
];

const isLeaf = (of: TypeOf): boolean => of.type !== 'structure' && of.type !== 'array';

/** Where a point's value stands; or why there is none. */
export function wantedOf(point: ClientPoint<IecAt>, types: NodeTypes): Wanted | string {
  const reference = referenceOf(point.at);
  const { device, node } = reference;
  const type = types(device, node);
  if (type === null) return `there is no node ${device}/${node}`;
  if (reference.fc !== 'CO') return inConstraint(point, reference, type);
  if (typeIn(type, { ...reference, path: [...reference.path, 'Oper'] }) === null)
    return `${print(reference)} cannot be operated`;
  // What is operated shows by its status, or its measurand.
  for (const fc of ['ST', 'MX', 'SP'] as const) {
    const wanted = inConstraint(point, { ...reference, fc }, type);
    if (typeof wanted !== 'string') return wanted;
  }
  return `${print(reference)} has no value to be seen`;
}

function inConstraint(point: ClientPoint<IecAt>, reference: Reference, type: TypeOf): Wanted | string {
  const of = typeIn(type, reference);
  if (of === null) return `there is no ${print(reference)}`;
  if (isLeaf(of)) return withStamps(point, reference, of, type);
  for (const more of MEANT) {
    const value = { ...reference, path: [...reference.path, ...more] };
    const found = typeIn(type, value);
    if (found !== null && isLeaf(found)) return withStamps(point, value, found, type);
  }
  return `${print(reference)} is no single value`;
}

/** With the quality and the time that are nearest: beside the value, or beside what it is in. */
function withStamps(point: ClientPoint<IecAt>, value: Reference, of: TypeOf, type: TypeOf): Wanted {
  let quality: Reference | null = null;
  let time: Reference | null = null;
  let whole = value;
  for (let length = value.path.length - 1; length >= 1 && (quality === null || time === null); length--) {
    const beside = (name: string): Reference => ({ ...value, path: [...value.path.slice(0, length), name] });
    const found = { q: typeIn(type, beside('q')), t: typeIn(type, beside('t')) };
    if (quality === null && found.q?.type === 'bits') quality = beside('q');
    if (time === null && found.t?.type === 'utcTime') time = beside('t');
    if (quality?.path.length === length + 1 || time?.path.length === length + 1)
      whole = { ...value, path: value.path.slice(0, length) };
  }
  return { point, value, of, quality, time, whole };
}

/** Whether what is in the one is in the other too. */
export const holds = (outer: Reference, inner: Reference): boolean =>
  outer.device === inner.device &&
  outer.node === inner.node &&
  outer.fc === inner.fc &&
  outer.path.length <= inner.path.length &&
  outer.path.every((part, at) => part === inner.path[at]);

/** Which parts of a value's own parts lead from one place to one in it; null: none. */
export function stepsTo(of: TypeOf, path: readonly string[]): number[] | null {
  const steps: number[] = [];
  let type: TypeOf = of;
  for (const part of path) {
    const [, name, index] = /^([^(]*)(?:\((\d+)\))?$/.exec(part) ?? [];
    if (type.type !== 'structure') return null;
    const at = type.components.findIndex((one) => one.name === name);
    if (at < 0) return null;
    steps.push(at);
    type = type.components[at].of;
    if (index === undefined) continue;
    if (type.type !== 'array' || Number(index) >= type.count) return null;
    steps.push(Number(index));
    type = type.element;
  }
  return steps;
}

export type Role = 'value' | 'quality' | 'time';

/** Where a part of a wanted value stands in one member of what is read or reported. */
export interface Placing {
  wanted: Wanted;
  role: Role;
  /** Which member, and which of its parts. */
  member: number;
  steps: readonly number[];
}

/**
 * What members bring of what is wanted, member by member. What is in several of them is taken from the first: a data set
 * may have a whole and its parts.
 */
export function placed(members: readonly Reference[], wanted: readonly Wanted[], types: NodeTypes): Placing[][] {
  const placings: Placing[][] = members.map(() => []);
  const byObject = new Map<string, number[]>();
  members.forEach((member, at) => {
    const key = objectKey(member);
    const there = byObject.get(key);
    if (there) there.push(at);
    else byObject.set(key, [at]);
  });
  const whole = members.map((member) => {
    const type = types(member.device, member.node);
    const of = type && typeIn(type, member);
    return of && hasOrder(of) ? of : null;
  });
  for (const one of wanted)
    for (const [role, reference] of [
      ['value', one.value],
      ['quality', one.quality],
      ['time', one.time],
    ] as const) {
      if (reference === null) continue;
      for (const member of [
        ...(byObject.get(objectKey(reference)) ?? []),
        ...(byObject.get(nodeKey(reference)) ?? []),
      ]) {
        if (!holds(members[member], reference)) continue;
        const of = whole[member];
        const steps = of && stepsTo(of, reference.path.slice(members[member].path.length));
        if (!steps) continue;
        placings[member].push({ wanted: one, role, member, steps });
        break;
      }
    }
  return placings;
}

/** A member may be all of one constraint of a node: it has no object then. */
const objectKey = ({ device, node, fc, path }: Reference): string => `${device}/${node} ${fc} ${path[0] ?? ''}`;
const nodeKey = ({ device, node, fc }: Reference): string => `${device}/${node} ${fc} `;

/** Which of the wanted values come with these members. */
export const broughtBy = (placings: readonly (readonly Placing[])[]): Set<Wanted> =>
  new Set(placings.flatMap((ones) => ones.filter(({ role }) => role === 'value').map(({ wanted }) => wanted)));
