import type { DeviceObject, ObjectKind, OutboundObject } from './objects.ts';
import { LINK_TYPES, type LinkType } from '../../line/index.ts';
import {
  definitionOf,
  PROTOCOLS,
  type ProtocolCode,
  deviceOf,
  wayOut,
  numberField as number,
  textField as text,
  type SettingField,
} from '../../protocols/index.ts';

/* The settings of links, devices and outbounds as people fill them in. */

const linkIs =
  (...types: LinkType[]) =>
  (document: unknown): boolean =>
    types.includes((document as { type: LinkType }).type);
const hasLine = (document: unknown): boolean =>
  linkIs('serial')(document) || Number(valueAt(document, 'line.bitRate')) > 0;
const usesTls = (document: unknown): boolean =>
  linkIs('tcpClient', 'tcpServer')(document) && valueAt(document, 'tls.use') === true;
const callsWithTls = (document: unknown): boolean => linkIs('tcpClient')(document) && usesTls(document);
const onDemand = (document: unknown): boolean =>
  linkIs('tcpClient', 'serial')(document) && valueAt(document, 'calls.when') === 'onDemand';

/** Of a link to devices. */
export const LINK_FIELDS: readonly SettingField[] = [
  text('code', 'Code', { open: true, help: 'Short and unique: capital letters, digits, hyphens' }),
  text('name', 'Name', { open: true }),
  {
    path: 'type',
    title: 'Way to the device',
    type: 'choice',
    choices: [
      ['tcpClient', 'TCP, we connect'],
      ['tcpServer', 'TCP, the device calls us'],
      ['udp', 'UDP'],
      ['serial', 'serial port'],
    ],
    open: true,
  },
  {
    path: 'framing',
    title: 'Framing',
    type: 'choice',
    choices: PROTOCOLS.flatMap((code) =>
      definitionOf(code).framings.map(({ code: own, words }) => [own, words] as const),
    ),
    open: true,
    applies: (document) => definitionOf((document as { protocol: ProtocolCode }).protocol).framings.length > 0,
  },
  text('host', 'Address of the device', {
    open: true,
    help: 'An IP address or a host name',
    applies: linkIs('tcpClient', 'udp'),
  }),
  number('port', 'TCP port of the device', '', [1, 65535], {
    open: true,
    applies: linkIs('tcpClient'),
  }),
  text('standbyHost', 'Its other address', {
    help: 'Of a redundant device, at the same port: tried in turn; empty: none',
    applies: linkIs('tcpClient'),
  }),
  number('port', 'UDP port of the device', '', [1, 65535], { open: true, applies: linkIs('udp') }),
  text('host', 'Our address to listen on', { open: true, applies: linkIs('tcpServer') }),
  number('port', 'Our TCP port', '', [1, 65535], { open: true, applies: linkIs('tcpServer') }),
  text('serialPort', 'Serial port', { open: true, help: 'On the engine: /dev/ttyS0', applies: linkIs('serial') }),
  number('localPort', 'Our UDP port', '', [0, 65535], { help: '0: any', applies: linkIs('udp') }),
  number('line.bitRate', 'Line, bit rate', 'bit/s', [0, 10_000_000], {
    help: 'Of the serial line or radio behind it, whose devices take turns; 0: none, devices that call have a call each',
    applies: linkIs('tcpClient', 'tcpServer', 'serial'),
  }),
  {
    path: 'line.parity',
    title: 'Line, parity',
    type: 'choice',
    choices: [
      ['none', 'none'],
      ['even', 'even'],
      ['odd', 'odd'],
    ],
    applies: hasLine,
  },
  number('line.dataBits', 'Line, data bits', '', [7, 8], { applies: hasLine }),
  number('line.stopBits', 'Line, stop bits', '', [1, 2], { applies: hasLine }),
  number('line.keyUpMs', 'Radio, key-up time', 'ms', [0, 10_000], { applies: hasLine }),
  number('line.keyDownMs', 'Radio, key-down time', 'ms', [0, 10_000], { applies: hasLine }),
  number('line.quietMs', 'Radio, rest after foreign traffic', 'ms', [0, 60_000], { applies: hasLine }),
  { path: 'line.keyWithRts', title: 'Radio, key it with RTS', type: 'boolean', applies: linkIs('serial') },
  {
    path: 'calls.when',
    title: 'Connected',
    type: 'choice',
    choices: [
      ['always', 'always'],
      ['onDemand', 'on demand: call, read, hang up'],
    ],
    applies: linkIs('tcpClient', 'serial'),
  },
  number('calls.everyMs', 'On demand, call every', 'ms', [0, 604_800_000], {
    help: '0: by hand or for a control',
    applies: onDemand,
  }),
  number('calls.idleMs', 'On demand, hang up after', 'ms', [100, 3_600_000], { applies: onDemand }),
  number('calls.lateAfterMs', 'Lost after no call for', 'ms', [0, 2_592_000_000], {
    help: '0: as soon as the link is away',
    applies: (document) => linkIs('tcpServer')(document) || onDemand(document),
  }),
  {
    path: 'allowFrom',
    title: 'Devices may call from',
    type: 'list',
    help: 'Addresses and networks: 10.1.0.0/16',
    applies: linkIs('tcpServer'),
  },
  {
    path: 'tls.use',
    title: 'TLS with certificates of both ends',
    type: 'boolean',
    applies: linkIs('tcpClient', 'tcpServer'),
  },
  text('tls.authorityFile', 'TLS, authority certificate', { help: 'PEM file on the engine', applies: usesTls }),
  text('tls.certificateFile', 'TLS, our certificate', { help: 'PEM file on the engine', applies: usesTls }),
  text('tls.keyFile', 'TLS, our key', { help: 'PEM file on the engine', applies: usesTls }),
  text('tls.serverName', "TLS, name in the device's certificate", {
    help: 'Empty: the address; of a device that calls, any',
    applies: usesTls,
  }),
  text('tls.revocationFile', 'TLS, revocation list', { help: 'PEM file on the engine; empty: none', applies: usesTls }),
  number('connectTimeoutMs', 'Connect time-out', 'ms', [100, 120_000], { applies: linkIs('tcpClient', 'serial') }),
  number('reconnectFirstMs', 'First pause before a new try', 'ms', [50, 60_000]),
  number('reconnectMaxMs', 'Longest pause before a new try', 'ms', [100, 3_600_000]),
];

