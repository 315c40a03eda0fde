import type { PointKind } from '../../../point/index.ts';
import type { TypeOf } from '../../mms/wire/data.ts';
import { CONSTRAINTS, type Constraint, type Reference } from './reference.ts';

/** What a server has: logical devices, their nodes, and the attributes of these by functional constraint. */
export interface Model {
  devices: LogicalDevice[];
}
export interface LogicalDevice {
  name: string;
  nodes: LogicalNode[];
}
export interface LogicalNode {
  name: string;
  /** By functional constraint: data objects, each with what is in it. */
  constraints: { fc: Constraint; objects: Component[] }[];
  /** Data sets that there are for good, with what they have in their order. */
  dataSets: { name: string; members: Reference[] }[];
}
export interface Component {
  name: string;
  of: TypeOf;
}

/** An attribute that is nothing but a value. */
export interface Leaf {
  reference: Reference;
  of: TypeOf;
}

/** A node from the type that a server says of it: a structure of its functional constraints. */
export function nodeOf(name: string, of: TypeOf): LogicalNode {
  const constraints = (of.type === 'structure' ? of.components : []).flatMap((part) => {
    const fc = (Object.keys(CONSTRAINTS) as Constraint[]).find((one) => one === part.name);
    return fc === undefined || part.of.type !== 'structure' ? [] : [{ fc, objects: [...part.of.components] }];
  });
  return { name, constraints, dataSets: [] };
}

/** All attributes of a model that are nothing but values, in the order in which the server has them. */
export function* leavesOf({ devices }: Model): Generator<Leaf> {
  for (const { name: device, nodes } of devices)
    for (const { name: node, constraints } of nodes)
      for (const { fc, objects } of constraints)
        for (const { name, of } of objects) yield* inType({ device, node, path: [name], fc }, of);
}

function* inType(reference: Reference, of: TypeOf): Generator<Leaf> {
  const inside = (last: string): Reference => ({ ...reference, path: [...reference.path, last] });
  if (of.type === 'structure') for (const part of of.components) yield* inType(inside(part.name), part.of);
  else if (of.type === 'array') {
    const { path } = reference;
    for (let at = 0; at < of.count; at++) {
      const element = [...path.slice(0, -1), `${path.at(-1)}(${at})`];
      yield* inType({ ...reference, path: element }, of.element);
    }
  } else yield { reference, of };
}

/** The type at a place of a model; null: there is nothing. */
export function typeAt({ devices }: Model, { device, node, path, fc }: Reference): TypeOf | null {
  const objects = devices
    .find(({ name }) => name === device)
    ?.nodes.find(({ name }) => name === node)
    ?.constraints.find((one) => one.fc === fc)?.objects;
  if (objects === undefined) return null;
  return typeIn(
    { type: 'structure', components: [{ name: fc, of: { type: 'structure', components: objects } }] },
    { path, fc },
  );
}

