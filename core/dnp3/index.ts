export { crc16Dnp } from './crc.ts';
export { linkAddress, pointIndex, HIGHEST_ADDRESS } from './address.ts';
export { masterSettings, outstationSettings, type MasterSettings, type OutstationSettings } from './settings.ts';
export { COUNTER_WORDS, type CounterName, CounterSet } from './counters.ts';
export {
  CONTROL_OPERATIONS,
  ControlStatus,
  controlOperation,
  controlStatusWords,
  type ControlBlock,
  type ControlOperation,
  type Setpoint,
  type SetpointVariation,
  isWholeForm,
  type SetpointForm,
  SETPOINT_FORMS,
  SETPOINT_LIMITS,
} from './control.ts';
export type { ControlMode, ControlRequest } from './request.ts';
export { Master, type MasterOptions } from './master.ts';
export type { ControlStep, MasterCommand, MasterEffect } from './mastermessages.ts';
export type { ReportedCommand } from './measured.ts';
export {
  Outstation,
  type ControlItem,
  type OutstationCommand,
  type OutstationEffect,
  type PointUpdate,
} from './outstation.ts';
export { ReplayGuard } from './replay.ts';
export { Priority } from './task.ts';
export { Caller } from './caller.ts';
export type { ReceivedFragment } from './endpoint.ts';
export {
  MasterLane,
  NO_LINE_TIMING,
  octetMs,
  type LaneCommand,
  type LaneEffect,
  type LaneNumbers,
  type LineTiming,
  type Turn,
} from './lane.ts';
export { credentialsSchema, orderSchema, type FileOrder, type Order, type OrderAnswer } from './order.ts';
export type { StoredFile } from './fileshelf.ts';
export type { FileEntry } from './file.ts';
export type { BufferedEvent } from './eventbuffer.ts';
export type { MeasuredReading } from './measured.ts';
export { DEFAULT_VARIATIONS, GROUPS, objectWords, type OutstationPoint, type PointState } from './pointtable.ts';
export { positionsInFrames } from './transport.ts';
export { flagsFromQuality, qualityFromFlags, flagWords } from './quality.ts';
export { describeFragment } from './describe.ts';
export { Flag, objectType } from './objects.ts';
export { iinWords } from './application.ts';
export type { DeviceAttribute } from './attributes.ts';
export { Trial, type TrialEffect, type TrialSettings, type TrialStep } from './trial.ts';