/** What a link to centres says in other words; what is missing here they have not, or say for each outbound. */
const TOWARDS_CENTRES: Readonly<Record<string, Partial<SettingField>>> = {
  code: {},
  name: {},
  type: {
    title: 'Way to the centre',
    choices: [
      ['tcpServer', 'TCP, the centre calls us'],
      ['tcpClient', 'TCP, we connect'],
      ['udp', 'UDP'],
      ['serial', 'serial port'],
    ],
  },
  framing: {},
  'tcpClient host': { title: 'Address of the centre' },
  'tcpClient port': { title: 'TCP port of the centre' },
  'udp port': { title: 'UDP port of the centre' },
  'tcpServer host': {},
  'tcpServer port': {},
  standbyHost: { help: 'Of a redundant centre, at the same port: tried in turn; empty: none' },
  serialPort: {},
  localPort: {},
  'line.bitRate': { help: 'Of the serial line; 0: none', applies: linkIs('tcpClient', 'serial') },
  'line.parity': {},
  'line.dataBits': {},
  'line.stopBits': {},
  'calls.lateAfterMs': {
    title: 'Not connected after no request for',
    help: '0: as soon as the way is away',
    applies: linkIs('tcpClient', 'udp', 'serial'),
  },
  'tls.use': {},
  'tls.authorityFile': {},
  'tls.certificateFile': {},
  'tls.keyFile': {},
  'tls.serverName': {
    title: "TLS, name in the centre's certificate",
    help: 'Empty: the address',
    applies: callsWithTls,
  },
  'tls.revocationFile': {},
  connectTimeoutMs: {},
  reconnectFirstMs: { applies: linkIs('tcpClient', 'udp', 'serial') },
  reconnectMaxMs: { applies: linkIs('tcpClient', 'udp', 'serial') },
};

/** Fields that stand several times, for one type of link each. */
const typeOf = ({ path, applies }: SettingField): string | undefined =>
  path === 'host' || path === 'port' ? LINK_TYPES.find((type) => applies?.({ type })) : undefined;

/** Of a link to centres. */
export const CENTRE_LINK_FIELDS: readonly SettingField[] = LINK_FIELDS.flatMap((field) => {
  const type = typeOf(field);
  const own = TOWARDS_CENTRES[type === undefined ? field.path : `${type} ${field.path}`];
  return own === undefined ? [] : [{ ...field, ...own }];
});

