import { describe, expect, test } from 'vitest';
import { configurationSchema, type Configuration } from '../config/index.ts';
import { csvOf } from '../pointlist/index.ts';
import { agreementTable, agreementWith } from './agreement.ts';
import {
  agreementDocument,
  agreementOfRows,
  compareAgreement,
  madeBy,
  readAgreement,
  type AgreedFile,
} from './agreementfile.ts';

/** One of two parties of an agreement: what it gives of a relay, and what it has of the other one. */
const side = (us: string, them: string, own: [string, string], far: [string, string]): Configuration =>
  configurationSchema.parse({
    ...{ schema: 'halvix.configuration', version: 3, network: us, stations: [{ code: 'S', name: 'S' }] },
    links: [
      { code: 'R', name: 'R', type: 'tcpClient', port: 20_000 },
      { code: 'WAN', name: 'W', type: 'tcpClient', protocol: 'tase2', port: 20_001 },
      { code: 'O', name: 'O', type: 'tcpServer', protocol: 'tase2', port: 20_002 },
    ],
    devices: [
      {
        ...{ code: 'RELAY', name: 'relay', station: 'S', link: 'R', protocol: 'dnp3' },
        settings: { ourAddress: 1, theirAddress: 2 },
        points: [
          { kind: 'analog', at: { protocol: 'dnp3', index: 0 }, name: 'Power', unit: 'MW' },
          { kind: 'output', at: { protocol: 'dnp3', index: 0 }, name: 'Breaker', control: { operations: ['trip'] } },
        ],
      },
      {
        ...{ code: 'FAR', name: 'far', station: 'S', link: 'WAN', protocol: 'tase2', settings: { domain: far[0] } },
        points: [
          { kind: 'analog', at: { protocol: 'tase2', domain: far[0], name: far[1] }, name: 'Their power', unit: 'MW' },
        ],
      },
    ],
    outbounds: [
      {
        ...{
          code: 'O',
          name: 'o',
          centre: them,
          link: 'O',
          protocol: 'tase2',
          partner: 'FAR',
          settings: { domain: own[0] },
        },
        mappings: [
          {
            ...{ device: 'RELAY', point: 'AI 0' },
            target: { kind: 'analog', value: 'engineering', at: { protocol: 'tase2', name: own[1], type: 'RealQ' } },
          },
          {
            ...{ device: 'RELAY', point: 'BO 0' },
            target: { kind: 'output', value: 'raw', at: { protocol: 'tase2', name: 'TRIP', type: 'Command' } },
          },
        ],
      },
    ],
  });
const ours = side('Ours', 'Theirs', ['OUR', 'P1'], ['THR', 'Q1']);
const theirs = side('Theirs', 'Ours', ['THR', 'Q1'], ['OUR', 'P1']);
const fileOf = (configuration: Configuration): AgreedFile => {
  const read = readAgreement(agreementDocument(configuration.outbounds[0], configuration));
  if (!read.ok) throw new Error(read.problem);
  return read.value;
};
const csv = (configuration: Configuration): string =>
  csvOf(agreementTable(agreementWith(configuration.outbounds[0], configuration)));

