import type { ServerPoint } from '../../server.ts';
import type { Data, TypeOf } from '../../mms/wire/data.ts';
import { isSelected, isEnhanced, MODELS, type ControlModel } from '../control.ts';
import type { Constraint, Reference } from '../model/reference.ts';
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

const BOOLEAN: TypeOf = { type: 'boolean' };
const INT8: TypeOf = { type: 'integer', bits: 8 };
const INT32: TypeOf = { type: 'integer', bits: 32 };
const INT64: TypeOf = { type: 'integer', bits: 64 };
const UINT8: TypeOf = { type: 'unsigned', bits: 8 };
const UINT32: TypeOf = { type: 'unsigned', bits: 32 };
const FLOAT: TypeOf = { type: 'float', width: 32, exponent: 8 };
const TEXT: TypeOf = { type: 'text', size: -255 };
const NAME: TypeOf = { type: 'text', size: -129 };
const WIDE: TypeOf = { type: 'wideText', size: -255 };
const QUALITY: TypeOf = { type: 'bits', size: -13 };
const STAMP: TypeOf = { type: 'utcTime' };
const TWO_BITS: TypeOf = { type: 'bits', size: 2 };

export const structure = (...components: readonly (readonly [string, TypeOf])[]): TypeOf => ({
  type: 'structure',
  components: components.map(([name, of]) => ({ name, of })),
});
const stamped = (...components: readonly (readonly [string, TypeOf])[]): TypeOf =>
  structure(...components, ['q', QUALITY], ['t', STAMP]);
const ANALOG = structure(['f', FLOAT]);
const ORIGIN = structure(['orCat', INT8], ['orIdent', { type: 'octets', size: -64 }]);
const UNITS = structure(['SIUnit', INT8], ['multiplier', INT8]);

type Parts = Partial<Record<Constraint, TypeOf>>;

const operate = (value: TypeOf, withCheck: boolean): TypeOf =>
  structure(
    ['ctlVal', value],
    ['origin', ORIGIN],
    ['ctlNum', UINT8],
    ['T', STAMP],
    ['Test', BOOLEAN],
    ...(withCheck ? [['Check', { type: 'bits', size: -2 }] as const] : []),
  );

/** What is written to operate something by a model. */
function controlled(value: TypeOf, model: ControlModel): TypeOf {
  const oper = ['Oper', operate(value, true)] as const;
  const cancel = ['Cancel', operate(value, false)] as const;
  if (!isSelected(model)) return structure(oper, cancel);
  return isEnhanced(model)
    ? structure(['SBOw', operate(value, true)], oper, cancel)
    : structure(['SBO', NAME], oper, cancel);
}
const CONTROL_CF = [
  ['ctlModel', INT8],
  ['sboTimeout', UINT32],
] as const;

/** The parts of a data object of a class. */
export function partsOf(cdc: IecTargetAt['cdc'], model: ControlModel): Parts {
  const DC = structure(['d', TEXT], ['dU', WIDE]);
  const isOperated = model !== 'statusOnly';
  const of = (
    fc: 'ST' | 'MX',
    value: readonly (readonly [string, TypeOf])[],
    ctlVal: TypeOf,
    units = false,
  ): Parts => ({
    [fc]: isOperated ? stamped(['origin', ORIGIN], ['ctlNum', UINT8], ...value) : stamped(...value),
    CF: structure(...(units ? [['units', UNITS] as const] : []), ...CONTROL_CF),
    DC,
    ...(isOperated ? { CO: controlled(ctlVal, model) } : {}),
  });
  switch (cdc) {
    case 'SPS':
      return { ST: stamped(['stVal', BOOLEAN]), DC };
    case 'DPS':
      return { ST: stamped(['stVal', TWO_BITS]), DC };
    case 'INS':
      return { ST: stamped(['stVal', INT32]), DC };
    case 'VSS':
      return { ST: stamped(['stVal', TEXT]), DC };
    case 'BCR':
      return { ST: stamped(['actVal', INT64]), CF: structure(['units', UNITS], ['pulsQty', FLOAT]), DC };
    case 'MV':
      return { MX: stamped(['instMag', ANALOG], ['mag', ANALOG]), CF: structure(['units', UNITS]), DC };
    case 'SPC':
      return of('ST', [['stVal', BOOLEAN]], BOOLEAN);
    case 'DPC':
      return of('ST', [['stVal', TWO_BITS]], BOOLEAN);
    case 'INC':
      return of('ST', [['stVal', INT32]], INT32, true);
    case 'APC':
      return of('MX', [['mxVal', ANALOG]], ANALOG, true);
    default:
      return cdc satisfies never;
  }
}