/** The type at a place of a node, whose own is that of its functional constraints; null: there is nothing. */
export function typeIn(node: TypeOf, { path, fc }: Pick<Reference, 'path' | 'fc'>): TypeOf | null {
  let of: TypeOf = node;
  for (const part of [fc, ...path]) {
    const [, name, index] = /^([^(]*)(?:\((\d+)\))?$/.exec(part) ?? [];
    const found: TypeOf | undefined =
      of.type === 'structure' ? of.components.find((one) => one.name === name)?.of : undefined;
    if (found === undefined) return null;
    if (index === undefined) of = found;
    else if (found.type === 'array' && Number(index) < found.count) of = found.element;
    else return null;
  }
  return of;
}

/** Structures that were put together from their parts: in which order these stand in a value is not known. */
const PUT_TOGETHER = new WeakSet<TypeOf>();

/** A structure of parts whose types were asked for one by one. */
export function putTogether(components: readonly { name: string; of: TypeOf }[]): TypeOf {
  const of: TypeOf = { type: 'structure', components };
  PUT_TOGETHER.add(of);
  return of;
}
/** Whether a value of the type can be taken apart. */
export const hasOrder = (of: TypeOf): boolean => !PUT_TOGETHER.has(of);

// ---- points

/** A value that can be a point: with the quality and the time that go with it. */
export interface ModelPoint {
  kind: PointKind;
  value: Reference;
  of: TypeOf;
  quality: Reference | null;
  time: Reference | null;
}

/** Names of the value of a data object, by the common data classes (IEC 61850-7-3, clause 7, from memory). */
const VALUES = new Set([
  ...[
    'stVal',
    'general',
    'actVal',
    'frVal',
    'valWTr',
    'mag',
    'instMag',
    'cVal',
    'instCVal',
    'phsA',
    'phsB',
    'phsC',
    'neut',
  ],
  ...['dirGeneral', 'posVal', 'i', 'f', 'ang', 'mxVal', 'vendor', 'hwRev', 'swRev', 'serNum', 'model', 'location'],
]);
/** Of the two values of an analog value and of the two parts of a vector; the ones that are meant by default. */
const SECOND = new Set(['i', 'ang', 'instMag', 'instCVal', 'frVal']);
const POINT_CONSTRAINTS: readonly Constraint[] = ['ST', 'MX', 'DC'];
const COUNTED = new Set(['actVal', 'frVal']);

/** What kind of point a value is; null: it is none. */
export function kindOf(name: string, of: TypeOf): PointKind | null {
  switch (of.type) {
    case 'boolean':
      return 'binary';
    case 'bits':
      // Positions of switches have two bits (IEC 61850-8-1, 8.1.3: coded enumeration).
      return Math.abs(of.size) === 2 ? 'doubleBit' : null;
    case 'integer':
    case 'unsigned':
      return COUNTED.has(name) ? 'counter' : 'analog';
    case 'float':
      return 'analog';
    case 'text':
    case 'wideText':
      return 'text';
    case 'array':
    case 'structure':
    case 'octets':
    case 'binaryTime':
    case 'utcTime':
    case 'name':
      return null;
    default:
      return of satisfies never;
  }
}

/**
 * The points that a model offers: each value of status and measurands with the `q` and `t` nearest to it, on its own
 * level or the one that it is in. `all`: also the second ones, such as the integer beside a float.
 */
export function pointsOf(model: Model, all = false): ModelPoint[] {
  const points: ModelPoint[] = [];
  for (const { name: device, nodes } of model.devices)
    for (const { name: node, constraints } of nodes)
      for (const { fc, objects } of constraints) {
        if (!POINT_CONSTRAINTS.includes(fc)) continue;
        for (const { name, of } of objects) {
          const at = { device, node, path: [name], fc };
          collect(at, of, { quality: null, time: null }, (point) => points.push(point), all);
        }
      }
  return points;
}

function collect(
  at: Reference,
  of: TypeOf,
  outer: Pick<ModelPoint, 'quality' | 'time'>,
  found: (point: ModelPoint) => void,
  all: boolean,
): void {
  if (of.type !== 'structure') return;
  const inside = (name: string): Reference => ({ ...at, path: [...at.path, name] });
  const has = (name: string, type: TypeOf['type']): boolean =>
    of.components.some((one) => one.name === name && one.of.type === type);
  const own = {
    quality: has('q', 'bits') ? inside('q') : outer.quality,
    time: has('t', 'utcTime') ? inside('t') : outer.time,
  };
  for (const { name, of: part } of of.components) {
    if (!VALUES.has(name) && at.path.length > 1 && part.type !== 'structure') continue;
    if (!all && SECOND.has(name)) {
      // Where there is no first one, the second is the one that is meant.
      const first = { i: 'f', ang: 'mag', instMag: 'mag', instCVal: 'cVal', frVal: 'actVal' }[name];
      if (of.components.some((one) => one.name === first)) continue;
    }
    if (part.type === 'structure') {
      collect(inside(name), part, own, found, all);
      continue;
    }
    const kind = VALUES.has(name) ? kindOf(name, part) : null;
    if (kind !== null) found({ kind, value: inside(name), of: part, ...own });
  }
}

/** What can be operated: data objects that have `Oper`, by the type of its value. */
export function operablesOf({ devices }: Model): { kind: 'output' | 'setpoint'; object: Reference }[] {
  const found: { kind: 'output' | 'setpoint'; object: Reference }[] = [];
  for (const { name: device, nodes } of devices)
    for (const { name: node, constraints } of nodes)
      for (const { name, of } of constraints.find(({ fc }) => fc === 'CO')?.objects ?? []) {
        const value = typeIn(
          { type: 'structure', components: [{ name: 'CO', of }] },
          { path: ['Oper', 'ctlVal'], fc: 'CO' },
        );
        if (value === null) continue;
        // Steps have two bits; the rest are numbers.
        const kind = value.type === 'boolean' || value.type === 'bits' ? 'output' : 'setpoint';
        found.push({ kind, object: { device, node, path: [name], fc: 'CO' } });
      }
  return found;
}
