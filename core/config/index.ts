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
} from './document.ts';
export { allowsEverybody, EVERYBODY, isAllowed, isNetwork, LOOPBACK_ONLY } from './access.ts';
export { checkConfiguration, loopOf, misfitOf, partnersOf, readConfiguration, subnetOf } from './check.ts';
export { isGuestOutbound, sharedConversations, type SharedConversation } from './conversations.ts';
export { checkingPoints, checkPoints } from './checkpoints.ts';
export type { ConfigurationProblem, PointProblem, Severity } from './problem.ts';
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
} from './objects.ts';
export {
  CENTRE_LINK_FIELDS,
  deviceFields,
  LINK_FIELDS,
  outboundFields,
  STATION_FIELDS,
  valueAt,
  withValueAt,
} from './fields.ts';
export type { SettingField } from '../protocols/index.ts';
export { adopted, deviceTouch, linkTouch, outboundTouch, type Touch } from './touches.ts';
export {
  differences,
  diffConfigurations,
  isCollected,
  sessionEffects,
  titleOf,
  type ConfigurationChange,
  type Effect,
  type SessionEffect,
} from './diff.ts';
export { countsAllowed, countsToSend, NEW_SETTING, textToSend } from './setting.ts';
export { feedbackOf } from './feedback.ts';
export { compacted, expanded } from './compact.ts';
export { upgradedConfiguration, upgradedObject, upgradedProfile, upgradedShell, withLinks } from './upgrade.ts';
export { sameDocument } from './same.ts';
export { outboundEnds, settingSheet, twoEnds } from './ends.ts';
