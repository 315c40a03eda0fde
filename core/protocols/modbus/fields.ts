import { DAY_MS, NEVER, numberField as number, type SettingField } from '../settingfield.ts';
import { MOST_BITS, MOST_REGISTERS } from './settings.ts';

/** How our client's settings are asked for. */
export const DEVICE_FIELDS: readonly SettingField[] = [
  number('settings.unitId', 'Unit identifier', '', [0, 255], {
    open: true,
    help: '1 to 247 on a line; often 1 or 255 behind TCP',
  }),
  number('settings.period1Ms', 'Group 1, period', 'ms', [0, DAY_MS], { help: NEVER }),
  number('settings.period2Ms', 'Group 2, period', 'ms', [0, DAY_MS], { help: NEVER }),
  number('settings.period3Ms', 'Group 3, period', 'ms', [0, DAY_MS], { help: NEVER }),
  number('settings.responseTimeoutMs', 'Response time-out', 'ms', [20, 120_000]),
  number('settings.retries', 'Retries', '', [0, 10]),
  number('settings.silentPeriodMs', 'A silent device is asked every', 'ms', [500, 3_600_000]),
  number('settings.silentTimeoutMs', 'A silent device is waited for', 'ms', [20, 120_000]),
  number('settings.maxRegisters', 'Registers in one request', '', [1, MOST_REGISTERS]),
  number('settings.maxBits', 'Bits in one request', '', [1, MOST_BITS]),
  {
    path: 'settings.bridgesGaps',
    title: 'Read across gaps where that is cheaper',
    type: 'boolean',
    help: 'No: a device that refuses registers it does not have',
  },
  { path: 'settings.dropsRound', title: 'Leave out the rest of a round after a time-out', type: 'boolean' },
  {
    path: 'settings.writes',
    title: 'A single value is written by',
    type: 'choice',
    choices: [
      ['single', 'functions 05 and 06'],
      ['multiple', 'functions 15 and 16'],
      ['readWrite', 'functions 15 and 23'],
    ],
  },
  {
    path: 'settings.maskWrites',
    title: 'A bit of a register is written by function 22',
    type: 'boolean',
    help: 'No: the register is read, changed and written',
  },
  number('settings.outstanding', 'Requests under way at once', '', [1, 16], {
    help: 'Over TCP, where the device takes them',
  }),
  number('settings.minimumGapMs', 'Least gap between two requests', 'ms', [0, 60_000]),
  number('settings.share', 'Share of a shared line', '', [1, 100]),
];

/** How our server's are. */
export const OUTBOUND_FIELDS: readonly SettingField[] = [
  number('settings.unitId', 'Our unit identifier', '', [0, 255], { open: true, help: 'The one that its clients ask' }),
  number('settings.maxClients', 'Clients at the same time', '', [1, 100]),
  {
    path: 'settings.fillsGaps',
    title: 'What nobody mapped reads as 0',
    type: 'boolean',
    help: 'No: a request that touches it is refused',
  },
  {
    path: 'settings.invalid',
    title: 'A value that is not to be used reads as',
    type: 'choice',
    choices: [
      ['last', 'its last value'],
      ['none', 'no value: NaN, or the lowest number of its form'],
    ],
  },
];
