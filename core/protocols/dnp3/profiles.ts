import type { GenericProfile } from '../definition.ts';
import type { PointKind } from '../../point/index.ts';

type Row = GenericProfile['points'][number];
const list = (kind: PointKind, ...rows: (string | [name: string, fields: Record<string, string>])[]): Row[] =>
  rows.map((row, number) => {
    const [name, fields] = typeof row === 'string' ? [row, {}] : row;
    return { kind, number, name, fields };
  });
const make = (code: string, name: string, description: string, settings: object, points: Row[]): GenericProfile => ({
  code,
  name,
  description,
  settings,
  points,
});

const switched = (off: string, on: string): Record<string, string> => ({ states: `${off} / ${on}`, eventClass: '1' });
const measured = (unit: string, gain = '1'): Record<string, string> => ({ unit, gain, eventClass: '2' });
/** A 4 to 20 mA input of 12 bits, which reads 0 to 4095 (common practice). */
const loop = (unit: string, low: string, high: string): Record<string, string> => ({
  unit,
  rawLow: '0',
  rawHigh: '4095',
  low,
  high,
  range: 'live zero',
  deadband: '1 %',
  eventClass: '2',
});

/** Profiles that come along: a beginning to be adapted, of no particular make. */
export const GENERIC_PROFILES: readonly GenericProfile[] = [
  make('GENERIC-FEEDER', 'Feeder relay', 'feeder relay', {}, [
    ...list(
      'binary',
      ['Breaker', switched('open', 'closed')],
      ['Earth switch', switched('open', 'closed')],
      ['Trip', switched('reset', 'operated')],
      ['Local/remote', switched('local', 'remote')],
      ['Spring', switched('slack', 'charged')],
      ['Trip circuit', switched('faulty', 'healthy')],
      ['Auto-reclose', switched('off', 'on')],
      ['Self-check', switched('failed', 'passed')],
    ),
    ...list(
      'output',
      ['Breaker', { operations: 'trip / close', feedback: 'BI 0 (trip 0, close 1)' }],
      ['Reset trip', { operations: 'pulse on', feedback: 'BI 2 (pulse on 0)' }],
      ['Auto-reclose', { operations: 'latch on / latch off', feedback: 'BI 6' }],
    ),
    ...list(
      'analog',
      ['Current L1', measured('A', '0.1')],
      ['Current L2', measured('A', '0.1')],
      ['Current L3', measured('A', '0.1')],
      ['Voltage L1-L2', measured('kV', '0.001')],
      ['Voltage L2-L3', measured('kV', '0.001')],
      ['Voltage L3-L1', measured('kV', '0.001')],
      ['Active power', measured('MW', '0.001')],
      ['Reactive power', measured('Mvar', '0.001')],
      ['Frequency', measured('Hz', '0.01')],
    ),
    ...list(
      'counter',
      ['Energy out', { unit: 'MWh', gain: '0.1', eventClass: '3' }],
      ['Breaker operations', { eventClass: '3' }],
    ),
  ]),
  make(
    'GENERIC-GATE',
    'Gate RTU',
    'gate RTU',
    { class1PeriodMs: 2000, class2PeriodMs: 5000, class3PeriodMs: 30_000, integrityPeriodMs: 600_000 },
    [
      ...list('doubleBit', ['Gate 1', { states: 'moving / shut / open / faulty', eventClass: '1' }]),
      ...list(
        'binary',
        ['Local/remote', switched('local', 'remote')],
        ['Motor overload', switched('no', 'yes')],
        ['Mains', switched('failed', 'present')],
        ['Door', switched('shut', 'open')],
      ),
      ...list('output', ['Gate 1 raise', { operations: 'pulse on' }], ['Gate 1 lower', { operations: 'pulse on' }]),
      ...list(
        'analog',
        ['Gate 1 position', loop('%', '0', '100')],
        ['Upstream level', loop('m', '0', '6')],
        ['Downstream level', loop('m', '0', '6')],
        ['Flow', loop('m³/s', '0', '25')],
        ['Battery', measured('V', '0.1')],
      ),
    ],
  ),
  make(
    'GENERIC-REPEATER',
    'Repeater hut',
    'repeater hut',
    {
      class1PeriodMs: 10_000,
      class2PeriodMs: 60_000,
      class3PeriodMs: 0,
      integrityPeriodMs: 900_000,
      responseTimeoutMs: 3000,
    },
    [
      ...list(
        'binary',
        ['Door', switched('shut', 'open')],
        ['Mains', switched('failed', 'present')],
        ['Charger', switched('faulty', 'healthy')],
      ),
      ...list(
        'analog',
        ['Battery voltage', measured('V', '0.1')],
        ['Hut temperature', measured('°C', '0.1')],
        ['Received signal', measured('dBm')],
      ),
    ],
  ),
  make(
    'GENERIC-LOGGER',
    'Logger',
    'battery logger',
    {
      class1PeriodMs: 60_000,
      class2PeriodMs: 60_000,
      class3PeriodMs: 60_000,
      integrityPeriodMs: 0,
      responseTimeoutMs: 10_000,
      retries: 1,
    },
    [
      ...list('binary', ['Enclosure', switched('shut', 'open')], ['Battery low', switched('no', 'yes')]),
      ...list(
        'analog',
        ['Pressure', loop('bar', '0', '16')],
        ['Flow', measured('l/s', '0.01')],
        ['Battery voltage', measured('V', '0.01')],
      ),
      ...list('counter', ['Volume', { unit: 'm³', eventClass: '3' }]),
    ],
  ),
];
