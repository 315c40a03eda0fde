import { modbusAt, type ModbusAt } from '@halvix/core/protocols/modbus';
import type { Operation, PointKind } from '@halvix/core/point';
import type { PlantPoint } from '../plant.ts';

/** A point of a Modbus device of the scenario, as its list and its stand-in have it. */
export interface ModbusPoint extends PlantPoint {
  at: ModbusAt;
  states: string[] | null;
  operations: Operation[];
  /** Of what can be set, in its unit; of a text that can be written without limits. */
  setting: { low: number | null; high: number | null } | null;
}

/** Whether a point is there to be operated, set or written. */
export const isWritten = ({ kind, setting }: ModbusPoint): boolean => kind === 'output' || setting !== null;

type More = Partial<Omit<ModbusPoint, 'key' | 'kind' | 'at' | 'name'>>;
const point = (key: string, kind: PointKind, at: ModbusAt, name: string, more: More = {}): ModbusPoint => ({
  ...{ key, kind, at, name, unit: '', gain: 1, states: null, operations: [], setting: null },
  ...more,
});
const input = (address: number, more: Partial<ModbusAt> = {}): ModbusAt => modbusAt('inputRegisters', address, more);
const holding = (address: number, more: Partial<ModbusAt> = {}): ModbusAt =>
  modbusAt('holdingRegisters', address, more);
const float = { type: 'float32' } as const;
const slow = { group: 2 } as const;
const rarely = { group: 3 } as const;

/** The flow computer at Fennick: floats as they are, totals in 64 bits, alarms as bits of a register. */
export const FLOW_COMPUTER: readonly ModbusPoint[] = [
  point('flow', 'analog', input(0, float), 'Gas flow', { unit: 'm³/h' }),
  point('pressure', 'analog', input(2, float), 'Line pressure', { unit: 'bar' }),
  point('temperature', 'analog', input(4, float), 'Gas temperature', { unit: '°C' }),
  point('power', 'analog', input(6, float), 'Energy flow', { unit: 'MW' }),
  point('volume', 'counter', input(10, { type: 'uint32', ...slow }), 'Volume total', { unit: 'm³' }),
  point('energy', 'counter', input(12, { type: 'uint64', ...slow }), 'Energy total', { unit: 'kWh' }),
  point('heating', 'analog', input(20, { ...float, ...slow }), 'Calorific value', { unit: 'MJ/m³' }),
  point('lowPressure', 'binary', input(30, { bit: 0 }), 'Low pressure', { states: ['no', 'low'] }),
  point('lowOdour', 'binary', input(30, { bit: 1 }), 'Odoriser', { states: ['dosing', 'failed'] }),
  point('offGrade', 'binary', input(30, { bit: 2 }), 'Gas quality', { states: ['on grade', 'off grade'] }),
  point('serial', 'text', input(40, { type: 'text', registers: 6, ...rarely }), 'Serial number'),
  point('started', 'text', input(46, { type: 'time32', ...rarely }), 'Last start'),
  point('wanted', 'setpoint', holding(100), 'Flow wanted', {
    ...{ unit: 'm³/h', gain: 0.1 },
    setting: { low: 0, high: 500 },
  }),
  point('batch', 'text', holding(110, { type: 'text', registers: 8, ...slow }), 'Batch', {
    setting: { low: null, high: null },
  }),
  point('valve', 'output', modbusAt('coils', 0), 'Injection valve', {
    ...{ states: ['shut', 'open'] },
    operations: ['latchOn', 'latchOff'],
  }),
  point('purge', 'output', modbusAt('coils', 3), 'Purge', {
    ...{ states: ['off', 'on'] },
    operations: ['pulseOn', 'latchOff'],
  }),
  point('isOpen', 'binary', modbusAt('discreteInputs', 0), 'Valve open', { states: ['no', 'yes'] }),
  point('isShut', 'binary', modbusAt('discreteInputs', 1), 'Valve shut', { states: ['no', 'yes'] }),
  point('remote', 'binary', modbusAt('discreteInputs', 2), 'Local/remote', { states: ['local', 'remote'] }),
];

/** The transformer monitor at Hollowmere: whole numbers in tenths. */
export const TRANSFORMER_MONITOR: readonly ModbusPoint[] = [
  point('oil', 'analog', holding(0, { type: 'int16' }), 'Top oil temperature', { unit: '°C', gain: 0.1 }),
  point('winding', 'analog', holding(1, { type: 'int16' }), 'Winding hot spot', { unit: '°C', gain: 0.1 }),
  point('ambient', 'analog', holding(2, { type: 'int16' }), 'Ambient temperature', { unit: '°C', gain: 0.1 }),
  point('load', 'analog', holding(3), 'Load', { unit: '%', gain: 0.1 }),
  point('moisture', 'analog', holding(4, slow), 'Moisture in oil', { unit: 'ppm' }),
  point('hydrogen', 'analog', holding(5, slow), 'Hydrogen in oil', { unit: 'ppm' }),
  point('tap', 'analog', holding(6), 'Tap position'),
  point('fanStart', 'setpoint', holding(20, { type: 'int16' }), 'Fans start at', {
    ...{ unit: '°C', gain: 0.1 },
    setting: { low: 40, high: 90 },
  }),
  point('fans', 'output', modbusAt('coils', 10), 'Fans by hand', {
    ...{ states: ['off', 'on'] },
    operations: ['latchOn', 'latchOff'],
  }),
  point('fansRun', 'binary', modbusAt('discreteInputs', 10), 'Fans run', { states: ['no', 'yes'] }),
  point('gasRelay', 'binary', modbusAt('discreteInputs', 11), 'Gas relay', { states: ['normal', 'tripped'] }),
];

/** An energy meter at Orlane: floats whose registers come the other way round. */
export const ENERGY_METER: readonly ModbusPoint[] = [
  point('voltage', 'analog', input(0, { ...float, order: 'CDAB' }), 'Voltage L1-N', { unit: 'V' }),
  point('current', 'analog', input(2, { ...float, order: 'CDAB' }), 'Current L1', { unit: 'A' }),
  point('power', 'analog', input(4, { ...float, order: 'CDAB' }), 'Active power', { unit: 'kW' }),
  point('frequency', 'analog', input(6, { ...float, order: 'CDAB' }), 'Frequency', { unit: 'Hz' }),
  point('energy', 'counter', input(20, { type: 'uint32', order: 'CDAB', ...slow }), 'Energy out', {
    ...{ unit: 'kWh', gain: 0.1 },
  }),
  point('serial', 'text', input(60, { type: 'text', registers: 4, ...rarely }), 'Serial number'),
  point('relay', 'output', modbusAt('coils', 0, slow), 'Feed-in relay', {
    ...{ states: ['open', 'closed'] },
    operations: ['latchOn', 'latchOff'],
  }),
];

/** Meters of the line, by their unit identifiers. */
export const METER_UNITS = [11, 12, 13, 14, 15, 16, 17, 18] as const;
