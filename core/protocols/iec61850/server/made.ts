import type { ServerPoint } from '../../server.ts';
import type { Data, TypeOf } from '../../mms/wire/data.ts';
import { MODELS, type ControlModel } from '../control.ts';
import { nodeName, print, type Constraint, type Reference } from '../model/reference.ts';
import { partsOf, structure, type Beside, type Parts } from '../model/types.ts';
import type { IecTargetAt } from '../points.ts';
import type { ServerSettings } from '../settings.ts';
import type { ModelPlan } from './modelserver.ts';
import type { BlockSettings } from './reportcontrol.ts';

/*
 * The model of our server, made from the points that are mapped to it (IEC 61850-7-3, clause 7, and 7-4; from memory):
 *
 *   HLM/LLN0            Mod, Beh, Health, NamPlt; data sets and report control blocks
 *   HLM/LPHD1           PhyNam, PhyHealth, Proxy
 *   HLM/GGIO1.Ind1      a data object for each point, by its class
 *   HLM/LLN0.status     all that has the constraint ST, in the order of the list; status2 and on behind `MOST_MEMBERS`
 *   HLM/LLN0.measured   all that has MX
 *   brcbStatus01 …      a buffered and an unbuffered block of each data set for each client
 */

export const MOST_MEMBERS = 500;

/** Data objects that a node has by itself, each with its class. */
const SYSTEM: Record<string, readonly (readonly [object: string, cdc: string])[]> = {
  LLN0: [
    ['Mod', 'ENC'],
    ['Beh', 'ENS'],
    ['Health', 'ENS'],
    ['NamPlt', 'LPL'],
  ],
  LPHD: [
    ['PhyNam', 'DPL'],
    ['PhyHealth', 'ENS'],
    ['Proxy', 'SPS'],
  ],
};
const OTHERS = [['Beh', 'ENS']] as const;
/** In the order in which a node has them. */
const ORDER: readonly Constraint[] = ['ST', 'MX', 'SP', 'CF', 'DC', 'CO'];

interface MadeNode {
  name: string;
  /** Of each constraint: its data objects. */
  parts: Map<Constraint, [string, TypeOf][]>;
}

function addObject({ parts }: MadeNode, object: string, own: Parts): void {
  for (const [fc, of] of Object.entries(own) as [Constraint, TypeOf][]) {
    const objects = parts.get(fc) ?? [];
    objects.push([object, of]);
    parts.set(fc, objects);
  }
}

/** What a node has by itself, each with its class. */
export const systemObjects = (name: string): readonly (readonly [object: string, cdc: string])[] =>
  SYSTEM[nodeName(name)?.class ?? ''] ?? OTHERS;

function nodeOf(name: string): MadeNode {
  const made: MadeNode = { name, parts: new Map() };
  for (const [object, cdc] of systemObjects(name)) addObject(made, object, partsOf(cdc, 'statusOnly'));
  return made;
}

/** The place of a data object as it is offered, under its status or measurand. */
export const objectOf = ({ device, node, object, cdc }: IecTargetAt): Reference => ({
  ...{ device, node, path: object.split('.') },
  fc: cdc === 'MV' || cdc === 'APC' ? 'MX' : 'ST',
});

const GOOD: Data = { type: 'bits', bits: new Array<boolean>(13).fill(false) };
const text = (value: string): Data => ({ type: 'text', text: value.slice(0, 255), wide: false });
const whole = (value: number): Data => ({ type: 'integer', value });

/** A data object that a model is to have. */
export interface WantedObject extends Beside {
  device: string;
  node: string;
  object: string;
  cdc: string;
  model: ControlModel;
}

/** Logical devices with these data objects, and with the nodes and objects that every one has; their values go to `values`. */
export function devicesOf(
  objects: readonly WantedObject[],
  values: [Reference, Data][],
  identity: { vendor: string; isProxy: boolean },
): ModelPlan['devices'] {
  const devices = new Map<string, Map<string, MadeNode>>();
  for (const { device, node, object, cdc, model } of objects) {
    const nodes = devices.get(device) ?? new Map<string, MadeNode>();
    devices.set(device, nodes);
    const own = nodes.get(node) ?? nodeOf(node);
    nodes.set(node, own);
    addObject(own, object, partsOf(cdc, model));
    if (!CONTROLLED.has(cdc)) continue;
    const ctlModel = { device, node, fc: 'CF' as const, path: [object, 'ctlModel'] };
    values.push([ctlModel, whole(MODELS.indexOf(model))]);
  }
  return [...devices].map(([name, nodes]) => ({ name, nodes: withSystemNodes(name, nodes, values, identity) }));
}
const CONTROLLED = new Set(['SPC', 'DPC', 'INC', 'APC', 'ENC']);

