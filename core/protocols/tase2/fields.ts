import { CALLED_FIELDS, CALLING_FIELDS } from '../mms/fields.ts';
import { DAY_MS, NEVER, numberField as number, textField, type SettingField } from '../settingfield.ts';

/** How our client's settings are asked for. */
export const DEVICE_FIELDS: readonly SettingField[] = [
  textField('settings.domain', 'Domain of the agreement', { open: true, help: 'as the peer calls it: ICC1' }),
  textField('settings.bilateralTable', 'Id of the bilateral table', {
    open: true,
    help: 'empty: whichever the peer has',
  }),
  { path: 'settings.reports', title: 'Changes are reported by transfer sets', type: 'boolean' },
  number('settings.integrityMs', 'All values of a transfer set every', 'ms', [0, DAY_MS], { help: NEVER }),
  {
    path: 'settings.critical',
    title: 'Each report is acknowledged once it is stored',
    type: 'boolean',
    help: 'critical transfer sets: what is not acknowledged is repeated',
  },
  number('settings.bufferMs', 'The peer gathers changes for', 'ms', [0, 600_000], { help: 'in whole seconds there' }),
  {
    path: 'settings.blocked',
    title: 'Reports come packed',
    type: 'boolean',
    help: 'blocked transfers; compare with the other end first how values are packed',
  },
  {
    path: 'settings.messages',
    title: 'Its messages are wanted',
    type: 'boolean',
    help: 'information messages: written in the last events',
  },
  number('settings.pollMs', 'What no transfer set brings is read every', 'ms', [0, DAY_MS], { help: NEVER }),
  number('settings.setPoints', 'Points of one data set', '', [1, 1000]),
  ...CALLING_FIELDS,
  number('settings.timeAheadMs', 'Its times count as wrong when ahead by', 'ms', [1000, 31_622_400_000]),
  number('settings.timeBehindMs', 'Its times count as wrong when behind by', 'ms', [1000, 315_360_000_000]),
];

/** How our server's are. */
export const OUTBOUND_FIELDS: readonly SettingField[] = [
  textField('settings.domain', 'Our domain', { open: true, help: 'that the peer asks for: HALVIX' }),
  textField('settings.bilateralTable', 'Id of the bilateral table', { open: true, help: 'that the peer is told' }),
  number('settings.transferSets', 'Transfer sets', '', [1, 100]),
  number('settings.maxClients', 'Associations at the same time', '', [1, 8]),
  number('settings.selectMs', 'It stays selected for', 'ms', [1000, 600_000]),
  {
    path: 'settings.blocked',
    title: 'Reports may be packed',
    type: 'boolean',
    help: 'blocked transfers; compare with the other end first how values are packed',
  },
  ...CALLED_FIELDS,
];
