import type { LinkType } from './document.ts';

/**
 * The settings of links, devices and outbounds as people fill them in: title, unit, and whether they have to be filled
 * in or stay folded at their default. Forms, comparisons and sheets all read these tables.
 */
export interface SettingField {
  /** Path in the object's document: `settings.retries`. */
  path: string;
  title: string;
  type: 'text' | 'number' | 'boolean' | 'choice' | 'classes' | 'networks';
  unit?: string;
  limits?: readonly [number, number];
  choices?: readonly (readonly [value: string, words: string])[];
  /** Has to be filled in or looked at; the others are folded. */
  open?: boolean;
  /** What it does, in one line. */
  help?: string;
  /** Whether it means anything with what else the document says; absent: always. */
  applies?: (document: unknown) => boolean;
}

const number = (
  path: string,
  title: string,
  unit: string,
  limits: readonly [number, number],
  more: Partial<SettingField> = {},
): SettingField => ({ path, title, type: 'number', unit, limits, ...more });
const text = (path: string, title: string, more: Partial<SettingField> = {}): SettingField => ({
  path,
  title,
  type: 'text',
  ...more,
});

const NEVER = '0: never';
const DAY_MS = 86_400_000;

const linkIs =
  (...types: LinkType[]) =>
  (document: unknown): boolean =>
    types.includes((document as { type: LinkType }).type);
const hasLine = (document: unknown): boolean =>
  linkIs('serial')(document) || Number(valueAt(document, 'line.bitRate')) > 0;
const usesTls = (document: unknown): boolean =>
  linkIs('tcpClient', 'tcpServer')(document) && valueAt(document, 'tls.use') === true;
