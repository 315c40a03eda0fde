import { ALL_ATTRIBUTES } from '../attributes.ts';
import { ByteReader, ByteWriter } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import { FunctionCode, Iin, iinWords, type Fragment } from '../wire/application.ts';
import {
  readControlBlock,
  readSetpoint,
  writeControlBlock,
  writeSetpoint,
  type ControlBlock,
  type Setpoint,
} from '../control.ts';
import {
  parseHeaders,
  writeAllHeader,
  writeCountHeader,
  writeIndexedHeader,
  writeRangeHeader,
} from '../wire/header.ts';
import { delayMs } from '../wire/objects.ts';
import { encodeFileObject } from '../files/file.ts';
import type { FileJob } from '../files/filejob.ts';
import { orderRequest, type Requested } from '../order.ts';
import type { ReadPart } from './readplan.ts';

/** What a master asks, in octets, and what the answers say beyond measured values. */

/** With `directNoAnswer` the device is asked for none. */
export type ControlMode = 'selectOperate' | 'direct' | 'directNoAnswer' | 'selectOnly';
export const isSelected = (mode: ControlMode): boolean => mode === 'selectOperate' || mode === 'selectOnly';

export interface ControlRequest {
  type: 'control';
  id: string;
  index: number;
  block: Omit<ControlBlock, 'status'>;
  /** An analog output takes this instead of the block. */
  setpoint?: Omit<Setpoint, 'status'>;
  mode: ControlMode;
  expiresAt: Instant;
}

export type Task =
  | { type: 'disableUnsolicited' }
  | { type: 'enableUnsolicited'; classes: readonly number[] }
  | { type: 'clearRestart' }
  | ReadPart
  /** What the device says of itself: the end of a survey. */
  | { type: 'attributes'; survey: string }
  | { type: 'measureDelay' }
  | { type: 'writeTime'; oneWayMs: number }
  /** The device notes the moment at which this ends, and is told afterwards what time it was. */
  | { type: 'recordTime' }
  | { type: 'writeRecordedTime'; at: Instant }
  | { type: 'readClock' }
  | { type: 'order'; id: string; order: Requested }
  /** One step of a wish about a file. */
  | { type: 'file'; id: string; job: FileJob }
  /** To all devices on the line; nothing is answered. */
  | { type: 'broadcast'; id: string; functionCode: number; objects: Uint8Array; words: string }
  | { type: 'control'; request: ControlRequest; phase: 'select' | 'operate' };

export const ALL_CLASSES = [1, 2, 3, 0] as const;

/** What goes to all devices on a line at once: none of these is answered (IEEE 1815, clauses 4.4.6 and 10.3). */
export function broadcastTask(id: string, job: 'freeze' | 'freezeAndClear' | 'time'): Task & { type: 'broadcast' } {
  if (job === 'time') {
    const objects = new Uint8Array(0);
    return { type: 'broadcast', id, functionCode: FunctionCode.recordCurrentTime, objects, words: 'all: record time' };
  }
  const out = new ByteWriter();
  writeAllHeader(out, 20, 0);
  const functionCode = job === 'freeze' ? FunctionCode.immediateFreezeNoAck : FunctionCode.freezeAndClearNoAck;
  return { type: 'broadcast', id, functionCode, objects: out.finish(), words: 'all: freeze counters' };
}

/** Tells all devices what time it was when they recorded it. */
export const recordedTimeTask = (id: string, at: Instant): Task & { type: 'broadcast' } => {
  const [functionCode, objects] = requestOf({ type: 'writeRecordedTime', at }, at);
  return { type: 'broadcast', id, functionCode, objects, words: 'all: set clock' };
};

