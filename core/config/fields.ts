/**
 * The settings of links, devices and outbounds as people fill them in: title, unit, and whether they have to be filled
 * in or stay folded at their default. Forms, comparisons and sheets all read these tables.
 */
export interface SettingField {
  /** Path in the object's document: `settings.retries`. */
  path: string;
  title: string;
  type: 'text' | 'number' | 'boolean' | 'choice';
  unit?: string;
  limits?: readonly [number, number];
  choices?: readonly (readonly [value: string, words: string])[];
  /** Has to be filled in or looked at; the others are folded. */
  open?: boolean;
  /** What it does, in one line. */
  help?: string;
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

export const LINK_FIELDS: readonly SettingField[] = [
  text('code', 'Code', { open: true, help: 'Short and unique: capital letters, digits, hyphens' }),
  text('name', 'Name', { open: true }),
  text('host', 'Address of the device', { open: true, help: 'An IP address or a host name' }),
  number('port', 'TCP port of the device', '', [1, 65535], { open: true, help: '20000 is usual for DNP3' }),
  number('connectTimeoutMs', 'Connect time-out', 'ms', [100, 120_000]),
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
  { path: 'settings.disableUnsolicited', title: 'Switch unsolicited reporting off at start', type: 'boolean' },
  {
    path: 'settings.timeSync',
    title: 'Set the device clock',
    type: 'choice',
    choices: [
      ['whenAsked', 'when it asks'],
      ['never', 'never'],
    ],
  },
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
  number('quietMs', 'A quiet connection gives way after', 'ms', [1000, 3_600_000]),
  number('settings.confirmTimeoutMs', 'Confirm time-out', 'ms', [100, 120_000]),
  number('settings.selectTimeoutMs', 'Select time-out', 'ms', [100, 120_000]),
  number('settings.eventsPerClass', 'Events kept for each class', '', [10, 1_000_000]),
  number('settings.maxControls', 'Controls in one request', '', [1, 255]),
  { path: 'settings.takesTime', title: 'Take the time from the centre', type: 'boolean' },
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