/** A point as it is offered. */
type OfferedPoint = Pick<ServerPoint<IecTargetAt>, 'at' | 'name' | 'unit'>;

/** The data objects that offered points make: where status and control are at one, it is one. */
export function offeredObjects(
  points: readonly OfferedPoint[],
  { controlModel }: Pick<ServerSettings, 'controlModel'>,
): { objects: (WantedObject & { description: string; unit: string; at: IecTargetAt })[]; members: Reference[] } {
  const isOperable = new Set(points.filter(({ at }) => at.fc === 'CO').map(({ at }) => keyOf(at)));
  const byKey = new Map(points.map((point) => [keyOf(point.at), point] as const));
  const objects = [...byKey].map(([key, { at, name = '', unit = '' }]) => ({
    ...{ device: at.device, node: at.node, object: at.object, cdc: at.cdc as string },
    model: isOperable.has(key) ? controlModel : ('statusOnly' as const),
    ...{ description: name, unit, at },
  }));
  return { objects, members: objects.map(({ at }) => objectOf(at)) };
}

/** The model for what is mapped. */
export function madeModel(points: readonly ServerPoint<IecTargetAt>[], settings: ServerSettings): ModelPlan {
  const { objects, members } = offeredObjects(points, settings);
  const values: [Reference, Data][] = [];
  const operated: { object: Reference; model: ControlModel }[] = [];
  for (const { at, model, description, unit } of objects) {
    const object = objectOf(at);
    const place = (fc: Constraint, ...path: string[]): Reference => ({ ...object, fc, path: [at.object, ...path] });
    values.push([place('DC', 'd'), text(ascii(description))]);
    values.push([place('DC', 'dU'), { type: 'text', text: description, wide: true }]);
    if (at.cdc === 'MV' || at.cdc === 'APC' || at.cdc === 'INC' || at.cdc === 'BCR') {
      const [si, multiplier] = unitNumber(unit);
      values.push([place('CF', 'units', 'SIUnit'), whole(si)], [place('CF', 'units', 'multiplier'), whole(multiplier)]);
    }
    if (at.cdc === 'BCR') values.push([place('CF', 'pulsQty'), { type: 'float', value: 1, width: 32 }]);
    if (CONTROLLED.has(at.cdc))
      values.push([place('CF', 'sboTimeout'), { type: 'unsigned', value: settings.selectMs }]);
    if (model !== 'statusOnly') operated.push({ object: { ...object, fc: 'CO' }, model });
  }
  const devices = devicesOf(objects, values, { vendor: 'Halvix', isProxy: true });
  return { devices, values, operated, ...reportsOf(members, settings) };
}

function withSystemNodes(
  device: string,
  nodes: ReadonlyMap<string, MadeNode>,
  values: [Reference, Data][],
  { vendor, isProxy }: { vendor: string; isProxy: boolean },
): { name: string; of: TypeOf }[] {
  const all = new Map([
    ['LLN0', nodes.get('LLN0') ?? nodeOf('LLN0')] as const,
    ['LPHD1', nodes.get('LPHD1') ?? nodeOf('LPHD1')] as const,
    ...nodes,
  ]);
  const of = (node: string, fc: Constraint, ...path: string[]): Reference => ({ device, node, fc, path });
  for (const node of all.keys())
    values.push([of(node, 'ST', 'Beh', 'stVal'), whole(1)], [of(node, 'ST', 'Beh', 'q'), GOOD]);
  values.push(
    [of('LLN0', 'ST', 'Mod', 'stVal'), whole(1)],
    [of('LLN0', 'ST', 'Health', 'stVal'), whole(1)],
    [of('LLN0', 'DC', 'NamPlt', 'vendor'), text(vendor)],
    [of('LLN0', 'DC', 'NamPlt', 'swRev'), text('1')],
    [of('LLN0', 'DC', 'NamPlt', 'ldNs'), text('IEC 61850-7-4:2007')],
    [of('LLN0', 'DC', 'NamPlt', 'configRev'), text('1')],
    [of('LPHD1', 'ST', 'PhyHealth', 'stVal'), whole(1)],
    [of('LPHD1', 'ST', 'Proxy', 'stVal'), { type: 'boolean', value: isProxy }],
    [of('LPHD1', 'DC', 'PhyNam', 'vendor'), text(vendor)],
  );
  return [...all.values()].map(({ name, parts }) => ({
    name,
    of: structure(
      ...ORDER.flatMap((fc) => {
        const inside = parts.get(fc);
        return inside === undefined ? [] : [[fc, structure(...inside)] as const];
      }),
    ),
  }));
}

