import type { Operation, PointKind } from '@halvix/core/point';
import { targetAtSchema, type PointType, type TaseTargetAt } from '@halvix/core/protocols/tase2';
import type { PlantPoint } from '../plant.ts';

/** A point of a peer, as its list and its stand-in have it. */
export interface PeerPoint extends PlantPoint {
  at: TaseTargetAt;
  states: string[] | null;
  operations: Operation[];
  setting: { low: number; high: number; feedback: string; tolerance: number } | null;
  feedback: { point: string; expect: Record<string, number> } | null;
}

export const NORTHMARK_DOMAIN = 'NMK';
export const OUR_DOMAIN = 'VBU';
export const TABLE = 'NMK-VBU-4';
export const CALDMERE_DOMAIN = 'CMR';
export const CALDMERE_TABLE = 'CMR-VBU-1';

type More = Partial<Omit<PeerPoint, 'key' | 'kind' | 'at' | 'name'>>;
const point = (
  key: string,
  kind: PointKind,
  name: string,
  type: PointType,
  words: string,
  { select, tag, ...more }: More & { select?: boolean; tag?: boolean } = {},
): PeerPoint => ({
  ...{ key, kind, name: words, unit: '', gain: 1, states: null, operations: [], setting: null, feedback: null },
  at: targetAtSchema.parse({ protocol: 'tase2', name, type, ...(select ? { select } : {}), ...(tag ? { tag } : {}) }),
  ...more,
});
const SWITCHED = ['moving', 'open', 'closed', 'bad'];

/** What Northmark has for us: the tie at Hollowmere, its network, and what we may ask for. */
export const NORTHMARK_POINTS: readonly PeerPoint[] = [
  point('tie', 'doubleBit', 'TIE_CB', 'StateQTimeTag', 'Tie breaker', { states: SWITCHED }),
  point('line', 'binary', 'TIE_LIVE', 'StateQ', 'Tie line live', { states: ['dead', 'live'] }),
  point('power', 'analog', 'TIE_MW', 'RealQTimeTag', 'Tie, active power', { unit: 'MW' }),
  point('reactive', 'analog', 'TIE_MVAR', 'RealQTimeTag', 'Tie, reactive power', { unit: 'Mvar' }),
  point('tension', 'analog', 'TIE_KV', 'RealQ', 'Tie, voltage', { unit: 'kV' }),
  point('frequency', 'analog', 'FREQ', 'RealQTimeTagExtended', 'Frequency', { unit: 'Hz' }),
  point('load', 'analog', 'SYS_LOAD', 'RealQ', 'Load of Northmark', { unit: 'MW' }),
  point('reserve', 'analog', 'SPIN_RES', 'DiscreteQ', 'Reserve', { unit: 'MW' }),
  point('energy', 'counter', 'TIE_MWH', 'DiscreteExtended', 'Tie, energy', { unit: 'MWh' }),
  point('alarm', 'binary', 'NET_ALARM', 'StateQTimeTag', 'Network alarm', { states: ['no', 'yes'] }),
  point('control', 'output', 'TIE_CB_CMD', 'Command', 'Tie breaker', {
    ...{ states: ['open', 'closed'], operations: ['trip', 'close'], select: true, tag: true },
    feedback: { point: `${NORTHMARK_DOMAIN}/TIE_CB`, expect: { trip: 1, close: 2 } },
  }),
  point('schedule', 'setpoint', 'TIE_SCHED', 'SetpointReal', 'Exchange wanted', {
    ...{ unit: 'MW', setting: { low: -20, high: 20, feedback: `${NORTHMARK_DOMAIN}/TIE_MW`, tolerance: 0.5 } },
  }),
];

/** What Caldmere, which looks after the region, has for us. */
export const CALDMERE_POINTS: readonly PeerPoint[] = [
  point('frequency', 'analog', 'REG_HZ', 'RealQTimeTagExtended', 'Frequency of the region', { unit: 'Hz' }),
  point('load', 'analog', 'REG_MW', 'RealQTimeTag', 'Load of the region', { unit: 'MW' }),
  point('wind', 'analog', 'WIND_MW', 'RealQ', 'Wind in the region', { unit: 'MW' }),
  point('alert', 'binary', 'ALERT', 'StateQTimeTag', 'Alert of the region', { states: ['no', 'yes'] }),
  point('reserve', 'setpoint', 'OUR_RES', 'SetpointReal', 'Reserve that we offer', {
    ...{ unit: 'MW', setting: { low: 0, high: 10, feedback: `${CALDMERE_DOMAIN}/RES_MW`, tolerance: 0.05 } },
  }),
  point('taken', 'analog', 'RES_MW', 'RealQTimeTag', 'Reserve taken note of', { unit: 'MW' }),
];
