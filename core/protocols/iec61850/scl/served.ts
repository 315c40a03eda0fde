import type { Result } from '../../../session/index.ts';
import type { Data, TypeOf } from '../../mms/wire/data.ts';
import { typeIn } from '../model/model.ts';
import { nodeName, type Constraint, type Reference } from '../model/reference.ts';
import type { IecTargetAt } from '../points.ts';
import type { ModelPlan } from '../server/modelserver.ts';
import type { ServerSettings } from '../settings.ts';
import { givenModel, type Given } from './given.ts';

/*
 * The model of our server where that comes from a file: points are mapped onto data objects that are there. What nothing
 * is mapped onto says that it is invalid.
 */

type FileSettings = Pick<ServerSettings, 'modelFile' | 'modelDevice' | 'bufferValues'>;

/** A data object, or one within another, onto which a point may be mapped. */
export interface Place {
  device: string;
  node: string;
  /** `Pos`, `A.phsA`. */
  object: string;
  fc: IecTargetAt['fc'];
  cdc: IecTargetAt['cdc'];
  /** From the object to its value, and what that is. */
  value: readonly string[];
  of: TypeOf;
}

export interface Served {
  given: Given;
  plan: ModelPlan;
  /** By `HLM/XCBR1.Pos[ST]`. */
  places: ReadonlyMap<string, readonly Place[]>;
}

/** Files that were read last: the same text is not read again. */
const KNOWN = new Map<string, Result<Served, string>>();
const MOST_KNOWN = 8;

/** Null: the model is made of what is mapped. */
export function servedModel({ modelFile, modelDevice, bufferValues }: FileSettings): Result<Served, string> | null {
  if (modelFile === null) return null;
  const key = `${modelDevice} ${bufferValues} ${modelFile.text}`;
  const known = KNOWN.get(key);
  if (known !== undefined) return known;
  const read = givenModel(modelFile.text, modelDevice, { bufferValues });
  const served: Result<Served, string> = read.ok
    ? { ok: true, value: servedOf(read.value) }
    : { ok: false, problem: `${modelFile.name}: ${read.problem}` };
  const [oldest] = KNOWN.keys();
  if (KNOWN.size >= MOST_KNOWN && oldest !== undefined) KNOWN.delete(oldest);
  KNOWN.set(key, served);
  return served;
}

export const placeKey = ({ device, node, object, fc }: Pick<Place, 'device' | 'node' | 'object' | 'fc'>): string =>
  `${device}/${node}.${object}[${fc}]`;

function servedOf(given: Given): Served {
  const { plan } = given;
  const places = new Map<string, Place[]>();
  const add = (place: Place): void => {
    const key = placeKey(place);
    places.set(key, [...(places.get(key) ?? []), place]);
  };
  for (const { name: device, nodes } of plan.devices)
    for (const { name: node, of } of nodes)
      for (const fc of ['ST', 'MX'] as const)
        for (const { name, of: inside } of partsOf(typeIn(of, { fc, path: [] })))
          for (const found of valuesOf(inside, [name])) add({ device, node, fc, ...found });
  for (const { object, model } of plan.operated) {
    if (model === 'statusOnly') continue;
    const { device, node, path } = object;
    const of = plan.devices.find(({ name }) => name === device)?.nodes.find(({ name }) => name === node)?.of;
    const value = of && typeIn(of, { fc: 'CO', path: [...path, 'Oper', 'ctlVal'] });
    if (of === undefined || value == null) continue;
    const cdc = operatedClass(of, path[0], value);
    add({ device, node, object: path[0], fc: 'CO', cdc, value: ['Oper', 'ctlVal'], of: value });
  }
  return { given, places, plan: { ...plan, values: [...startingValues(plan), ...plan.values] } };
}

/** Of what is operated, by what it shows; without that, by what it takes. */
function operatedClass(node: TypeOf, object: string, value: TypeOf): 'SPC' | 'DPC' | 'INC' | 'APC' {
  const status = typeIn(node, { fc: 'ST', path: [object, 'stVal'] });
  if (status?.type === 'bits') return 'DPC';
  if (value.type === 'boolean') return 'SPC';
  return value.type === 'integer' || value.type === 'unsigned' ? 'INC' : 'APC';
}

const partsOf = (of: TypeOf | null): readonly { name: string; of: TypeOf }[] =>
  of?.type === 'structure' ? of.components : [];

