export { crc16Dnp } from './wire/crc.ts';
export { linkAddress, pointIndex, HIGHEST_ADDRESS } from './address.ts';
export { masterSettings, outstationSettings, type MasterSettings, type OutstationSettings } from './settings.ts';
export { COUNTER_WORDS, type CounterName, CounterSet } from './counters.ts';
export {
  CONTROL_OPERATIONS,
  ControlStatus,
  controlOperation,
  controlStatusWords,
  type ControlBlock,
  type Setpoint,
  type SetpointVariation,
  isWholeForm,
  type SetpointForm,
  SETPOINT_FORMS,
  SETPOINT_LIMITS,
} from './control.ts';
export { Master, type MasterOptions } from './client/master.ts';
export type { ControlRequest, MasterCommand, MasterEffect } from './client/mastermessages.ts';
export type { ReportedCommand } from './wire/measured.ts';
export { Outstation, type OutstationCommand, type OutstationEffect, type PointUpdate } from './server/outstation.ts';
export { owedRecord } from './server/owedevents.ts';
export { ReplayGuard } from './client/intake/replay.ts';
export { Caller } from './client/caller.ts';
export type { ReceivedFragment } from './wire/endpoint.ts';
export { encodeLinkFrame } from './wire/link.ts';
export { CarryingFragment, type ListedPoint } from './client/intake/carried.ts';
export { linkFraming } from './wire/framing.ts';
export type { LinkEvent } from './wire/link.ts';
export { orderSchema, type FileOrder, type Order, type OrderAnswer } from './order.ts';
export type { StoredFile } from './files/fileshelf.ts';
export type { FileEntry } from './files/file.ts';
export type { BufferedEvent } from './server/eventbuffer.ts';
export type { MeasuredReading } from './wire/measured.ts';
export { DEFAULT_VARIATIONS, GROUPS, objectWords, type OutstationPoint, type PointState } from './server/pointtable.ts';
export { positionsInFrames } from './wire/transport.ts';
export { flagsFromQuality, qualityFromFlags, flagWords } from './quality.ts';
export { describeFragment } from './describe.ts';
export { Flag, objectType } from './wire/objects.ts';
export { iinWords } from './wire/application.ts';
export type { DeviceAttribute } from './attributes.ts';
export { Trial, type TrialSettings } from './client/trial.ts';
export { dnp3At, type Dnp3At, type Dnp3DraftAt, type Dnp3TargetAt } from './points.ts';
export { USUAL_CLASS } from './target.ts';
export type { ControlItem } from './server/controls.ts';
