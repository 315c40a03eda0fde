import { describe, expect, test } from 'vitest';
import { settingSheet, twoEnds } from './ends.ts';
import { OBJECT_SCHEMAS } from './objects.ts';

const device = (settings: object) =>
  OBJECT_SCHEMAS.device.parse({
    ...{ code: 'D', name: 'Relay', station: 'S', link: 'L', protocol: 'dnp3' },
    settings: { ourAddress: 1, theirAddress: 11, ...settings },
  });
const link = (more: object) =>
  OBJECT_SCHEMAS.link.parse({ code: 'L', name: 'Link', type: 'tcpClient', port: 20000, host: '10.1.2.3', ...more });
const rows = (settings: object, more: object): Record<string, [ours: string, theirs: string]> =>
  Object.fromEntries(twoEnds(device(settings), link(more)).map(({ what, ours, theirs }) => [what, [ours, theirs]]));

describe('both ends of a device', () => {
  test('where we call it listens, and each knows the other by its address', () => {
    expect(rows({}, {})).toMatchObject({
      Connection: ['TCP client, calls', 'TCP server, listens'],
      'IP address': ['any of this machine', '10.1.2.3'],
      'TCP port': ['any', '20000'],
      'DNP3 address': ['1', '11'],
      'Knows as the other': ['outstation 11', 'master 1'],
    });
  });

  test('where it calls, we listen', () => {
    expect(rows({}, { type: 'tcpServer', host: '10.9.9.9' })).toMatchObject({
      Connection: ['TCP server, listens', 'TCP client, calls'],
      'TCP port': ['20000', 'calls 20000'],
    });
  });

  test('a serial line has the same character at both ends', () => {
    const line = { bitRate: 9600, dataBits: 8, parity: 'even', stopBits: 1 };
    const character = '9600 bit/s, 8 data bits, parity even, 1 stop bit';
    expect(rows({}, { type: 'serial', serialPort: '/dev/ttyS0', line })).toMatchObject({
      Connection: ['/dev/ttyS0', 'serial'],
      Line: [character, character],
    });
  });

  test('what is not given, or cannot be, is a problem', () => {
    const problems = (settings: object, more: object): (string | null)[] =>
      // As a form has it, unchecked.
      twoEnds(device(settings), { ...link({}), ...more }).flatMap(({ problem }) => problem ?? []);
    expect(problems({}, {})).toEqual([]);
    expect(problems({ theirAddress: 1 }, { host: '' })).toEqual(['not given', 'both ends have the same address']);
    expect(problems({}, { type: 'serial' as const, serialPort: '' })).toEqual(['no port given']);
  });

  test('unsolicited reporting is said as it is set', () => {
    const said = (settings: object): unknown => rows(settings, {})['Unsolicited reporting'];
    expect(said({ unsolicitedClasses: [1, 2] })).toEqual(['switched on after start, classes 1, 2', 'on, classes 1, 2']);
    expect(said({ disableUnsolicited: true })).toEqual([
      'switched off at start',
      'off, or waits until it is switched on',
    ]);
    expect(said({ disableUnsolicited: false })).toEqual(['left as it is', 'as set there; what comes is taken']);
  });

  test('the sheet has what the person at the device sets, and how soon an answer is expected', () => {
    const sheet = settingSheet(device({ responseTimeoutMs: 1500 }), link({}));
    expect(sheet[0]).toEqual(['Setting at the device', 'Value']);
    expect(sheet).toContainEqual(['DNP3 address', '11']);
    expect(sheet.at(-1)).toEqual(['Response time-out expected', 'under 1500 ms']);
  });
});
