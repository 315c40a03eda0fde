import { iecAt, type IecAt } from '@halvix/core/protocols/iec61850';
import type { Operation, PointKind } from '@halvix/core/point';
import type { PlantPoint } from '../plant.ts';

/** A data object of a device's model. */
export interface ModelObject {
  node: string;
  object: string;
  cdc: string;
  model: 'statusOnly' | 'direct' | 'selectBeforeOperateEnhanced' | 'directEnhanced';
  /** A setting of a group; a value that a client may replace. */
  isGrouped?: boolean;
  isReplaceable?: boolean;
}

/** A point of a device with a model, as its list and its stand-in have it. */
export interface ModelPoint extends PlantPoint {
  at: IecAt;
  states: string[] | null;
  operations: Operation[];
  setting: { low: number; high: number } | null;
  feedback: { point: string; expect: Record<string, number> } | null;
  /** A change smaller than this is not told. */
  deadband: number;
}

type More = Partial<Omit<ModelPoint, 'key' | 'kind' | 'at' | 'name'>>;
const point = (key: string, kind: PointKind, reference: string, name: string, more: More = {}): ModelPoint => ({
  ...{ key, kind, at: iecAt(reference), name, unit: '', gain: 1, states: null, operations: [], setting: null },
  ...{ feedback: null, deadband: 0 },
  ...more,
});

const objects = (node: string, ...list: [object: string, cdc: string, model?: ModelObject['model']][]): ModelObject[] =>
  list.map(([object, cdc, model = 'statusOnly']) => ({ node, object, cdc, model }));

const BAY = 'HLMB1';
const PHASES = ['phsA', 'phsB', 'phsC'] as const;
const MOVES = ['moving', 'open', 'closed', 'bad'];

/** The incomer's bay at Hollowmere: breaker, protection, measurands. */
export const BAY_OBJECTS: readonly ModelObject[] = [
  ...objects('XCBR1', ['Pos', 'DPC'], ['Loc', 'SPS'], ['OpCnt', 'INS']),
  ...objects('CSWI1', ['Pos', 'DPC', 'selectBeforeOperateEnhanced']),
  ...objects('CILO1', ['EnaOpn', 'SPS'], ['EnaCls', 'SPS']),
  ...objects('PTOC1', ['Str', 'ACD'], ['Op', 'ACT']),
  ...objects('PTOC1', ['StrVal', 'ASG'], ['OpDlTmms', 'ING']).map((one) => ({ ...one, isGrouped: true })),
  ...objects('MMXU1', ['A', 'WYE'], ['PhV', 'WYE'], ['TotVAr', 'MV'], ['Hz', 'MV']),
  ...objects('MMXU1', ['TotW', 'MV']).map((one) => ({ ...one, isReplaceable: true })),
  ...objects('MMTR1', ['TotWh', 'BCR']),
  ...objects('GGIO1', ['Ind1', 'SPS'], ['Ind2', 'SPS']).map((one) => ({ ...one, isReplaceable: true })),
  ...objects('GGIO1', ['SPCSO1', 'SPC', 'direct']),
];
/** Overcurrent, by setting group: summer, winter, a feeder taken over, works on the line. */
export const BAY_GROUPS = {
  ...{ device: BAY, count: 4, active: 1 },
  values: [
    { node: 'PTOC1', path: ['StrVal', 'setMag', 'f'], values: ['480', '560', '640', '240'] },
    { node: 'PTOC1', path: ['OpDlTmms', 'setVal'], values: ['400', '400', '600', '50'] },
  ],
};
export const BAY_POINTS: readonly ModelPoint[] = [
  point('breaker', 'doubleBit', `${BAY}/XCBR1.Pos.stVal[ST]`, 'Breaker', { states: MOVES }),
  point('switch', 'doubleBit', `${BAY}/CSWI1.Pos.stVal[ST]`, 'Breaker, as its controller has it', { states: MOVES }),
  point('control', 'output', `${BAY}/CSWI1.Pos[CO]`, 'Breaker', {
    ...{ states: ['open', 'closed'], operations: ['trip', 'close'] },
    feedback: { point: `${BAY}/XCBR1.Pos.stVal[ST]`, expect: { trip: 1, close: 2 } },
  }),
  point('local', 'binary', `${BAY}/XCBR1.Loc.stVal[ST]`, 'Local/remote', { states: ['remote', 'local'] }),
  point('operations', 'analog', `${BAY}/XCBR1.OpCnt.stVal[ST]`, 'Breaker operations'),
  point('mayOpen', 'binary', `${BAY}/CILO1.EnaOpn.stVal[ST]`, 'Opening released', { states: ['no', 'yes'] }),
  point('mayClose', 'binary', `${BAY}/CILO1.EnaCls.stVal[ST]`, 'Closing released', { states: ['no', 'yes'] }),
  point('started', 'binary', `${BAY}/PTOC1.Str.general[ST]`, 'Overcurrent, started', { states: ['no', 'yes'] }),
  point('tripped', 'binary', `${BAY}/PTOC1.Op.general[ST]`, 'Overcurrent, tripped', { states: ['no', 'yes'] }),
  ...PHASES.map((phase, n) =>
    point(`current${n}`, 'analog', `${BAY}/MMXU1.A.${phase}.cVal.mag.f[MX]`, `Current L${n + 1}`, {
      ...{ unit: 'A', deadband: 1.5 },
    }),
  ),
  ...PHASES.map((phase, n) =>
    point(`voltage${n}`, 'analog', `${BAY}/MMXU1.PhV.${phase}.cVal.mag.f[MX]`, `Voltage L${n + 1}`, {
      ...{ unit: 'kV', deadband: 0.02 },
    }),
  ),
  point('power', 'analog', `${BAY}/MMXU1.TotW.mag.f[MX]`, 'Active power', { unit: 'MW', deadband: 0.05 }),
  point('reactive', 'analog', `${BAY}/MMXU1.TotVAr.mag.f[MX]`, 'Reactive power', { unit: 'Mvar', deadband: 0.05 }),
  point('frequency', 'analog', `${BAY}/MMXU1.Hz.mag.f[MX]`, 'Frequency', { unit: 'Hz', deadband: 0.01 }),
  point('energy', 'counter', `${BAY}/MMTR1.TotWh.actVal[ST]`, 'Energy', { unit: 'kWh' }),
  point('spring', 'binary', `${BAY}/GGIO1.Ind1.stVal[ST]`, 'Spring', { states: ['relaxed', 'charged'] }),
  point('gas', 'binary', `${BAY}/GGIO1.Ind2.stVal[ST]`, 'Gas pressure', { states: ['normal', 'low'] }),
  point('heater', 'output', `${BAY}/GGIO1.SPCSO1[CO]`, 'Heater', {
    ...{ states: ['off', 'on'], operations: ['latchOn', 'latchOff'] },
  }),
];

