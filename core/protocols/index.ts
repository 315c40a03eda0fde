export type { Carrying, MarkedFrame, Measured } from './measured.ts';
export type {
  At,
  AtField,
  Described,
  DescribedDevice,
  DescribedPoint,
  GenericProfile,
  Named,
  Offered,
  PlannedRequest,
  PublishingRole,
  RequestPlan,
} from './definition.ts';
export { numberField, textField, type SettingField } from './settingfield.ts';
export type { TwoEnds } from './ends.ts';
export type { Message } from './publishing/form.ts';
export { credentialsSchema, type Credentials } from './credentials.ts';
export {
  outcome,
  type CentreOrder,
  type ControlKind,
  type ControlMode,
  type ControlOrder,
  type ControlOutcome,
  type ControlStep,
} from './control.ts';
export type {
  Client,
  ClientCommand,
  ClientNews,
  ClientPoint,
  DetailTable,
  DeviceAttribute,
  FileOrder,
  AnswerTable,
  FollowUp,
  OrderAnswer,
  Recogniser,
  SurveyedPoint,
  TrialEffect,
} from './client.ts';
export { PastMessages, type PastMessage } from './past.ts';
export type { ConversationTerms, GuestCommand, GuestNews } from './conversation.ts';
export type { Contact, Contacts, Source } from './source.ts';
export {
  NOTHING_REMEMBERED,
  type OwedRecord,
  type Remembered,
  type Server,
  type ServerCommand,
  type ServerEffect,
  type ServerPoint,
  type ServerUpdate,
  type UpdateManner,
} from './server.ts';
export {
  addressOf,
  definitionOf,
  DEVICE_PROTOCOLS,
  deviceOf,
  devicePart,
  draftPointAt,
  FIRST_PROTOCOL,
  inAddressOrder,
  isLinked,
  movedTo,
  numberOf,
  orderSchema,
  outboundPart,
  pointAt,
  pointsOf,
  PROTOCOLS,
  readAddress,
  sortOf,
  targetPointAt,
  targetsOf,
  usualFraming,
  wayOut,
  WAYS_OUT,
  type AnyDeviceRole,
  type AnyDefinition,
  type DeviceCode,
  type DeviceSettings,
  type DraftPointAt,
  type OutboundSettings,
  type PointAt,
  type ProtocolCode,
  type TargetPointAt,
  type WayOutCode,
} from './definitions.ts';
