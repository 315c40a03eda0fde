import {
  DEVICE_FIELDS,
  LINK_FIELDS,
  OBJECT_SCHEMAS,
  type DeviceObject,
  type ObjectDocument,
} from '@halvix/core/config';

export type LinkObject = ObjectDocument<'link'>;

/** The fields of a device's page: the device and its link as one form, in the order in which people ask. */
export const DEVICE_FORM = DEVICE_FIELDS.filter(({ path }) => path !== 'link' && path !== 'station');
export const LINK_FORM = LINK_FIELDS.filter(({ path }) => path !== 'code' && path !== 'name');

export const newDevice = (station: string): DeviceObject => ({
  ...OBJECT_SCHEMAS.device.parse({
    code: 'NEW',
    name: 'New',
    station: 'NEW',
    link: 'NEW',
    protocol: 'dnp3',
    life: 'inService',
    settings: { ourAddress: 1, theirAddress: 0 },
  }),
  code: '',
  name: '',
  station,
  link: '',
});

export const newLink = (): LinkObject => ({
  ...OBJECT_SCHEMAS.link.parse({ code: 'NEW', name: 'New', type: 'tcpClient', port: 20000 }),
  code: '',
  name: '',
  host: '',
});

/** What both ends have to be set to, side by side. */
export interface TwoEnds {
  what: string;
  ours: string;
  theirs: string;
  problem: string | null;
}

const unsolicitedWords = ({ disableUnsolicited, unsolicitedClasses }: DeviceObject['settings']): string =>
  unsolicitedClasses.length > 0
    ? `switched on after start, classes ${unsolicitedClasses.join(', ')}`
    : disableUnsolicited
      ? 'switched off at start'
      : 'left as it is';

/** How the two ends meet. */
function connectionEnds(link: LinkObject): TwoEnds[] {
  const { type, host, port, localPort, serialPort, line, tls } = link;
  const given = (words: string): { theirs: string; problem: string | null } => ({
    theirs: words || '–',
    problem: words ? null : 'not given',
  });
  const character = `${line.bitRate} bit/s, ${line.dataBits} data bits, parity ${line.parity}, ${line.stopBits} stop ${line.stopBits === 1 ? 'bit' : 'bits'}`;
  const lineEnds: TwoEnds[] =
    line.bitRate > 0 ? [{ what: 'Line', ours: character, theirs: character, problem: null }] : [];
  const tlsEnds: TwoEnds[] = tls.use
    ? [
        {
          what: 'TLS',
          ours: 'shows a certificate, wants one',
          theirs: 'shows a certificate, wants ours',
          problem: null,
        },
      ]
    : [];
  switch (type) {
    case 'tcpClient':
      return [
        { what: 'Connection', ours: 'TCP client, calls', theirs: 'TCP server, listens', problem: null },
        { what: 'IP address', ours: 'any of this machine', ...given(host) },
        { what: 'TCP port', ours: 'any', theirs: String(port), problem: null },
        ...tlsEnds,
        ...lineEnds,
      ];
    case 'tcpServer':
      return [
        { what: 'Connection', ours: 'TCP server, listens', theirs: 'TCP client, calls', problem: null },
        { what: 'IP address', ours: host, theirs: `calls ${host}`, problem: null },
        { what: 'TCP port', ours: String(port), theirs: `calls ${port}`, problem: null },
        ...tlsEnds,
      ];
    case 'udp':
      return [
        { what: 'Connection', ours: 'UDP', theirs: 'UDP', problem: null },
        { what: 'IP address', ours: 'any of this machine', ...given(host) },
        { what: 'UDP port', ours: localPort === 0 ? 'any' : String(localPort), theirs: String(port), problem: null },
      ];
    case 'serial':
      return [
        { what: 'Connection', ours: serialPort || '–', theirs: 'serial', problem: serialPort ? null : 'no port given' },
        ...lineEnds,
      ];
    default:
      return type satisfies never;
  }
}

export function twoEnds({ settings }: DeviceObject, link: LinkObject): TwoEnds[] {
  const clash = settings.ourAddress === settings.theirAddress ? 'both ends have the same address' : null;
  return [
    { what: 'Protocol and role', ours: 'DNP3 master, asks', theirs: 'DNP3 outstation, answers', problem: null },
    ...connectionEnds(link),
    {
      what: 'DNP3 address',
      ours: String(settings.ourAddress),
      theirs: String(settings.theirAddress),
      problem: clash,
    },
    {
      what: 'Knows as the other',
      ours: `outstation ${settings.theirAddress}`,
      theirs: `master ${settings.ourAddress}`,
      problem: null,
    },
    {
      what: 'Unsolicited reporting',
      ours: unsolicitedWords(settings),
      theirs:
        settings.unsolicitedClasses.length > 0
          ? `on, classes ${settings.unsolicitedClasses.join(', ')}`
          : settings.disableUnsolicited
            ? 'off, or waits until it is switched on'
            : 'as set there; what comes is taken',
      problem: null,
    },
    {
      what: 'Time',
      ours: settings.timeSync !== 'never' ? 'sets it when asked' : 'never sets it',
      theirs: settings.timeSync !== 'never' ? 'asks for it (IIN1.4)' : 'from elsewhere',
      problem: null,
    },
    {
      what: 'Longest fragment',
      ours: `${settings.maxFragment} octets`,
      theirs: `at most ${settings.maxFragment} octets`,
      problem: null,
    },
  ];
}

/** What the person at the device has to set, as lines to copy. */
export const settingSheet = (device: DeviceObject, link: LinkObject): string[][] => [
  ['Setting at the device', 'Value'],
  ...twoEnds(device, link).map(({ what, theirs }) => [what, theirs]),
  ['Response time-out expected', `under ${device.settings.responseTimeoutMs} ms`],
];