describe('an agreement as a file', () => {
  test.each([
    ['JSON', (of: Configuration) => readAgreement(agreementDocument(of.outbounds[0], of))],
    ['CSV', (of: Configuration) => readAgreement(csv(of))],
    ['rows of a workbook', (of: Configuration) => agreementOfRows(agreementTable(agreementWith(of.outbounds[0], of)))],
  ])('as %s names both directions by the addresses that are asked for', (_how, read) => {
    const file = read(ours);
    expect(file.ok && file.value.given.map(({ address, kind, operated }) => [address, kind, operated])).toEqual([
      ['OUR/P1', 'analog', false],
      ['OUR/TRIP', 'output', true],
    ]);
    expect(file.ok && file.value.got).toMatchObject([
      { address: 'THR/Q1', kind: 'analog', name: 'FAR Their power', unit: 'MW' },
    ]);
    expect(file.ok && madeBy(file.value, 'Ours', 'Theirs')).toBe('us');
    expect(file.ok && madeBy(file.value, 'Theirs', 'Ours')).toBe('them');
  });

  test('a list without a title is what is given, by nobody that is known', () => {
    const read = readAgreement('Address;Kind;Name;Unit\nTHR/Q7;analog input;Load;MW\n;;;\n');
    expect(read).toMatchObject({ ok: true, value: { by: '', got: [], given: [{ address: 'THR/Q7', name: 'Load' }] } });
    expect(read.ok && madeBy(read.value, 'Ours', 'Theirs')).toBeNull();
  });

  test('a list with headings of their own, and a point named twice', () => {
    const read = readAgreement('Point name,Object name,Units,Type\nLoad,THR/Q7,MW,analog input\nAgain,THR/Q7,kW,AI\n');
    expect(read.ok && read.value.given[0]).toMatchObject({ address: 'THR/Q7', kind: 'analog', unit: 'MW' });
    const compared = read.ok && compareAgreement(read.value, false, ours.outbounds[0], ours);
    expect(compared && compared.missing.map(({ point }) => point?.name)).toEqual(['Load']);
  });

  test.each([
    ['{"schema":"other"}', /schema/],
    ['{nonsense', 'it begins as JSON and is none'],
    ['', 'there is no row'],
    ['one;two\n3;4', 'there is no list in it: a list has a row of headings, one of them “Address”'],
    [
      JSON.stringify({ ...JSON.parse(agreementDocument(ours.outbounds[0], ours)), version: 2 }),
      /version is another one than 1/,
    ],
  ])('what is none says why: %s', (text, problem) => {
    const read = readAgreement(text);
    expect(!read.ok && read.problem).toMatch(problem);
  });
});

describe('their file against our draft', () => {
  test('fits where both have the same', () => {
    const compared = compareAgreement(fileOf(theirs), false, ours.outbounds[0], ours);
    // Their list has no breaker of ours yet.
    expect(compared).toEqual({
      missing: expect.anything(),
      different: [],
      extra: [],
      wanted: [],
      unwanted: ['OUR/TRIP'],
    });
    expect(compared.missing.map(({ entry }) => entry.address)).toEqual(['THR/TRIP']);
  });

  test('names what is missing, more or otherwise, in both directions', () => {
    const file = fileOf(theirs);
    const changed: AgreedFile = {
      by: 'Theirs',
      given: [
        { ...file.given[0], address: 'THR/Q2', name: 'FAR Reserve', unit: 'kW' },
        { ...file.given[0], address: 'not an address at all', name: '' },
      ],
      got: [{ ...file.got[0], address: 'OUR/P9' }],
    };
    const compared = compareAgreement(changed, false, ours.outbounds[0], ours);
    expect(compared.missing.map(({ point, problem }) => point?.name ?? problem)).toEqual([
      'Reserve',
      'not an address at all is no address of TASE.2',
    ]);
    expect(compared.missing[0].point).toMatchObject({
      ...{ kind: 'analog', unit: 'kW', at: { protocol: 'tase2', domain: 'THR', name: 'Q2' } },
    });
    expect(compared.extra).toEqual(['THR/Q1']);
    expect(compared.wanted.map(({ entry, mapping }) => [entry.address, mapping])).toEqual([['OUR/P9', null]]);
    expect(compared.unwanted).toEqual(['OUR/P1', 'OUR/TRIP']);
    const other = { ...file, given: [{ ...file.given[0], unit: 'kW' }] };
    expect(compareAgreement(other, false, ours.outbounds[0], ours).different).toEqual([
      { address: 'THR/Q1', what: 'Unit', here: 'MW', there: 'kW' },
    ]);
  });

  test('a file of ours brings back what we offered, as it was', () => {
    const emptied = { ...ours.outbounds[0], mappings: [] };
    const compared = compareAgreement(fileOf(ours), true, emptied, ours);
    expect(compared.wanted.map(({ mapping }) => mapping)).toEqual(ours.outbounds[0].mappings);
    expect(compared.missing).toEqual([]);
  });
});
