import { analog, binary, counter, numbered, output, type NumberedPoint, type Unnumbered } from './feederrelay.ts';

/** Invented point lists of the smaller stations. Gains turn wire counts into units. */

const doubleBit = (name: string): Unnumbered => ({
  ...binary(name, 'between', 'closed'),
  kind: 'doubleBit',
  states: ['between', 'closed', 'open', 'faulty'],
});
const setpoint = (name: string, unit: string, gain: number): Unnumbered => ({
  ...analog(name, unit, gain, 0),
  kind: 'setpoint',
});
const frozen = (name: string, unit: string, gain: number): Unnumbered => ({
  ...counter(name, unit, gain),
  kind: 'frozenCounter',
});

const text = (name: string): Unnumbered => ({ ...analog(name, '', 1, 0), kind: 'text' });

/** A gate station: two gates with their positions, levels on both sides, the flow, and the station's own state. */
const gateRtu = (first: string, second: string): readonly NumberedPoint[] => [
  ...numbered([doubleBit(first), doubleBit(second)]),
  ...numbered([
    binary('Mains', 'failed', 'present'),
    binary('Local/remote', 'local', 'remote'),
    binary('Door', 'closed', 'open'),
    binary('Battery', 'low', 'good'),
    binary('Clock', 'not set', 'set'),
    binary(`${first} obstructed`, 'no', 'yes'),
    binary(`${second} obstructed`, 'no', 'yes'),
    binary('High water', 'no', 'yes'),
  ]),
  ...numbered([output(first, 'latchOn', 'latchOff'), output(second, 'latchOn', 'latchOff')]),
  ...numbered([
    analog(`${first} opening`, '%', 0.1, 5),
    analog(`${second} opening`, '%', 0.1, 5),
    analog('Upstream level', 'm', 0.001, 3),
    analog('Downstream level', 'm', 0.001, 3),
    analog('Flow', 'm³/s', 0.001, 20),
    analog('Battery', 'V', 0.01, 5),
    analog('Temperature', '°C', 0.1, 5),
    analog('Radio signal', 'dBm', 1, 2),
  ]),
  ...numbered([counter('Volume passed', 'm³', 1), counter('Gate movements', '', 1)]),
  ...numbered([frozen('Volume passed, frozen', 'm³', 1)]),
  ...numbered([setpoint('Upstream level wanted', 'm', 0.001)]),
  ...numbered([text('Last order')]),
];

export const SKARN_WEIR = gateRtu('Head gate', 'Scour gate');
export const TOLBECK_SIPHON = gateRtu('Siphon inlet', 'Spillway gate');

/** A repeater hut: radio, battery, door. */
export const PIKE_MOOR: readonly NumberedPoint[] = [
  ...numbered([
    binary('Mains', 'failed', 'present'),
    binary('Door', 'closed', 'open'),
    binary('Battery', 'low', 'good'),
    binary('Transmitter', 'off', 'on'),
    binary('Clock', 'not set', 'set'),
  ]),
  ...numbered([
    analog('Battery', 'V', 0.01, 5),
    analog('Charging current', 'A', 0.01, 10),
    analog('Temperature', '°C', 0.1, 5),
    analog('Signal from Skarn', 'dBm', 1, 2),
    analog('Signal from Tolbeck', 'dBm', 1, 2),
  ]),
  ...numbered([counter('Keyings', '', 1)]),
];

/** A logger on batteries: pressure and flow once a minute, handed over when it calls. */
export const LAMBROOK: readonly NumberedPoint[] = [
  ...numbered([binary('Door', 'closed', 'open'), binary('Battery', 'low', 'good'), binary('Clock', 'not set', 'set')]),
  ...numbered([
    analog('Inlet pressure', 'bar', 0.001, 0),
    analog('Outlet pressure', 'bar', 0.001, 0),
    analog('Flow', 'l/s', 0.01, 0),
    analog('Battery', 'V', 0.001, 20),
  ]),
  ...numbered([counter('Volume', 'm³', 0.1)]),
];