/** Function code and objects of a request. */
export function requestOf(task: Task, now: Instant): [number, Uint8Array] {
  const out = new ByteWriter();
  switch (task.type) {
    case 'disableUnsolicited':
      for (const variation of [2, 3, 4]) writeAllHeader(out, 60, variation);
      return [FunctionCode.disableUnsolicited, out.finish()];
    case 'clearRestart':
      writeRangeHeader(out, 80, 1, 7, 7);
      return [FunctionCode.write, out.uint8(0).finish()];
    case 'enableUnsolicited':
      for (const n of task.classes) writeAllHeader(out, 60, n + 1);
      return [FunctionCode.enableUnsolicited, out.finish()];
    case 'recordTime':
      return [FunctionCode.recordCurrentTime, out.finish()];
    case 'writeRecordedTime':
      writeCountHeader(out, 50, 3, 1);
      return [FunctionCode.write, out.uint48(Math.round(task.at)).finish()];
    case 'readClock':
      writeCountHeader(out, 50, 1, 1);
      return [FunctionCode.read, out.finish()];
    case 'order':
      return orderRequest(task.order);
    case 'file': {
      const next = task.job.next();
      if (next.step !== 'send') throw new Error('the file has been dealt with');
      return [next.functionCode, encodeFileObject(next.object)];
    }
    case 'broadcast':
      return [task.functionCode, task.objects];
    case 'read':
      for (const n of task.classes)
        if (n > 0 && task.limit !== undefined) writeCountHeader(out, 60, n + 1, task.limit);
        else writeAllHeader(out, 60, n + 1);
      for (const group of task.groups ?? []) writeAllHeader(out, group, 0);
      return [FunctionCode.read, out.finish()];
    case 'attributes':
      writeRangeHeader(out, 0, ALL_ATTRIBUTES, 0, 0);
      return [FunctionCode.read, out.finish()];
    case 'measureDelay':
      return [FunctionCode.delayMeasurement, out.finish()];
    case 'writeTime':
      writeCountHeader(out, 50, 1, 1);
      return [FunctionCode.write, out.uint48(Math.round(now + task.oneWayMs)).finish()];
    case 'control': {
      const { request, phase } = task;
      if (request.setpoint) {
        writeIndexedHeader(out, 41, request.setpoint.variation, 1, request.index)(request.index);
        writeSetpoint(out, { ...request.setpoint, status: 0 });
      } else {
        writeIndexedHeader(out, 12, 1, 1, request.index)(request.index);
        writeControlBlock(out, { ...request.block, status: 0 });
      }
      if (phase === 'select') return [FunctionCode.select, out.finish()];
      const operate = {
        selectOperate: FunctionCode.operate,
        selectOnly: FunctionCode.operate,
        direct: FunctionCode.directOperate,
        directNoAnswer: FunctionCode.directOperateNoAck,
      }[request.mode];
      return [operate, out.finish()];
    }
    default:
      return task satisfies never;
  }
}

/** Half of what the round took beyond the device's own delay (IEEE 1815, clause 10.3). */
export function oneWay(fragment: Fragment, roundTripMs: number): number {
  const { headers } = parseHeaders(fragment.octets, fragment.objectsAt, true);
  const header = headers.find((h) => h.type?.what === 'delay' && h.items.length > 0);
  if (header === undefined) return 0;
  const inDevice = delayMs(header.variation, new ByteReader(fragment.octets, header.items[0].at).uint16());
  return Math.max(0, (roundTripMs - inDevice) / 2);
}

/** The device's status for our control, or what is wrong with its answer. */
export function controlEcho(fragment: Fragment, request: ControlRequest): number | string {
  const refusal = (fragment.iin ?? 0) & (Iin.functionNotSupported | Iin.objectUnknown | Iin.parameterError);
  const { headers } = parseHeaders(fragment.octets, fragment.objectsAt, true);
  const header = headers.find((h) => h.type?.what === (request.setpoint ? 'setpoint' : 'control'));
  const item = header?.items.find(({ index }) => index === request.index);
  if (item === undefined)
    return refusal ? `the device refused the request: ${iinWords(refusal).join(', ')}` : 'the answer names no control';
  if (request.setpoint) {
    const { value, variation } = request.setpoint;
    if (header?.variation !== variation) return 'the answer does not repeat what was sent';
    const echo = readSetpoint(fragment.octets, item.at, variation);
    if (echo.value !== (variation === 3 ? Math.fround(value) : value))
      return 'the answer does not repeat what was sent';
    return judged(echo.status & 0x7f, refusal);
  }
  const echo = readControlBlock(fragment.octets, item.at);
  const { code, count, onMs, offMs } = request.block;
  if (echo.code !== code || echo.count !== count || echo.onMs !== onMs || echo.offMs !== offMs)
    return 'the answer does not repeat what was sent';
  return judged(echo.status & 0x7f, refusal);
}

/** A device that refuses the request has not taken the control, whatever status it repeats. */
const judged = (status: number, refusal: number): number | string =>
  status === 0 && refusal ? `the device refused the request: ${iinWords(refusal).join(', ')}` : status;

/** The device's clock in its answer to `readClock`; null when it gave none. */
export function clockOf(fragment: Fragment): Instant | null {
  const { headers } = parseHeaders(fragment.octets, fragment.objectsAt, true);
  const header = headers.find((h) => h.type?.what === 'time' && h.variation === 1 && h.items.length > 0);
  return header ? new ByteReader(fragment.octets, header.items[0].at).uint48() : null;
}
