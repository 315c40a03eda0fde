import { describe, expect, test } from 'vitest';
import { readConfiguration } from '../index.ts';

// eslint-disable-next-line @typescript-eslint/no-explicit-any
type Loose = any;

const point = (kind: string, index: number, more: object = {}): Loose => ({
  kind,
  at: { protocol: 'dnp3', index },
  name: `${kind} ${index}`,
  ...more,
});
const mapping = (kind: string, index: number, target: object = {}): Loose => ({
  device: 'D1',
  point: `${kind === 'binary' ? 'BI' : 'BO'} ${index}`,
  target: {
    kind,
    at: { protocol: 'dnp3', index, eventClass: 1, staticVariation: 2, eventVariation: 2 },
    ...target,
  },
});
const good = (): Loose => ({
  schema: 'halvix.configuration',
  version: 3,
  network: 'test',
  stations: [{ code: 'S', name: 'station' }],
  links: [
    { code: 'L1', name: 'link', type: 'tcpClient', host: '127.0.0.1', port: 20000 },
    { code: 'O1', name: 'to the centre', type: 'tcpServer', host: '127.0.0.1', port: 20100 },
  ],
  devices: [
    {
      code: 'D1',
      name: 'device',
      station: 'S',
      link: 'L1',
      protocol: 'dnp3',
      settings: { ourAddress: 1, theirAddress: 2 },
      points: [
        point('binary', 0),
        point('output', 0, {
          control: { operations: ['trip'], feedback: { point: 'BI 0', expect: { trip: 0 } } },
        }),
      ],
    },
  ],
  outbounds: [
    {
      code: 'O1',
      name: 'centre',
      centre: 'Centre',
      protocol: 'dnp3',
      link: 'O1',
      settings: { ourAddress: 10, theirAddress: 100 },
      mappings: [mapping('binary', 0)],
    },
  ],
});

/** A device and an outbound of one agreement, on a link; `partner`: what the outbound says that it is. */
/** Outbounds to one broker, on two links to it. */
// eslint-disable-next-line @typescript-eslint/no-explicit-any
function publishWith(d: any, outbounds: object[]): void {
  const link = { name: 'b', type: 'tcpClient', protocol: 'mqtt', host: '10.1.0.7', port: 1883 };
  d.links.push({ ...link, code: 'B1' }, { ...link, code: 'B2' });
  d.outbounds = outbounds.map((more, at) => ({
    ...{ code: `O${at + 1}`, name: 'o', centre: 'Broker', protocol: 'mqtt', settings: {}, mappings: [] },
    ...more,
  }));
}
function agreeWith(document: Loose, type: string, partner: string): void {
  const of = { protocol: 'tase2', link: 'L1', settings: {} };
  Object.assign(document.links[0], { type, protocol: 'tase2', allowFrom: ['10.1.0.0/16'] });
  document.links.splice(1);
  const at = { protocol: 'tase2', domain: 'ICC1', name: 'TIE' };
  Object.assign(document.devices[0], { ...of, points: [{ kind: 'analog', name: 'Tie', at }] });
  Object.assign(document.outbounds[0], { ...of, partner, allowFrom: ['10.1.0.0/16'], mappings: [] });
}

/** The problems after a change to a good document, as `where: words`. */
function problems(change: (document: Loose) => void): string[] {
  const document = good();
  change(document);
  const read = readConfiguration(document);
  return read.ok ? [] : read.problem.map(({ where, words }) => `${where}: ${words}`);
}