/** Data sets of these data objects, device by device, and blocks that report them. */
export function reportsOf(
  members: readonly Reference[],
  { maxClients, bufferValues }: Pick<ServerSettings, 'maxClients' | 'bufferValues'>,
): Pick<ModelPlan, 'dataSets' | 'blocks'> {
  const lists = new Map<string, Reference[]>();
  for (const member of members) {
    const key = `${member.device} ${member.fc}`;
    const list = lists.get(key);
    if (list) list.push(member);
    else lists.set(key, [member]);
  }
  const dataSets: { device: string; name: string; members: readonly Reference[] }[] = [];
  const blocks: BlockSettings[] = [];
  for (const all of lists.values())
    for (let from = 0; from < all.length; from += MOST_MEMBERS) {
      const some = all.slice(from, from + MOST_MEMBERS);
      const [{ device, fc }] = some;
      const number = from / MOST_MEMBERS + 1;
      const name = `${fc === 'ST' ? 'status' : 'measured'}${number === 1 ? '' : number}`;
      dataSets.push({ device, name: `LLN0$${name}`, members: some });
      const revision = revisionOf(some);
      const capital = `${name.charAt(0).toUpperCase()}${name.slice(1)}`;
      for (const isBuffered of [true, false])
        for (let instance = 1; instance <= maxClients; instance++) {
          const block = `${isBuffered ? 'b' : 'u'}rcb${capital}${String(instance).padStart(2, '0')}`;
          blocks.push({
            ...{ device, item: `LLN0$${isBuffered ? 'BR' : 'RP'}$${block}`, isBuffered, revision },
            ...{ reportId: `${device}/LLN0$${isBuffered ? 'BR' : 'RP'}$${block}`, values: bufferValues },
            dataSet: `${device}/LLN0$${name}`,
          });
        }
    }
  return { dataSets, blocks };
}

/** The same for the same members, another for others: a client that knows it knows the data set. */
function revisionOf(members: readonly Reference[]): number {
  let hash = 0x811c_9dc5;
  for (const character of members.map(print).join(' ')) hash = Math.imul(hash ^ character.charCodeAt(0), 0x0100_0193);
  return hash >>> 1;
}

const keyOf = ({ device, node, object }: IecTargetAt): string => `${device}/${node}.${object}`;
const ascii = (name: string): string => name.replace(/[^ -~]/g, '?');

/** Units as lists write them, by the numbers of the standard (IEC 61850-7-3, annex A; from memory). */
const UNIT_NUMBERS: Record<string, readonly [unit: number, multiplier: number]> = {
  A: [5, 0],
  kA: [5, 3],
  mA: [5, -3],
  V: [29, 0],
  kV: [29, 3],
  W: [62, 0],
  kW: [62, 3],
  MW: [62, 6],
  VA: [61, 0],
  kVA: [61, 3],
  MVA: [61, 6],
  var: [63, 0],
  kvar: [63, 3],
  Mvar: [63, 6],
  Hz: [33, 0],
  Wh: [72, 0],
  kWh: [72, 3],
  MWh: [72, 6],
  varh: [73, 0],
  kvarh: [73, 3],
  '°C': [23, 0],
  K: [6, 0],
  m: [2, 0],
  mm: [2, -3],
  cm: [2, -2],
  km: [2, 3],
  s: [4, 0],
  ms: [4, -3],
  Pa: [39, 0],
  kPa: [39, 3],
  MPa: [39, 6],
  'm³': [42, 0],
  'm³/s': [45, 0],
  'm/s': [43, 0],
  '°': [9, 0],
  Ω: [30, 0],
  J: [31, 0],
  MJ: [31, 6],
  kg: [3, 0],
};
/** 1, without a unit, for what the standard has no number for. */
const unitNumber = (unit: string): readonly [number, number] => UNIT_NUMBERS[unit] ?? [1, 0];
