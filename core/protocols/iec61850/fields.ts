import { DAY_MS, NEVER, numberField as number, textField, type SettingField } from '../settingfield.ts';

const OCTETS = 'octets as digits 0 to F, two each; empty: none';
const CLEAR = 'goes over the network as it is, and stands readable in the configuration; empty: none';

/** How our client's settings are asked for. */
export const DEVICE_FIELDS: readonly SettingField[] = [
  {
    path: 'settings.reports',
    title: 'Changes come by',
    type: 'choice',
    open: true,
    choices: [
      ['buffered', 'reports, buffered ones first'],
      ['unbuffered', 'reports, unbuffered ones first'],
      ['none', 'polling alone'],
    ],
  },
  number('settings.pollMs', 'What no report carries is read every', 'ms', [0, DAY_MS], { help: NEVER }),
  number('settings.alsoPollMs', 'What reports carry is read too, every', 'ms', [0, DAY_MS], {
    help: '0: never; for comparing both',
  }),
  {
    path: 'settings.makeSets',
    title: 'Data sets are made in the device for what none carries',
    type: 'boolean',
    help: 'where it has report blocks without one',
  },
  number('settings.integrityMs', 'All values of a report every', 'ms', [0, DAY_MS], { help: NEVER }),
  number('settings.bufferMs', 'The device gathers changes for', 'ms', [0, 60_000]),
  number('settings.reserveS', 'A buffered report stays ours when the association is lost for', 's', [0, 32_767]),
  textField('settings.transportSelector', 'Its transport selector', { help: OCTETS }),
  textField('settings.sessionSelector', 'Its session selector', { help: OCTETS }),
  textField('settings.presentationSelector', 'Its presentation selector', { help: OCTETS }),
  textField('settings.applicationTitle', 'Its application title', { help: 'numbers with dots; empty: not said' }),
  number('settings.applicationQualifier', 'Its application qualifier', '', [0, 65_535]),
  textField('settings.ourTransportSelector', 'Our transport selector', { help: OCTETS }),
  textField('settings.ourSessionSelector', 'Our session selector', { help: OCTETS }),
  textField('settings.ourPresentationSelector', 'Our presentation selector', { help: OCTETS }),
  textField('settings.ourTitle', 'Our application title', { help: 'numbers with dots; empty: not said' }),
  number('settings.ourQualifier', 'Our application qualifier', '', [0, 65_535]),
  textField('settings.password', 'Password', { help: CLEAR }),
  number('settings.associateTimeoutMs', 'The association is made within', 'ms', [100, 120_000]),
  number('settings.responseTimeoutMs', 'Response time-out', 'ms', [100, 120_000]),
  number('settings.keepAliveMs', 'A device that says nothing is asked after', 'ms', [500, 3_600_000]),
  number('settings.timeAheadMs', 'Its times count as wrong when ahead by', 'ms', [1000, 31_622_400_000]),
  number('settings.timeBehindMs', 'Its times count as wrong when behind by', 'ms', [1000, 315_360_000_000]),
  {
    path: 'settings.origin',
    title: 'Controls come from',
    type: 'choice',
    choices: [
      ['bay', 'the bay'],
      ['station', 'the station'],
      ['remote', 'remote'],
    ],
    help: 'as the device is told (originator category)',
  },
  textField('settings.originator', 'Controls are given by', { help: 'as the device is told (originator)' }),
  { path: 'settings.synchrocheck', title: 'The device checks that voltages go together', type: 'boolean' },
  { path: 'settings.interlock', title: 'The device checks its interlocking', type: 'boolean' },
  number('settings.terminationMs', 'The end of a control is told within', 'ms', [100, 600_000]),
];

const hasFile = (document: unknown): boolean =>
  (document as { settings: { modelFile?: unknown } }).settings.modelFile != null;

/** How our server's are. */
export const OUTBOUND_FIELDS: readonly SettingField[] = [
  {
    path: 'settings.modelFile',
    title: 'Model',
    type: 'file',
    open: true,
    extensions: ['.cid', '.icd', '.iid', '.scd', '.xml'],
    help: 'a file (SCL) whose objects points are mapped onto; none: made of what is mapped',
  },
  textField('settings.modelDevice', 'Which device of the file', {
    open: true,
    help: 'its name; empty: the only one that has a server',
    applies: hasFile,
  }),
  number('settings.maxClients', 'Clients at the same time', '', [1, 32], { open: true }),
  {
    path: 'settings.controlModel',
    title: 'What may be operated is',
    type: 'choice',
    choices: [
      ['statusOnly', 'only seen'],
      ['direct', 'operated at once'],
      ['selectBeforeOperate', 'selected, then operated'],
      ['directEnhanced', 'operated at once, its end is told'],
      ['selectBeforeOperateEnhanced', 'selected with its value, operated, its end is told'],
    ],
  },
  number('settings.selectMs', 'It stays selected for', 'ms', [1000, 600_000]),
  number('settings.bufferValues', 'Each buffer keeps', 'changes', [10, 1_000_000]),
  textField('settings.transportSelector', 'Our transport selector', { help: OCTETS }),
  textField('settings.sessionSelector', 'Our session selector', { help: OCTETS }),
  textField('settings.presentationSelector', 'Our presentation selector', { help: OCTETS }),
  textField('settings.password', 'Password that clients have to give', { help: CLEAR }),
];
