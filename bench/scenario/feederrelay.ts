import type { Operation } from '@halvix/core/point';
import { numberedKey, type PlantPoint } from '../plant.ts';

/** A point of a device whose points are numbered by kind: what it is called, and how its wire value reads. */
export interface NumberedPoint extends PlantPoint {
  index: number;
  /** Change, in wire counts, that makes the device report. */
  deadband: number;
  states: readonly string[] | null;
  operations: Operation[];
}
export type Unnumbered = Omit<NumberedPoint, 'key' | 'index'>;

export const binary = (name: string, off: string, on: string): Unnumbered => ({
  kind: 'binary',
  name,
  unit: '',
  gain: 1,
  deadband: 0,
  states: [off, on],
  operations: [],
});
export const output = (name: string, ...operations: Operation[]): Unnumbered => ({
  ...binary(name, 'off', 'on'),
  kind: 'output',
  operations,
});
export const analog = (name: string, unit: string, gain: number, deadband: number): Unnumbered => ({
  kind: 'analog',
  name,
  unit,
  gain,
  deadband,
  states: null,
  operations: [],
});
export const counter = (name: string, unit: string, gain: number): Unnumbered => ({
  ...analog(name, unit, gain, 0),
  kind: 'counter',
});

export const numbered = (points: Unnumbered[]): NumberedPoint[] =>
  points.map((point, index) => ({ ...point, key: numberedKey(point.kind, index), index }));

export const SWITCHED: Operation[] = ['latchOn', 'latchOff'];

/** 28 binary inputs, 12 binary outputs, 36 analog inputs, 4 counters. */
export const FEEDER_RELAY: readonly NumberedPoint[] = [
  ...numbered([
    binary('Breaker 52A', 'open', 'closed'),
    binary('Earth switch', 'open', 'closed'),
    binary('Trip target', 'reset', 'operated'),
    binary('Overcurrent picked up', 'no', 'yes'),
    binary('Earth fault picked up', 'no', 'yes'),
    binary('Truck position', 'out', 'in service'),
    binary('Local/remote', 'local', 'remote'),
    binary('Closing spring', 'slack', 'charged'),
    binary('Gas pressure low', 'no', 'yes'),
    binary('Trip circuit', 'faulty', 'healthy'),
    binary('Closing blocked', 'no', 'yes'),
    binary('Auto-reclose', 'off', 'on'),
    binary('Auto-reclose running', 'no', 'yes'),
    binary('Voltage transformer fuse', 'intact', 'blown'),
    binary('Battery charger', 'faulty', 'healthy'),
    binary('Supply voltage low', 'no', 'yes'),
    binary('Self-check', 'failed', 'passed'),
    binary('Maintenance mode', 'off', 'on'),
    binary('Setting group 2', 'off', 'on'),
    binary('Undervoltage picked up', 'no', 'yes'),
    binary('Overvoltage picked up', 'no', 'yes'),
    binary('Underfrequency picked up', 'no', 'yes'),
    binary('Thermal warning', 'no', 'yes'),
    binary('Breaker wear warning', 'no', 'yes'),
    binary('Cabinet door', 'shut', 'open'),
    binary('Cabinet heater', 'off', 'on'),
    binary('Disturbance record ready', 'no', 'yes'),
    binary('Clock synchronised', 'no', 'yes'),
  ]),
  ...numbered([
    output('Trip/close 52A', 'trip', 'close'),
    output('Reset trip target', 'pulseOn'),
    output('Auto-reclose', ...SWITCHED),
    output('Setting group 2', ...SWITCHED),
    output('Start disturbance record', 'pulseOn'),
    output('Earth fault protection', ...SWITCHED),
    output('Block closing', ...SWITCHED),
    output('Cabinet heater', ...SWITCHED),
    output('Lamp test', 'pulseOn'),
    output('Reset peak demand', 'pulseOn'),
    output('Spare output 11', 'pulseOn', ...SWITCHED),
    output('Spare output 12', 'pulseOn', ...SWITCHED),
  ]),
  ...numbered([
    analog('Current L1', 'A', 0.025, 60),
    analog('Current L2', 'A', 0.025, 60),
    analog('Current L3', 'A', 0.025, 60),
    analog('Neutral current', 'A', 0.025, 20),
    analog('Voltage L1-N', 'kV', 0.001, 30),
    analog('Voltage L2-N', 'kV', 0.001, 30),
    analog('Voltage L3-N', 'kV', 0.001, 30),
    analog('Voltage L1-L2', 'kV', 0.001, 50),
    analog('Voltage L2-L3', 'kV', 0.001, 50),
    analog('Voltage L3-L1', 'kV', 0.001, 50),
    analog('Frequency', 'Hz', 0.01, 2),
    analog('Power factor', '', 0.001, 5),
    analog('Active power', 'MW', 0.001, 80),
    analog('Reactive power', 'Mvar', 0.001, 60),
    analog('Apparent power', 'MVA', 0.001, 80),
    analog('Demand current', 'A', 0.1, 10),
    analog('Peak demand current', 'A', 0.1, 10),
    analog('Breaker wear', '%', 0.1, 1),
    analog('Thermal load', '%', 0.1, 5),
    analog('Last fault current L1', 'A', 1, 1),
    analog('Last fault current L2', 'A', 1, 1),
    analog('Last fault current L3', 'A', 1, 1),
    analog('Fault distance', 'km', 0.01, 1),
    analog('Relay temperature', '°C', 0.1, 5),
    analog('Supply voltage', 'V', 0.1, 5),
    analog('Current distortion', '%', 0.1, 3),
    analog('Voltage distortion', '%', 0.1, 3),
    analog('Voltage unbalance', '%', 0.1, 2),
    analog('Current unbalance', '%', 0.1, 3),
    analog('Ambient temperature', '°C', 0.1, 5),
    analog('Cable temperature', '°C', 0.1, 5),
    analog('Current angle L1', '°', 0.1, 10),
    analog('Voltage angle L1', '°', 0.1, 10),
    analog('Rate of change of frequency', 'Hz/s', 0.001, 2),
    analog('Spring motor run time', 's', 0.1, 1),
    analog('Hours in service', 'h', 1, 1),
  ]),
  ...numbered([
    counter('Energy out', 'MWh', 0.1),
    counter('Energy in', 'MWh', 0.1),
    counter('Breaker operations', '', 1),
    counter('Relay starts', '', 1),
  ]),
];