const PARK = 'ORLPC';
/** The controller of Orlane's solar park. */
export const PARK_OBJECTS: readonly ModelObject[] = [
  ...objects('MMXU1', ['TotW', 'MV'], ['TotVAr', 'MV'], ['Hz', 'MV']),
  ...objects('MMTR1', ['TotWh', 'BCR']),
  ...objects('GGIO1', ['AnIn1', 'MV'], ['Ind1', 'SPS'], ['Ind2', 'SPS']),
  ...objects('GGIO1', ['AnOut1', 'APC', 'directEnhanced'], ['SPCSO1', 'SPC', 'direct']),
];
export const PARK_POINTS: readonly ModelPoint[] = [
  point('power', 'analog', `${PARK}/MMXU1.TotW.mag.f[MX]`, 'Active power', { unit: 'MW', deadband: 0.02 }),
  point('reactive', 'analog', `${PARK}/MMXU1.TotVAr.mag.f[MX]`, 'Reactive power', { unit: 'Mvar', deadband: 0.02 }),
  point('frequency', 'analog', `${PARK}/MMXU1.Hz.mag.f[MX]`, 'Frequency', { unit: 'Hz', deadband: 0.01 }),
  point('energy', 'counter', `${PARK}/MMTR1.TotWh.actVal[ST]`, 'Energy out', { unit: 'kWh' }),
  point('sun', 'analog', `${PARK}/GGIO1.AnIn1.mag.f[MX]`, 'Irradiance', { unit: 'W/m²', deadband: 5 }),
  point('curtailed', 'binary', `${PARK}/GGIO1.Ind1.stVal[ST]`, 'Curtailed', { states: ['no', 'yes'] }),
  point('ready', 'binary', `${PARK}/GGIO1.Ind2.stVal[ST]`, 'Park ready', { states: ['no', 'yes'] }),
  point('limit', 'setpoint', `${PARK}/GGIO1.AnOut1[CO]`, 'Active power at most', {
    ...{ unit: 'MW', setting: { low: 0, high: 12 } },
  }),
  point('run', 'output', `${PARK}/GGIO1.SPCSO1[CO]`, 'Feed in', {
    ...{ states: ['stopped', 'on'], operations: ['latchOn', 'latchOff'] },
  }),
];
