import { DAY_MS, NEVER, numberField as number, type SettingField } from '../settingfield.ts';

/** How our master's settings are asked for. */
export const DEVICE_FIELDS: readonly SettingField[] = [
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

/** How our outstation's are. */
export const OUTBOUND_FIELDS: readonly SettingField[] = [
  number('settings.ourAddress', 'Our DNP3 address', '', [0, 65519], { open: true }),
  number('settings.theirAddress', "The centre's DNP3 address", '', [0, 65519], { open: true }),
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
