import { numberField as number, secretField, textField, type SettingField } from '../settingfield.ts';

/* How the settings of an association are asked for. */

const OCTETS = 'octets as digits 0 to F, two each; empty: none';
const CLEAR = 'kept sealed; goes over the network as it is';

export const CALLING_FIELDS: readonly SettingField[] = [
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
  secretField('settings.password', 'Password', { help: CLEAR }),
  number('settings.associateTimeoutMs', 'The association is made within', 'ms', [100, 120_000]),
  number('settings.responseTimeoutMs', 'Response time-out', 'ms', [100, 120_000]),
  number('settings.keepAliveMs', 'A peer that says nothing is gone after', 'ms', [500, 3_600_000]),
];

export const CALLED_FIELDS: readonly SettingField[] = [
  textField('settings.transportSelector', 'Our transport selector', { help: OCTETS }),
  textField('settings.sessionSelector', 'Our session selector', { help: OCTETS }),
  textField('settings.presentationSelector', 'Our presentation selector', { help: OCTETS }),
  secretField('settings.password', 'Password that clients have to give', { help: CLEAR }),
];
