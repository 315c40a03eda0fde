import { CALLED_FIELDS, CALLING_FIELDS } from '../mms/fields.ts';
import { DAY_MS, NEVER, numberField as number, textField, type SettingField } from '../settingfield.ts';

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
  ...CALLING_FIELDS,
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
  ...CALLED_FIELDS,
];
