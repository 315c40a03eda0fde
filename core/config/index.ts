export {
  codeSchema,
  configurationSchema,
  mappingSchema,
  pointSchema,
  DEVICE_LIVES,
  EMPTY_CONFIGURATION,
  bitsPerOctet,
  endpointWords,
  outboundWayWords,
  type Configuration,
  type StationConfig,
  type LinkConfig,
  type RadioConfig,
  type DeviceConfig,
  type DeviceLife,
  type PointConfig,
  type OutboundConfig,
  type MappingConfig,
} from './document/document.ts';
export { allowsEverybody, EVERYBODY, isAllowed, isNamed, isNetwork, LOOPBACK_ONLY } from './document/access.ts';
export {
  checkConfiguration,
  loopOf,
  misfitOf,
  partnersOf,
  readConfiguration,
  readImported,
  subnetOf,
} from './check/check.ts';
export { isGuestOutbound, sharedConversations, type SharedConversation } from './document/conversations.ts';
export { checkingPoints, checkPoints } from './check/checkpoints.ts';
export type { ConfigurationProblem, PointProblem, Severity } from './check/problem.ts';
export {
  compose,
  decompose,
  inOneOrder,
  draftPointSchema,
  objectKey,
  objectSort,
  OBJECT_KINDS,
  OBJECT_SCHEMAS,
  type ConfigObject,
  type DeviceObject,
  type DraftPoint,
  type ObjectDocument,
  type ObjectKind,
  type OutboundObject,
} from './document/objects.ts';
export {
  CENTRE_LINK_FIELDS,
  deviceFields,
  LINK_FIELDS,
  outboundFields,
  STATION_FIELDS,
  valueAt,
  withValueAt,
} from './document/fields.ts';
export type { SettingField } from '../protocols/index.ts';
export { adopted, deviceTouch, linkTouch, outboundTouch, type Touch } from './comparison/touches.ts';
export {
  differences,
  diffConfigurations,
  isCollected,
  sessionEffects,
  titleOf,
  type ConfigurationChange,
  type Effect,
  type SessionEffect,
} from './comparison/diff.ts';
export {
  allSecrets,
  secretsOf,
  secretWords,
  storedAs,
  storedNumber,
  withAllSecrets,
  withSecrets,
} from './document/secrets.ts';
export type { PlacedSecret } from './document/secrets.ts';
export { countsAllowed, countsToSend, NEW_SETTING, roundedTo, textToSend } from './document/setting.ts';
export { feedbackOf } from './document/feedback.ts';
export { compacted, expanded } from './compact.ts';
export { upgradedConfiguration, upgradedObject, upgradedProfile, upgradedShell, withLinks } from './upgrade.ts';
export { doorsOpened, type Doors } from './comparison/doors.ts';
export { sameDocument } from './comparison/same.ts';
export { outboundEnds, settingSheet, twoEnds } from './document/ends.ts';
