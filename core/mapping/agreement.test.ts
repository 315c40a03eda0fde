import { expect, test } from 'vitest';
import { configurationSchema, loopOf, type Configuration } from '../config/index.ts';
import { newPoint } from '../pointlist/index.ts';
import { agreementTable, agreementWith } from './agreement.ts';
import { mappingTo } from './rules.ts';

const tie = { ...newPoint('dnp3', 'analog', 3, 'Tie'), unit: 'MW' };
const breaker = newPoint('dnp3', 'output', 1, 'Breaker');
const configuration = (): Configuration => {
  const device = (code: string, port: number) => ({
    ...{ code, name: code, station: 'S', link: code, protocol: 'dnp3' },
    settings: { ourAddress: 1, theirAddress: port, integrityPeriodMs: 600_000 },
    points: [tie, { ...breaker, control: { operations: ['trip'] } }],
  });
  return configurationSchema.parse({
    ...{ schema: 'halvix.configuration', version: 3, network: 'Ours', stations: [{ code: 'S', name: 'S' }] },
    links: ['OWN', 'FAR', 'O'].map((code, n) => ({
      ...{ code, name: code, type: code === 'O' ? 'tcpServer' : 'tcpClient', port: 20_000 + n },
    })),
    devices: [device('OWN', 11), device('FAR', 12)],
    outbounds: [
      {
        ...{ code: 'O', name: 'neighbour', centre: 'Far', link: 'O', protocol: 'dnp3', partner: 'FAR' },
        settings: { ourAddress: 10, theirAddress: 100 },
        mappings: [
          mappingTo({ device: 'OWN', ...tie }, 'dnp3', 'analog', 7, 'engineering'),
          mappingTo({ device: 'OWN', ...breaker }, 'dnp3', 'output', 2, 'raw'),
        ],
      },
    ],
  });
};

test('an agreement names both directions, their terms, and who operates what', () => {
  const all = configuration();
  const agreement = agreementWith(all.outbounds[0], all);
  expect(agreement.given.slice(1).map((row) => row.join('|'))).toEqual([
    expect.stringMatching(/^AI 7\|.*\|OWN Tie\|MW\|in units\|to them$/),
    expect.stringMatching(/^BO 2\|.*OWN Breaker.*control from them$/),
  ]);
  expect(agreement.got.slice(1)).toEqual([
    ['AI 3', 'AI', 'FAR Tie', 'MW', '', 'to us'],
    ['BO 1', 'BO', 'FAR Breaker', '', '', 'status to us, control from us'],
  ]);
  expect(agreement.operating).toEqual(['Far operates 1 of ours', 'we operate 1 there']);
  expect(agreement.getting.map(({ what, ours }) => `${what}: ${ours}`)).toEqual(
    expect.arrayContaining(['TCP port: any', expect.stringMatching(/^Asked for: .*: every 10 min$/)]),
  );
  expect(agreement.giving.find(({ what }) => what === 'TCP port')).toMatchObject({ ours: '20002' });
  expect(agreementTable(agreement).map(([first]) => first)).toEqual(
    expect.arrayContaining(['How they get it', 'How we get it', 'We give Far', 'Far gives us']),
  );
});

test('a party that is several devices: each is named, and none of their points goes back', () => {
  const all = configuration();
  const outbound = { ...all.outbounds[0], alsoPartners: ['OWN'] };
  const agreement = agreementWith(outbound, all);
  expect(agreement.devices).toEqual(['FAR', 'OWN']);
  expect(agreement.got.slice(1).map((row) => row[2])).toEqual(['FAR Tie', 'FAR Breaker', 'OWN Tie', 'OWN Breaker']);
  expect(agreement.getting.map(({ what }) => what)).toEqual(expect.arrayContaining(['FAR: TCP port', 'OWN: TCP port']));
  expect(loopOf(outbound, { device: 'OWN' })).toContain('OWN is Far');
});

test('a party that may operate nothing, and gives nothing', () => {
  const all = configuration();
  const agreement = agreementWith({ ...all.outbounds[0], partner: '', controls: false }, all);
  expect(agreement).toMatchObject({ devices: [], getting: [], operating: ['Far operates nothing of ours'] });
  expect(agreement.got).toHaveLength(1);
  expect(agreement.given.flat().filter((text) => text.includes('control from'))).toEqual([]);
});
