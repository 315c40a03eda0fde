import { describe, expect, test } from 'vitest';
import {
  compacted,
  expanded,
  OBJECT_SCHEMAS,
  readConfiguration,
  upgradedConfiguration,
  upgradedObject,
} from './index.ts';

const point = { kind: 'analog', index: 7, name: 'Current', gain: 0.1, eventClass: 2 };
const control = {
  kind: 'output',
  index: 0,
  name: 'Breaker',
  control: {
    ...{ operations: ['trip'], onMs: 500, offMs: 250, feedbackWithinMs: 10_000 },
    feedback: { kind: 'binary', index: 0, expect: { trip: 0 } },
  },
};
const setpoint = {
  kind: 'setpoint',
  index: 3,
  name: 'Level',
  setting: {
    ...{ sentAs: 'int16', low: 0, high: 4, tolerance: 0, feedbackWithinMs: 10_000 },
    feedback: { kind: 'analog', index: 7 },
  },
};
const triggered = { kind: 'analog', index: 8, name: 'Peak', history: { mode: 'trigger', kind: 'binary', index: 0 } };
const mapping = {
  ...{ device: 'D1', kind: 'analog', index: 7 },
  target: { kind: 'analog', index: 107, eventClass: 2, staticVariation: 1, eventVariation: 3, deadband: 5 },
};
const document = {
  schema: 'halvix.configuration',
  version: 1,
  network: 'test',
  stations: [{ code: 'S', name: 'station' }],
  links: [{ code: 'L1', name: 'link', type: 'tcpClient', host: '127.0.0.1', port: 20000 }],
  devices: [
    {
      ...{ code: 'D1', name: 'device', station: 'S', link: 'L1', protocol: 'dnp3' },
      settings: { ourAddress: 1, theirAddress: 2 },
      points: [point, control, setpoint, triggered, { kind: 'binary', index: 0, name: 'Breaker' }],
    },
  ],
  outbounds: [
    {
      ...{ code: 'O1', name: 'centre', centre: 'Centre', protocol: 'dnp3', host: '127.0.0.1', port: 20100 },
      settings: { ourAddress: 10, theirAddress: 100 },
      mappings: [mapping],
    },
  ],
};

describe('documents of version 1', () => {
  test('are read as what they meant', () => {
    const read = readConfiguration(document);
    if (!read.ok) throw new Error(JSON.stringify(read.problem));
    const [analog, output, level, peak] = read.value.devices[0].points;
    expect(analog).toMatchObject({ kind: 'analog', at: { protocol: 'dnp3', index: 7, eventClass: 2 }, gain: 0.1 });
    expect(output.control?.feedback).toEqual({ point: 'BI 0', expect: { trip: 0 } });
    expect(level).toMatchObject({ at: { index: 3, sentAs: 'int16' }, setting: { low: 0, high: 4, feedback: 'AI 7' } });
    expect(peak.history).toEqual({ mode: 'trigger', point: 'BI 0' });
    expect(read.value.outbounds[0].mappings[0]).toEqual({
      device: 'D1',
      point: 'AI 7',
      target: {
        kind: 'analog',
        at: { protocol: 'dnp3', index: 107, eventClass: 2, staticVariation: 1, eventVariation: 3 },
        ...{ deadband: 5, mayControl: true, value: 'raw' },
      },
    });
  });

  test('are taken once: what is of today stays as it is', () => {
    const once = upgradedConfiguration(document);
    expect(upgradedConfiguration(once)).toBe(once);
    const piece = upgradedObject('point', setpoint);
    expect(upgradedObject('point', piece)).toBe(piece);
    const [outbound] = (once as { outbounds: unknown[] }).outbounds;
    expect(upgradedObject('outbound', outbound)).toBe(outbound);
    expect(upgradedObject('device', { code: 'D', index: 1 })).toEqual({ code: 'D', index: 1 });
  });

  test('in pieces, as a draft stores them, come out as one that was made today', () => {
    const draft = expanded('point', upgradedObject('point', { kind: 'analog', index: null, name: 'No address yet' }));
    expect(draft).toEqual(
      OBJECT_SCHEMAS.point.parse({ kind: 'analog', at: { protocol: 'dnp3', index: null }, name: 'No address yet' }),
    );
    const level = expanded('point', upgradedObject('point', setpoint));
    expect(compacted('point', level)).toEqual(compacted('point', OBJECT_SCHEMAS.point.parse(level)));
    expect(expanded('mapping', upgradedObject('mapping', mapping))).toMatchObject({ point: 'AI 7', device: 'D1' });
  });

  test('that have another shape than theirs do no harm, and are refused', () => {
    for (const broken of [
      { ...document, devices: 7 },
      { ...document, devices: [{ points: [null, 3, { index: {} }] }] },
      { ...document, outbounds: [{ mappings: [{ index: 1 }, { index: 1, kind: 'analog', target: null }] }] },
      {
        ...document,
        devices: [{ ...document.devices[0], points: [{ ...control, control: { feedback: { kind: 'x' } } }] }],
      },
    ])
      expect(readConfiguration(broken).ok).toBe(false);
  });
});

describe('documents of version 2', () => {
  const outbound = (code: string, theirAddress: number, more: object = {}): object => ({
    ...{ code, name: 'centre', centre: `Centre ${code}`, protocol: 'dnp3', host: '127.0.0.1', port: 20100 },
    ...{ settings: { ourAddress: 10, theirAddress }, allowFrom: ['10.1.0.0/16'], mappings: [] },
    ...more,
  });
  const tls = { use: true, authorityFile: 'a.pem', certificateFile: 'c.pem', keyFile: 'k.pem' };
  const read = (...outbounds: object[]): ReturnType<typeof readConfiguration> =>
    readConfiguration({ ...document, version: 2, devices: [], outbounds });

  test('say in each outbound where we listen: that becomes a link, one for all on a port', () => {
    const made = read(outbound('QST', 100), outbound('AMB', 101), outbound('L1', 102, { port: 20102 }));
    if (!made.ok) throw new Error(JSON.stringify(made.problem));
    const { links, outbounds } = made.value;
    // Where the code is taken, nearly the same one.
    expect(outbounds.map(({ code, link }) => [code, link])).toEqual([
      ['QST', 'AMB'],
      ['AMB', 'AMB'],
      ['L1', 'L1-2'],
    ]);
    expect(links.map(({ code, type, port, name }) => [code, type, port, name])).toEqual([
      ['L1', 'tcpClient', 20000, 'link'],
      ['AMB', 'tcpServer', 20100, 'To Centre AMB'],
      ['L1-2', 'tcpServer', 20102, 'To Centre L1'],
    ]);
    expect(outbounds[0].allowFrom).toEqual(['10.1.0.0/16']);
  });

  test('with TLS: the files go to the link, the name in the certificate stays with the outbound', () => {
    const made = read(
      outbound('QST', 100, { tls: { ...tls, serverName: 'quillstone.example' } }),
      outbound('AMB', 101, { tls: { ...tls, serverName: 'ambry.example' } }),
    );
    if (!made.ok) throw new Error(JSON.stringify(made.problem));
    expect(made.value.links[1]).toMatchObject({ code: 'AMB', tls: { ...tls, serverName: '' } });
    expect(made.value.outbounds.map(({ peerName }) => peerName)).toEqual(['quillstone.example', 'ambry.example']);
  });

  test('a piece of one names the link that bears its code', () => {
    expect(expanded('outbound', upgradedObject('outbound', outbound('QST', 100)))).toMatchObject({ link: 'QST' });
  });
});