const withTls = (document: unknown): boolean => valueAt(document, 'tls.use') === true;
const onDemand = (document: unknown): boolean =>
  linkIs('tcpClient', 'serial')(document) && valueAt(document, 'calls.when') === 'onDemand';

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
  text('host', 'Address of the device', {
    open: true,
    help: 'An IP address or a host name',
    applies: linkIs('tcpClient', 'udp'),
  }),
  number('port', 'TCP port of the device', '', [1, 65535], {
    open: true,
    help: '20000 is usual for DNP3',
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
    type: 'networks',
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

export const DEVICE_FIELDS: readonly SettingField[] = [
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
  number('settings.theirAddress', 'Their DNP3 address', '', [0, 65519], { open: true }),
  number('settings.ourAddress', 'Our DNP3 address', '', [0, 65519], { open: true }),
  number('settings.class1PeriodMs', 'Class 1 events, period', 'ms', [0, DAY_MS], { help: NEVER }),
  number('settings.class2PeriodMs', 'Class 2 events, period', 'ms', [0, DAY_MS], { help: NEVER }),
  number('settings.class3PeriodMs', 'Class 3 events, period', 'ms', [0, DAY_MS], { help: NEVER }),
  number('settings.integrityPeriodMs', 'All values, period', 'ms', [0, DAY_MS], { help: NEVER }),
  number('settings.responseTimeoutMs', 'Response time-out', 'ms', [50, 120_000]),
  number('settings.retries', 'Retries', '', [0, 10]),
  number('settings.silentPeriodMs', 'A silent device is asked every', 'ms', [500, 3_600_000]),
  number('settings.silentTimeoutMs', 'A silent device is waited for', 'ms', [50, 120_000]),
  number('settings.share', 'Share of a shared line', '', [1, 100]),
  { path: 'settings.disableUnsolicited', title: 'Switch unsolicited reporting off at start', type: 'boolean' },
  {
    path: 'settings.unsolicitedClasses',
    title: 'Events that come unasked, after start',
    type: 'classes',
    help: 'Classes 1 to 3; none: the device is polled',
  },
  {
    path: 'settings.timeSync',
    title: 'Set the device clock',
    type: 'choice',
    choices: [
      ['whenAsked', 'when it asks, by delay measurement'],
      ['whenAskedLan', 'when it asks, as on a LAN'],
      ['never', 'never'],
    ],
  },
  {
    path: 'settings.eventReads',
    title: 'Events are asked for',
    type: 'choice',
    choices: [
      ['together', 'all classes together'],
      ['apart', 'class by class'],
      ['objects', 'by object, without classes'],
    ],
  },
  {
    path: 'settings.presentReads',
    title: 'Present values are asked for',
    type: 'choice',
    choices: [
      ['class0', 'by class 0'],
      ['objects', 'by object'],
    ],
  },
  number('settings.eventsAtOnce', 'Events of a class in one answer, at most', '', [0, 65_535], {
    help: '0: as many as it likes',
  }),
  { path: 'settings.pollAgain', title: 'Ask again at once while more events wait', type: 'boolean' },
  number('settings.minimumGapMs', 'Least gap between two reads', 'ms', [0, 60_000]),
  number('settings.timeAheadMs', 'Its times count as wrong when ahead by', 'ms', [1000, 31_622_400_000]),
  number('settings.timeBehindMs', 'Its times count as wrong when behind by', 'ms', [1000, 315_360_000_000]),
  number('settings.clockCheckMs', 'The device clock is compared every', 'ms', [0, DAY_MS], { help: NEVER }),
  number('settings.keepAliveMs', 'A quiet connection is tested after', 'ms', [0, DAY_MS], { help: NEVER }),
  { path: 'settings.linkConfirm', title: 'Confirmed link service', type: 'boolean' },
  number('settings.linkTimeoutMs', 'Link acknowledgement time-out', 'ms', [20, 60_000]),
  number('settings.linkRetries', 'Link retries', '', [0, 10]),
  number('settings.commitWaitMs', 'Longest wait for the database before a confirm', 'ms', [100, 60_000]),
  number('settings.maxFragment', 'Longest fragment', 'octets', [249, 65535]),
];

export const OUTBOUND_FIELDS: readonly SettingField[] = [
  text('code', 'Code', { open: true }),
  text('centre', 'Centre', { open: true }),
  text('name', 'What it is there', { open: true, help: 'centre, standby, neighbour' }),
  text('host', 'Our address to listen on', { open: true }),
  number('port', 'Our TCP port', '', [1, 65535], { open: true }),
  number('settings.ourAddress', 'Our DNP3 address', '', [0, 65519], { open: true }),
  number('settings.theirAddress', "The centre's DNP3 address", '', [0, 65519], { open: true }),
  {
    path: 'allowFrom',
    title: 'The centre may connect from',
    type: 'networks',
    open: true,
    help: 'Addresses and networks: 10.1.0.0/16',
  },
  { path: 'controls', title: 'The centre may operate', type: 'boolean', open: true },
  { path: 'tls.use', title: 'TLS with certificates of both ends', type: 'boolean' },
  text('tls.authorityFile', 'TLS, authority certificate', { help: 'PEM file on the engine', applies: withTls }),
  text('tls.certificateFile', 'TLS, our certificate', { help: 'PEM file on the engine', applies: withTls }),
  text('tls.keyFile', 'TLS, our key', { help: 'PEM file on the engine', applies: withTls }),
  text('tls.serverName', "TLS, name in the centre's certificate", { help: 'Empty: any', applies: withTls }),
  text('tls.revocationFile', 'TLS, revocation list', { help: 'PEM file on the engine; empty: none', applies: withTls }),
  number('settings.confirmTimeoutMs', 'Confirm time-out', 'ms', [100, 120_000]),
  number('settings.selectTimeoutMs', 'Select time-out', 'ms', [100, 120_000]),
  number('settings.eventsPerClass', 'Events kept for each class', '', [10, 1_000_000]),
  number('settings.maxControls', 'Controls in one request', '', [1, 255]),
  { path: 'settings.takesTime', title: 'Take the time from the centre', type: 'boolean' },
  { path: 'settings.unsolicited', title: 'Send events unasked, once the centre has enabled it', type: 'boolean' },
  number('settings.unsolicitedDelayMs', 'Unasked events are gathered for', 'ms', [0, 3_600_000]),
  number('settings.unsolicitedRetries', 'Unconfirmed unasked events are repeated', 'times', [0, 100]),
  number('settings.unsolicitedRestMs', 'Then they rest for', 'ms', [100, 3_600_000]),
  { path: 'settings.selfAddress', title: 'Answer the self-address', type: 'boolean' },
  number('settings.commandClass', 'Commands that outputs are given go there as events of class', '', [0, 3], {
    help: '0: they do not',
  }),
  { path: 'settings.linkConfirm', title: 'Have each link frame confirmed', type: 'boolean' },
  number('settings.linkTimeoutMs', 'Link confirm time-out', 'ms', [20, 60_000]),
  number('settings.linkRetries', 'Link frames are repeated', 'times', [0, 10]),
  number('settings.maxFragment', 'Longest fragment', 'octets', [249, 65535]),
];

export const STATION_FIELDS: readonly SettingField[] = [
  text('code', 'Code', { open: true, help: 'Short and unique: capital letters, digits, hyphens' }),
  text('name', 'Name', { open: true }),
  text('description', 'Description', { open: true }),
];

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