describe('configuration document', () => {
  test('a good one is taken, with its defaults filled in', () => {
    const read = readConfiguration(good());
    expect(read.ok && read.value.devices[0].settings).toMatchObject({
      responseTimeoutMs: 1000,
      retries: 2,
      silentPeriodMs: 15_000,
      class1PeriodMs: 1000,
    });
  });

  test.each<[string, (d: Loose) => void, string]>([
    ['another version', (d) => (d.version = 4), 'version: '],
    [
      'a reserved address',
      (d) => (d.devices[0].settings.theirAddress = 65520),
      'A DNP3 address is at most 65519; 65520 to 65535 are reserved',
    ],
    ['a port too large', (d) => (d.links[0].port = 70_000), 'links.0.port: A port is at most 65535'],
    [
      'a gain of zero',
      (d) => (d.devices[0].points[0].gain = 0),
      'devices.0.points.0.gain: A gain of 0 would make every value the same',
    ],
    ['a code in small letters', (d) => (d.devices[0].code = 'd1'), 'devices.0.code: A code has'],
    ['an index too large', (d) => (d.devices[0].points[0].at.index = 65536), 'A DNP3 point index is at most 65535'],
    [
      'our address equal to the peer’s',
      (d) => (d.devices[0].settings.theirAddress = 1),
      "our address and the device's are both 1",
    ],
    [
      'two points on one address',
      (d) => d.devices[0].points.push(point('binary', 0)),
      'device D1, BI 0: another point has this address',
    ],
    ['a station that is not there', (d) => (d.devices[0].station = 'X'), 'device D1: there is no station X'],
    ['a link that is not there', (d) => (d.devices[0].link = 'X'), 'device D1: there is no link X'],
    [
      'two devices of one name',
      (d) => d.devices.push({ ...d.devices[0], link: 'L1' }),
      'device D1: another device has this code',
    ],
    [
      'two devices with one address on a link',
      (d) => d.devices.push({ ...d.devices[0], code: 'D2' }),
      'device D2: another device on link L1 has the address 2',
    ],
    [
      'a feedback point that is not in the list',
      (d) => (d.devices[0].points[1].control.feedback.point = 'BI 9'),
      'its feedback BI 9 is not in the list',
    ],
    [
      'a point that would come back to where it is from',
      (d) => (d.outbounds[0].partner = 'D1'),
      'outbound O1, BI 0: D1 is Centre: the point would come back to where it is from',
    ],
    [
      'a party that is no device of ours',
      (d) => (d.outbounds[0].partner = 'X'),
      'outbound O1: it is device X too, and there is no such device',
    ],
    [
      'a mapping from nowhere',
      (d) => d.outbounds[0].mappings.push(mapping('binary', 7)),
      'outbound O1, BI 7: there is no point BI 7 in D1',
    ],
    [
      'two mappings to one address',
      (d) => d.outbounds[0].mappings.push(mapping('binary', 0)),
      'outbound O1, BI 0: two points are mapped to this address',
    ],
    [
      'a mapping to another kind',
      (d) => (d.outbounds[0].mappings[0].target.kind = 'counter'),
      'BI 0 is of another kind',
    ],
    [
      'an object that does not exist',
      (d) => (d.outbounds[0].mappings[0].target.at.staticVariation = 5),
      'there is no object g1v5',
    ],
    [
      'two outbounds with the same addresses on one link',
      (d) => d.outbounds.push({ ...d.outbounds[0], code: 'O2' }),
      'outbound O2: another outbound on link O1 has our address 10, theirs 100 too',
    ],
    [
      'two clients of a broker with one name, by whatever link',
      (d) => publishWith(d, [{ link: 'B1' }, { link: 'B2' }]),
      'outbound O2: another outbound is client id halvix at 10.1.0.7:1883 too',
    ],
    [
      'two clients of a broker on one connection',
      (d) => publishWith(d, [{ link: 'B1' }, { link: 'B1', settings: { clientId: 'other' } }]),
      "outbound O2: another outbound is on link B1: its connection is one outbound's alone",
    ],
    [
      'a trigger to which nothing is mapped',
      (d) => publishWith(d, [{ link: 'B1', settings: { trigger: 'a#b' } }]),
      'outbound O1: its settings name a#b, and nothing is mapped there',
    ],
    [
      'a destination for which nothing is ever recorded',
      (d) => publishWith(d, [{ link: 'B1', settings: { onChange: false } }]),
      'outbound O1: nothing is ever recorded: neither changes, nor a period, nor a trigger is set',
    ],
    [
      'another address that is the first one',
      (d) => Object.assign(d.links[0], { type: 'tcpClient', host: '10.1.0.7', standbyHost: '10.1.0.7' }),
      'its other address 10.1.0.7 is its first one',
    ],
    [
      'two agreements on one port that let in the same callers',
      (d) => {
        const agreement = { ...d.outbounds[0], protocol: 'tase2', settings: {}, mappings: [] };
        d.outbounds = [
          { ...agreement, code: 'A', allowFrom: ['10.1.0.0/16'] },
          { ...agreement, code: 'B', allowFrom: ['10.2.0.0/16'] },
          { ...agreement, code: 'C', allowFrom: ['10.1.0.0/16'], settings: { transportSelector: '0002' } },
          { ...agreement, code: 'D', allowFrom: ['10.3.0.0/16', '10.2.7.1'] },
        ];
        d.links.find(({ code }: { code: string }) => code === 'O1').protocol = 'tase2';
      },
      'outbound D: B on link O1 lets in the same callers: name other networks, or another name in the certificate',
    ],
    [
      'an agreement on a link to devices that is none of them',
      (d) => agreeWith(d, 'tcpClient', ''),
      'outbound O1: its link L1 goes to devices: say which of them it is, and both have one association',
    ],
    [
      'a device where centres call that is none of them',
      (d) => agreeWith(d, 'tcpServer', ''),
      'device D1: on its link L1 centres call: say in an outbound there which of them it is',
    ],
    [
      'two agreements in one association',
      (d) => {
        agreeWith(d, 'tcpClient', 'D1');
        d.outbounds.push({ ...d.outbounds[0], code: 'O2' });
      },
      'outbound O2: another outbound is D1 in the same conversation',
    ],
  ])('%s is named', (_what, change, expected) => {
    expect(problems(change).join('\n')).toContain(expected);
  });

  test.each(['tcpClient', 'tcpServer'])('a device and a centre that are one party share a link of %s', (type) => {
    expect(problems((d) => agreeWith(d, type, 'D1'))).toEqual([]);
  });

  test('what is no document at all is refused without harm', () => {
    for (const nonsense of [null, 7, 'text', [], {}, { schema: 'other' }])
      expect(readConfiguration(nonsense).ok).toBe(false);
  });
});