const LLN0: Parts = {
  ST: structure(
    ['Mod', stamped(['stVal', INT8])],
    ['Beh', stamped(['stVal', INT8])],
    ['Health', stamped(['stVal', INT8])],
  ),
  CF: structure(['Mod', structure(['ctlModel', INT8])]),
  DC: structure([
    'NamPlt',
    structure(['vendor', TEXT], ['swRev', TEXT], ['d', TEXT], ['configRev', TEXT], ['ldNs', TEXT]),
  ]),
};
const LPHD: Parts = {
  ST: structure(['PhyHealth', stamped(['stVal', INT8])], ['Proxy', stamped(['stVal', BOOLEAN])]),
  DC: structure(['PhyNam', structure(['vendor', TEXT], ['model', TEXT])]),
};
const BEHAVIOUR: Parts = {
  ST: structure(['Beh', stamped(['stVal', INT8])]),
};
/** In the order in which a node has them. */
const ORDER: readonly Constraint[] = ['ST', 'MX', 'SP', 'CF', 'DC', 'CO'];

interface MadeNode {
  name: string;
  /** Of each constraint: its data objects. */
  parts: Map<Constraint, [string, TypeOf][]>;
}

const nodeOf = (name: string, own: Parts): MadeNode => ({
  name,
  parts: new Map(
    Object.entries(own).map(([fc, of]) => [
      fc as Constraint,
      of.type === 'structure' ? of.components.map((one): [string, TypeOf] => [one.name, one.of]) : [],
    ]),
  ),
});

/** The place of a data object as it is offered, under its status or measurand. */
export const objectOf = ({ device, node, object, cdc }: IecTargetAt): Reference => ({
  ...{ device, node, path: [object] },
  fc: cdc === 'MV' || cdc === 'APC' ? 'MX' : 'ST',
});

const GOOD: Data = { type: 'bits', bits: new Array<boolean>(13).fill(false) };
const text = (value: string): Data => ({ type: 'text', text: value.slice(0, 255), wide: false });
const whole = (value: number): Data => ({ type: 'integer', value });

/** The model for what is mapped. */
export function madeModel(points: readonly ServerPoint<IecTargetAt>[], settings: ServerSettings): ModelPlan {
  const devices = new Map<string, Map<string, MadeNode>>();
  const values: [Reference, Data][] = [];
  const operated: { object: Reference; model: ControlModel }[] = [];
  const members = new Map<string, Map<'ST' | 'MX', Reference[]>>();
  const seen = new Set<string>();
  const isOperable = new Set(points.filter(({ at }) => at.fc === 'CO').map(({ at }) => keyOf(at)));
  for (const { at, name = '', unit = '' } of points) {
    const { device, node } = at;
    const nodes = devices.get(device) ?? new Map<string, MadeNode>();
    devices.set(device, nodes);
    const own = nodes.get(node) ?? nodeOf(node, node === 'LLN0' ? LLN0 : BEHAVIOUR);
    nodes.set(node, own);
    if (seen.has(keyOf(at))) continue;
    seen.add(keyOf(at));
    const model = isOperable.has(keyOf(at)) ? settings.controlModel : 'statusOnly';
    for (const [fc, of] of Object.entries(partsOf(at.cdc, model)) as [Constraint, TypeOf][]) {
      const objects = own.parts.get(fc) ?? [];
      objects.push([at.object, of]);
      own.parts.set(fc, objects);
    }
    const object = objectOf(at);
    const place = (fc: Constraint, ...path: string[]): Reference => ({ ...object, fc, path: [at.object, ...path] });
    values.push([place('DC', 'd'), text(ascii(name))], [place('DC', 'dU'), { type: 'text', text: name, wide: true }]);
    if (at.cdc === 'MV' || at.cdc === 'APC' || at.cdc === 'INC' || at.cdc === 'BCR') {
      const [si, multiplier] = unitNumber(unit);
      values.push([place('CF', 'units', 'SIUnit'), whole(si)], [place('CF', 'units', 'multiplier'), whole(multiplier)]);
    }
    if (at.cdc === 'BCR') values.push([place('CF', 'pulsQty'), { type: 'float', value: 1, width: 32 }]);
    if (at.cdc === 'SPC' || at.cdc === 'DPC' || at.cdc === 'INC' || at.cdc === 'APC') {
      values.push([place('CF', 'ctlModel'), whole(MODELS.indexOf(model))]);
      values.push([place('CF', 'sboTimeout'), { type: 'unsigned', value: settings.selectMs }]);
    }
    if (model !== 'statusOnly') operated.push({ object: { ...object, fc: 'CO' }, model });
    const fc = object.fc as 'ST' | 'MX';
    const lists = members.get(device) ?? new Map<'ST' | 'MX', Reference[]>();
    members.set(device, lists);
    lists.set(fc, [...(lists.get(fc) ?? []), object]);
  }
  const plan = {
    devices: [...devices].map(([name, nodes]) => ({ name, nodes: withSystemNodes(name, nodes, values) })),
    ...{ values, operated },
  };
  return { ...plan, ...reportsOf(members, settings) };
}

