import { ALL_ATTRIBUTES } from './attributes.ts';
import { ByteReader, ByteWriter } from '../bytes/index.ts';
import type { Instant } from '../session/index.ts';
import { FunctionCode, Iin, iinWords, type Fragment } from './application.ts';
import { readControlBlock, writeControlBlock, type ControlBlock } from './control.ts';
import { parseHeaders, writeAllHeader, writeCountHeader, writeIndexedHeader, writeRangeHeader } from './header.ts';
import { delayMs } from './objects.ts';

/** What a master asks, in octets, and what the answers say beyond measured values. */

export type ControlMode = 'selectOperate' | 'direct' | 'selectOnly';

export interface ControlRequest {
  type: 'control';
  id: string;
  index: number;
  block: Omit<ControlBlock, 'status'>;
  mode: ControlMode;
  expiresAt: Instant;
}

export type Task =
  | { type: 'disableUnsolicited' }
  | { type: 'clearRestart' }
  | { type: 'read'; classes: readonly number[]; survey?: string }
  /** What the device says of itself: the end of a survey. */
  | { type: 'attributes'; survey: string }
  | { type: 'measureDelay' }
  | { type: 'writeTime'; oneWayMs: number }
  | { type: 'control'; request: ControlRequest; phase: 'select' | 'operate' };

export const ALL_CLASSES = [1, 2, 3, 0] as const;

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
    case 'read':
      for (const n of task.classes) writeAllHeader(out, 60, n + 1);
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
      writeIndexedHeader(out, 12, 1, 1, request.index)(request.index);
      writeControlBlock(out, { ...request.block, status: 0 });
      const operate = request.mode === 'direct' ? FunctionCode.directOperate : FunctionCode.operate;
      return [phase === 'select' ? FunctionCode.select : operate, out.finish()];
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
  const header = headers.find((h) => h.type?.what === 'control');
  const item = header?.items.find(({ index }) => index === request.index);
  if (item === undefined)
    return refusal ? `the device refused the request: ${iinWords(refusal).join(', ')}` : 'the answer names no control';
  const echo = readControlBlock(fragment.octets, item.at);
  const { code, count, onMs, offMs } = request.block;
  if (echo.code !== code || echo.count !== count || echo.onMs !== onMs || echo.offMs !== offMs)
    return 'the answer does not repeat what was sent';
  return echo.status & 0x7f;
}