/** Where the value of a class stands, the one that is meant first; with what it has to be. */
const VALUES: readonly (readonly [cdcs: readonly IecTargetAt['cdc'][], path: string, type: TypeOf['type']])[] = [
  [['SPS', 'SPC'], 'stVal', 'boolean'],
  [['SPS', 'SPC'], 'general', 'boolean'],
  [['DPS', 'DPC'], 'stVal', 'bits'],
  [['INS', 'INC'], 'stVal', 'integer'],
  [['VSS'], 'stVal', 'text'],
  [['BCR'], 'actVal', 'integer'],
  [['APC'], 'mxVal.f', 'float'],
  [['APC'], 'mxVal.i', 'integer'],
  [['MV'], 'mag.f', 'float'],
  [['MV'], 'cVal.mag.f', 'float'],
  [['MV'], 'mxVal.f', 'float'],
  [['MV'], 'instMag.f', 'float'],
  [['MV'], 'mag.i', 'integer'],
];

/** The values of a data object, and of those within it: phases of three. */
function valuesOf(of: TypeOf, path: readonly string[]): Pick<Place, 'object' | 'cdc' | 'value' | 'of'>[] {
  const found: Pick<Place, 'object' | 'cdc' | 'value' | 'of'>[] = [];
  const taken = new Set<string>();
  for (const [cdcs, text, type] of VALUES) {
    const value = text.split('.');
    const inside = within(of, value);
    if (inside?.type !== type || (type === 'bits' && inside.type === 'bits' && Math.abs(inside.size) !== 2)) continue;
    for (const cdc of cdcs) {
      if (taken.has(cdc)) continue;
      taken.add(cdc);
      found.push({ object: path.join('.'), cdc, value, of: inside });
    }
  }
  if (found.length > 0 || path.length > MOST_DEEP) return found;
  // Those within have a quality of their own.
  return partsOf(of).flatMap((part) =>
    partsOf(part.of).some(({ name }) => name === 'q') ? valuesOf(part.of, [...path, part.name]) : [],
  );
}
const MOST_DEEP = 3;

function within(of: TypeOf, path: readonly string[]): TypeOf | null {
  let found: TypeOf | undefined = of;
  for (const name of path) found = partsOf(found ?? null).find((part) => part.name === name)?.of;
  return found ?? null;
}

// ---- what it says before anything is known

const ON = new Set(['Mod', 'Beh', 'Health', 'PhyHealth']);
const INVALID: Data = { type: 'bits', bits: Array.from({ length: 13 }, (_, bit) => bit === 1) };

/** Values are invalid until there are some; the device itself is on, and well. */
function* startingValues({ devices }: ModelPlan): Generator<[Reference, Data]> {
  for (const { name: device, nodes } of devices)
    for (const { name: node, of } of nodes)
      for (const fc of ['ST', 'MX'] as const)
        for (const { name, of: inside } of partsOf(typeIn(of, { fc, path: [] }))) {
          const place = (path: readonly string[]): Reference => ({ device, node, fc, path: [name, ...path] });
          const isSystem = ON.has(name) || nodeName(node)?.class === 'LPHD';
          if (!isSystem) for (const path of qualitiesIn(inside, [])) yield [place(path), INVALID];
          else if (ON.has(name) && within(inside, ['stVal'])?.type === 'integer')
            yield [place(['stVal']), { type: 'integer', value: 1 }];
        }
}

function qualitiesIn(of: TypeOf, path: readonly string[]): string[][] {
  return partsOf(of).flatMap((part) =>
    part.name === 'q' && part.of.type === 'bits'
      ? [[...path, 'q']]
      : part.of.type === 'structure'
        ? qualitiesIn(part.of, [...path, part.name])
        : [],
  );
}

// ---- what does not fit

/** Why a point cannot be mapped there; null: it can. */
export function placeProblem(settings: FileSettings, at: IecTargetAt): string | null {
  const served = servedModel(settings);
  if (served === null)
    return at.object.includes('.')
      ? `${at.object} is within another data object: only a model from a file has those`
      : null;
  // The file itself is reported of the outbound.
  if (!served.ok) return null;
  const there = served.value.places.get(placeKey(at)) ?? [];
  if (there.some(({ cdc }) => cdc === at.cdc)) return null;
  const { name } = settings.modelFile ?? { name: '' };
  const words = placeKey(at);
  if (there.length > 0)
    return `${words} of ${name} goes with ${there.map(({ cdc }) => cdc).join(' or ')}, not with ${at.cdc}`;
  return at.fc === 'CO' ? `nothing is operated at ${words} of ${name}` : `${words} is not in ${name}`;
}

const SHORT: readonly Constraint[] = ['ST', 'MX', 'CO'];
/** All places of a file, as they stand in it. */
export function placesOf(settings: FileSettings): readonly Place[] {
  const served = servedModel(settings);
  if (served === null || !served.ok) return [];
  return SHORT.flatMap((fc) => [...served.value.places.values()].flat().filter((one) => one.fc === fc));
}
