import { expect, test } from 'vitest';
import { configurationSchema, type DeviceConfig } from '../config/index.ts';
import { playObjection } from './ontest.ts';
import { playSchema } from './playing.ts';

const points = [
  ['analog', 'level'],
  ['binary', 'door'],
  ['doubleBit', 'gate'],
  ['output', 'open'],
].map(([kind, name]) => ({ kind, at: { protocol: 'dnp3', index: 0 }, name }));
const device = (life: DeviceConfig['life']): DeviceConfig =>
  configurationSchema.parse({
    ...{ schema: 'halvix.configuration', version: 3, network: 'test', stations: [], links: [], outbounds: [] },
    devices: [
      {
        ...{ code: 'D', name: 'device', station: 'S', link: 'L', protocol: 'dnp3', life, points },
        settings: { ourAddress: 1, theirAddress: 2 },
      },
    ],
  }).devices[0];
const between = (low: number, high: number) => playSchema.parse({ shape: 'sine', low, high, periodMs: 1000 });

test.each([
  ['AI 0', between(-5, 500), null],
  ['BI 0', between(0, 1), null],
  ['DBI 0', between(0, 3), null],
  ['BI 0', between(0, 2), 'value: 2 is no state of BI 0, which has 0 to 1'],
  ['DBI 0', between(-1, 2), 'value: -1 is no state of DBI 0, which has 0 to 3'],
  ['BO 0', between(0, 1), 'point: BO 0 is operated: it has no value to play'],
  ['AI 7', between(0, 1), 'point: there is no AI 7 in D'],
  ['AI 0', playSchema.parse({ shape: 'replay', csv: '0,1\n5,x' }), 'csv: line 2: x is not a value'],
])('%s of a device on test', (address, play, words) => {
  expect(playObjection(device('onTest'), address, play)).toBe(words);
});

test.each(['drafted', 'inService', 'outOfService'] as const)('nothing of a device %s is made up', (life) => {
  expect(playObjection(device(life), 'AI 0', between(0, 1))).toContain('device: D is not on test');
});
