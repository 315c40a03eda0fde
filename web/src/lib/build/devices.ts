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
  ...OBJECT_SCHEMAS.link.parse({ code: 'NEW', name: 'New', type: 'tcpClient', host: '127.0.0.1', port: 20000 }),
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

export function twoEnds({ settings }: DeviceObject, link: LinkObject): TwoEnds[] {
  const clash = settings.ourAddress === settings.theirAddress ? 'both ends have the same address' : null;
  return [
    { what: 'Protocol and role', ours: 'DNP3 master, asks', theirs: 'DNP3 outstation, answers', problem: null },
    { what: 'Connection', ours: 'TCP client, calls', theirs: 'TCP server, listens', problem: null },
    {
      what: 'IP address',
      ours: 'any of this machine',
      theirs: link.host || '–',
      problem: link.host ? null : 'not given',
    },
    { what: 'TCP port', ours: 'any', theirs: String(link.port), problem: null },
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
      ours: settings.disableUnsolicited ? 'switched off at start' : 'left as it is',
      theirs: settings.disableUnsolicited ? 'off' : 'as set there',
      problem: null,
    },
    {
      what: 'Time',
      ours: settings.timeSync === 'whenAsked' ? 'sets it when asked' : 'never sets it',
      theirs: settings.timeSync === 'whenAsked' ? 'asks for it (IIN1.4)' : 'from elsewhere',
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
