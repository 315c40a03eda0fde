import { ByteReader, type ByteWriter } from '../../bytes/index.ts';
import { OPERATIONS, type Operation } from '../../point/index.ts';
import type { Refusal } from '../control.ts';

/** Control relay output block, g12v1 (IEEE 1815, annex A.8.1). */
export interface ControlBlock {
  /** Operation type (4 bits), queue, clear, trip-close code (2 bits). */
  code: number;
  count: number;
  onMs: number;
  offMs: number;
  status: number;
}

/** What the code octet says for each operation. */
export const CONTROL_OPERATIONS = {
  latchOn: 0x03,
  latchOff: 0x04,
  pulseOn: 0x01,
  pulseOff: 0x02,
  close: 0x41,
  trip: 0x81,
} as const satisfies Record<Operation, number>;

export const controlOperation = (code: number): Operation | null =>
  OPERATIONS.find((operation) => CONTROL_OPERATIONS[operation] === code) ?? null;

export const CONTROL_BLOCK_OCTETS = 11;

/**
 *   code     1
 *   count    1
 *   on time  4   ms
 *   off time 4   ms
 *   status   1
 */
export function writeControlBlock(out: ByteWriter, block: ControlBlock): void {
  out.uint8(block.code).uint8(block.count).uint32(block.onMs).uint32(block.offMs).uint8(block.status);
}

export function readControlBlock(octets: Uint8Array, at: number): ControlBlock {
  const reader = new ByteReader(octets, at);
  return {
    code: reader.uint8(),
    count: reader.uint8(),
    onMs: reader.uint32(),
    offMs: reader.uint32(),
    status: reader.uint8(),
  };
}

/** The value of an analog output block, g41: 32 or 16 bits with sign, or a float of 32 or 64 (annex A.23). */
export type SetpointVariation = 1 | 2 | 3 | 4;
export interface Setpoint {
  variation: SetpointVariation;
  value: number;
  status: number;
}
const SETPOINT_LAYOUT = { 1: 'int32', 2: 'int16', 3: 'float32', 4: 'float64' } as const;
export const SETPOINT_OCTETS: Record<SetpointVariation, number> = { 1: 5, 2: 3, 3: 5, 4: 9 };

/** The forms in which a setpoint can be sent, by the words of the configuration. */
export const SETPOINT_FORMS = {
  int32: 1,
  int16: 2,
  float32: 3,
  float64: 4,
} as const satisfies Record<string, SetpointVariation>;
export type SetpointForm = keyof typeof SETPOINT_FORMS;
export const isWholeForm = (form: SetpointForm): boolean => form === 'int32' || form === 'int16';

/** What each variation can carry. */
export const SETPOINT_LIMITS: Record<SetpointVariation, readonly [low: number, high: number]> = {
  1: [-0x8000_0000, 0x7fff_ffff],
  2: [-0x8000, 0x7fff],
  3: [-3.4028234663852886e38, 3.4028234663852886e38],
  4: [-Number.MAX_VALUE, Number.MAX_VALUE],
};

/**
 *   value   4, 2, 4 or 8
 *   status  1
 */
export function writeSetpoint(out: ByteWriter, { variation, value, status }: Setpoint): void {
  out[SETPOINT_LAYOUT[variation]](value).uint8(status);
}

export function readSetpoint(octets: Uint8Array, at: number, variation: SetpointVariation): Setpoint {
  const reader = new ByteReader(octets, at);
  return { variation, value: reader[SETPOINT_LAYOUT[variation]](), status: reader.uint8() };
}

/** Control status codes (IEEE 1815, table A-1; the words are ours). */
export const ControlStatus = {
  success: 0,
  timeout: 1,
  noSelect: 2,
  formatError: 3,
  notSupported: 4,
  alreadyActive: 5,
  hardwareError: 6,
  local: 7,
  tooManyObjects: 8,
  notAuthorized: 9,
  automationInhibit: 10,
  processingLimited: 11,
  outOfRange: 12,
  downstreamLocal: 13,
  alreadyComplete: 14,
  blocked: 15,
  cancelled: 16,
  blockedOtherMaster: 17,
  downstreamFail: 18,
  nonParticipating: 126,
  undefined: 127,
} as const;

const STATUS_WORDS: Record<number, string> = {
  0: 'accepted',
  1: 'the select had timed out before the operate',
  2: 'no matching select came before the operate',
  3: 'the request was not formed as this control needs it',
  4: 'this point does not support the operation',
  5: 'the output is already active or its queue is full',
  6: 'the control hardware failed',
  7: 'the device is in local',
  8: 'too many controls in one request',
  9: 'not authorised',
  10: 'inhibited by automation in the device',
  11: 'the device has no capacity left for it',
  12: 'a value is out of range',
  13: 'a device further down is in local',
  14: 'the output is already in that state',
  15: 'blocked by an interlock',
  16: 'cancelled',
  17: 'another master has the control',
  18: 'a device further down does not answer',
  126: 'the point does not take part in this control',
  127: 'undefined',
};

export const controlStatusWords = (status: number): string =>
  STATUS_WORDS[status] ?? `status ${status}, not defined by the standard`;

/** What a status means to whoever speaks another protocol; and the status for what another protocol means. */
const REFUSALS: Readonly<Record<number, Refusal | undefined>> = {
  [ControlStatus.timeout]: 'notSelected',
  [ControlStatus.noSelect]: 'notSelected',
  [ControlStatus.notSupported]: 'notSupported',
  [ControlStatus.alreadyActive]: 'busy',
  [ControlStatus.local]: 'local',
  [ControlStatus.notAuthorized]: 'notAuthorized',
  [ControlStatus.automationInhibit]: 'interlocked',
  [ControlStatus.outOfRange]: 'outOfRange',
  [ControlStatus.downstreamLocal]: 'local',
  [ControlStatus.alreadyComplete]: 'already',
  [ControlStatus.blocked]: 'interlocked',
  [ControlStatus.cancelled]: 'cancelled',
  [ControlStatus.blockedOtherMaster]: 'busy',
  [ControlStatus.downstreamFail]: 'lost',
  [ControlStatus.nonParticipating]: 'notSupported',
};
export const refusalOf = (status: number): Refusal => REFUSALS[status] ?? 'other';
export const STATUS_OF: Readonly<Record<Refusal, number>> = {
  local: ControlStatus.local,
  interlocked: ControlStatus.blocked,
  notSelected: ControlStatus.noSelect,
  busy: ControlStatus.alreadyActive,
  already: ControlStatus.alreadyComplete,
  cancelled: ControlStatus.cancelled,
  notSupported: ControlStatus.notSupported,
  outOfRange: ControlStatus.outOfRange,
  notAuthorized: ControlStatus.notAuthorized,
  lost: ControlStatus.downstreamFail,
  other: ControlStatus.undefined,
};