function withSystemNodes(
  device: string,
  nodes: ReadonlyMap<string, MadeNode>,
  values: [Reference, Data][],
): { name: string; of: TypeOf }[] {
  const all = new Map([
    ['LLN0', nodes.get('LLN0') ?? nodeOf('LLN0', LLN0)] as const,
    ['LPHD1', nodes.get('LPHD1') ?? nodeOf('LPHD1', LPHD)] as const,
    ...nodes,
  ]);
  const of = (node: string, fc: Constraint, ...path: string[]): Reference => ({ device, node, fc, path });
  for (const node of all.keys())
    values.push([of(node, 'ST', 'Beh', 'stVal'), whole(1)], [of(node, 'ST', 'Beh', 'q'), GOOD]);
  values.push(
    [of('LLN0', 'ST', 'Mod', 'stVal'), whole(1)],
    [of('LLN0', 'ST', 'Health', 'stVal'), whole(1)],
    [of('LLN0', 'DC', 'NamPlt', 'vendor'), text('Halvix')],
    [of('LLN0', 'DC', 'NamPlt', 'swRev'), text('1')],
    [of('LLN0', 'DC', 'NamPlt', 'ldNs'), text('IEC 61850-7-4:2007')],
    [of('LLN0', 'DC', 'NamPlt', 'configRev'), text('1')],
    [of('LPHD1', 'ST', 'PhyHealth', 'stVal'), whole(1)],
    // What is behind it are other devices.
    [of('LPHD1', 'ST', 'Proxy', 'stVal'), { type: 'boolean', value: true }],
    [of('LPHD1', 'DC', 'PhyNam', 'vendor'), text('Halvix')],
  );
  return [...all.values()].map(({ name, parts }) => ({
    name,
    of: structure(
      ...ORDER.flatMap((fc) => {
        const objects = parts.get(fc);
        return objects === undefined ? [] : [[fc, structure(...objects)] as const];
      }),
    ),
  }));
}

const SET_NAMES = { ST: 'status', MX: 'measured' } as const;

function reportsOf(
  members: ReadonlyMap<string, ReadonlyMap<'ST' | 'MX', readonly Reference[]>>,
  { maxClients, bufferEntries }: ServerSettings,
): Pick<ModelPlan, 'dataSets' | 'blocks'> {
  const dataSets: { device: string; name: string; members: readonly Reference[] }[] = [];
  const blocks: BlockSettings[] = [];
  for (const [device, lists] of members)
    for (const [fc, all] of lists)
      for (let from = 0; from < all.length; from += MOST_MEMBERS) {
        const number = from / MOST_MEMBERS + 1;
        const name = `${SET_NAMES[fc]}${number === 1 ? '' : number}`;
        dataSets.push({ device, name: `LLN0$${name}`, members: all.slice(from, from + MOST_MEMBERS) });
        const capital = `${name.charAt(0).toUpperCase()}${name.slice(1)}`;
        for (const isBuffered of [true, false])
          for (let instance = 1; instance <= maxClients; instance++) {
            const block = `${isBuffered ? 'b' : 'u'}rcb${capital}${String(instance).padStart(2, '0')}`;
            blocks.push({
              ...{ device, item: `LLN0$${isBuffered ? 'BR' : 'RP'}$${block}`, isBuffered, revision: 1 },
              ...{ reportId: `${device}/LLN0$${isBuffered ? 'BR' : 'RP'}$${block}`, entries: bufferEntries },
              dataSet: `${device}/LLN0$${name}`,
            });
          }
      }
  return { dataSets, blocks };
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
