import { configurationSchema } from '@halvix/core/config';
import { expect, test } from 'vitest';
import type { Model } from './model.ts';
import { search } from './search.ts';

const configuration = configurationSchema.parse({
  schema: 'halvix.configuration',
  version: 3,
  network: 'test',
  stations: [{ code: 'HLM', name: 'Hollowmere', description: 'substation' }],
  links: [
    { code: 'L', name: 'LAN', type: 'tcpClient', host: '127.0.0.1', port: 20001 },
    { code: 'QST', name: 'To Quillstone', type: 'tcpServer', host: '127.0.0.1', port: 20100 },
  ],
  devices: [
    {
      code: 'HLM-F1',
      name: 'F1 feeder relay',
      station: 'HLM',
      link: 'L',
      protocol: 'dnp3',
      settings: { ourAddress: 1, theirAddress: 11 },
      points: [
        { kind: 'analog', at: { protocol: 'dnp3', index: 7 }, name: 'Voltage L1-L2' },
        { kind: 'analog', at: { protocol: 'dnp3', index: 17 }, name: 'Breaker wear' },
        { kind: 'binary', at: { protocol: 'dnp3', index: 0 }, name: 'Breaker 52A' },
      ],
    },
  ],
  outbounds: [
    {
      code: 'QST',
      name: 'centre',
      centre: 'Quillstone',
      protocol: 'dnp3',
      link: 'QST',
      settings: { ourAddress: 10, theirAddress: 100 },
      mappings: [],
    },
  ],
});
const [device] = configuration.devices;
const model: Model = {
  revision: 1,
  configuration,
  numbers: null,
  points: new Map(device.points.map((config, id) => [id, { id, device, config }])),
};
const titles = (query: string): string[] => search(model, query).map(({ title }) => title);

test('finds stations, devices, outbounds and points by name, code and address', () => {
  expect(titles('hollow')).toEqual(['Hollowmere']);
  expect(titles('20001')).toEqual(['HLM-F1 F1 feeder relay']);
  expect(titles('address 11')).toEqual(['HLM-F1 F1 feeder relay']);
  expect(titles('quill')).toEqual(['Quillstone']);
  expect(titles('voltage hlm-f1')).toEqual(['Voltage L1-L2']);
});

test('the exact address comes first, then names that begin so', () => {
  expect(titles('ai 7')[0]).toBe('Voltage L1-L2');
  expect(titles('ai 17')[0]).toBe('Breaker wear');
  expect(titles('breaker')).toEqual(['Breaker 52A', 'Breaker wear']);
});

test('nothing asked, nothing found', () => {
  expect(titles('')).toEqual([]);
  expect(titles('no such thing')).toEqual([]);
});