const DEVICE_FIELDS: readonly SettingField[] = [
  text('code', 'Code', { open: true, help: 'Short and unique; stands in front of each point name' }),
  text('name', 'Name', { open: true }),
  text('description', 'Description', { open: true }),
  text('station', 'Station', { open: true }),
  text('link', 'Link', { open: true }),
  {
    path: 'life',
    title: 'Life',
    type: 'choice',
    choices: [
      ['drafted', 'drafted: not collected'],
      ['onTest', 'on test: collected, not passed on'],
      ['inService', 'in service'],
      ['outOfService', 'out of service: not polled'],
    ],
    open: true,
  },
  { path: 'passOnWhileOnTest', title: 'Pass on to centres while on test', type: 'boolean' },
];

const OUTBOUND_FIELDS: readonly SettingField[] = [
  text('code', 'Code', { open: true }),
  text('centre', 'Centre', { open: true }),
  text('name', 'What it is there', { open: true, help: 'centre, standby, neighbour' }),
  text('link', 'Link', { open: true }),
  {
    path: 'allowFrom',
    title: 'The centre may connect from',
    type: 'list',
    open: true,
    help: 'Addresses and networks: 10.1.0.0/16',
  },
  { path: 'controls', title: 'The centre may operate', type: 'boolean', open: true },
  {
    path: 'controlsFrom',
    title: 'Operates only from',
    type: 'list',
    help: 'Addresses and networks, among those that may connect',
    applies: (document) => valueAt(document, 'controls') === true,
  },
  {
    path: 'partner',
    title: 'It is our device too',
    type: 'choice',
    choices: [['', 'no']],
    help: 'Both give: none of its own points goes back to it',
  },
  {
    path: 'alsoPartners',
    title: 'And these devices',
    type: 'list',
    help: 'Their codes: further associations with the same party',
    applies: (document) => valueAt(document, 'partner') !== '',
  },
  text('peerName', "Name in the centre's certificate", { help: 'Where its link has TLS; empty: any' }),
];

/** Where nobody calls, asks or operates. */
const PUBLISHED_FIELDS: readonly SettingField[] = [
  text('code', 'Code', { open: true }),
  text('centre', 'Destination', { open: true }),
  text('name', 'What it is there', { open: true, help: 'archive, data warehouse' }),
  text('link', 'Link', { open: true }),
];

/** All that a device's document says, its protocol's settings last. */
export const deviceFields = (protocol: ProtocolCode): readonly SettingField[] => [
  ...DEVICE_FIELDS,
  ...deviceOf(protocol).fields,
];
export const outboundFields = (protocol: ProtocolCode): readonly SettingField[] => [
  ...(definitionOf(protocol).publishes === null ? OUTBOUND_FIELDS : PUBLISHED_FIELDS),
  ...(wayOut(protocol)?.fields ?? []),
];

export const STATION_FIELDS: readonly SettingField[] = [
  text('code', 'Code', { open: true, help: 'Short and unique: capital letters, digits, hyphens' }),
  text('name', 'Name', { open: true }),
  text('description', 'Description', { open: true }),
];

/** The fields of an object of a kind; none of those that have forms of their own. */
export function fieldsOf(kind: ObjectKind, document: unknown): readonly SettingField[] {
  switch (kind) {
    case 'station':
      return STATION_FIELDS;
    case 'link':
      return LINK_FIELDS;
    case 'device':
      return deviceFields((document as DeviceObject).protocol);
    case 'outbound':
      return outboundFields((document as OutboundObject).protocol);
    default:
      return [];
  }
}

/** Reads a path such as `settings.retries` out of a document. */
export function valueAt(document: unknown, path: string): unknown {
  let at: unknown = document;
  for (const part of path.split('.')) at = (at as Record<string, unknown> | null | undefined)?.[part];
  return at;
}

/** A copy of the document with the value at the path. */
export function withValueAt<Document>(document: Document, path: string, value: unknown): Document {
  const [first, ...rest] = path.split('.');
  const inner = (document as Record<string, unknown>)[first];
  return {
    ...document,
    [first]: rest.length === 0 ? value : withValueAt(inner as object, rest.join('.'), value),
  };
}
