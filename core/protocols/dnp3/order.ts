import { z } from 'zod';
import { ByteReader, ByteWriter } from '../../bytes/index.ts';
import { credentialsSchema } from '../credentials.ts';
import { pointIndex } from './address.ts';
import { FunctionCode, iinWords, refusalOf, type Fragment } from './wire/application.ts';
import type { FileEntry } from './files/file.ts';
import { objectType } from './wire/objects.ts';
import { parseHeaders, writeAllHeader, writeIndexedHeader, writeRangeHeader } from './wire/header.ts';

const range = z
  .object({ start: pointIndex, stop: pointIndex })
  .refine(({ start, stop }) => start <= stop, 'A range ends where it starts or after that')
  .nullable();

const fileName = z.string().regex(/^[ -~]{0,200}$/, 'A file name has at most 200 printable ASCII characters');

const oneFile = fileName.min(1, 'A file needs a name');
const credentials = credentialsSchema.optional();

/** What a person may ask of a device beyond its points. Each is sent once, and answered unless it says so. */
export const orderSchema = z.discriminatedUnion('what', [
  /** Counters are frozen, all of them or a range; `clear` sets them to zero at the same moment (clause 4.4.6). */
  z.object({ what: z.literal('freeze'), clear: z.boolean(), range, acknowledged: z.boolean() }),
  z.object({ what: z.literal('restart'), how: z.enum(['cold', 'warm']) }),
  /** Points of a group, all of them or a range, report their events in that class; class 0: no events (clause 4.4.9). */
  z.object({
    what: z.literal('assignClass'),
    eventClass: z.union([z.literal(0), z.literal(1), z.literal(2), z.literal(3)]),
    group: z.number().int().min(1).max(255),
    range,
  }),
  z.object({
    what: z.literal('unsolicited'),
    enable: z.boolean(),
    classes: z.array(z.union([z.literal(1), z.literal(2), z.literal(3)])).min(1),
  }),
  /** In counts of the device. */
  z.object({
    what: z.literal('writeDeadbands'),
    items: z
      .array(z.object({ index: pointIndex, value: z.number().min(0).max(0xffff_ffff) }))
      .min(1)
      .max(200),
  }),
  z.object({ what: z.literal('readDeadbands') }),
  z.object({ what: z.literal('synchronise') }),
  /** The files that the device has in a directory; the empty name is the uppermost. */
  z.object({ what: z.literal('directory'), name: fileName, as: credentials }),
  z.object({ what: z.literal('readFile'), name: oneFile, as: credentials }),
  z.object({ what: z.literal('deleteFile'), name: oneFile, as: credentials }),
  z.object({ what: z.literal('fileInformation'), name: oneFile, as: credentials }),
  /** To all devices on the line at once; none of them answers. */
  z.object({ what: z.literal('broadcast'), job: z.enum(['freeze', 'freezeAndClear', 'time']) }),
]);
export type Order = z.infer<typeof orderSchema>;

/** What an order brought besides its being done. */
export interface OrderAnswer {
  /** How long the device will be away, milliseconds. */
  awayMs?: number;
  deadbands?: { index: number; value: number }[];
  directory?: FileEntry[];
  /** The content of a file. */
  file?: Uint8Array;
}

const BROADCASTS = { time: 'set the clock', freeze: 'freeze counters', freezeAndClear: 'freeze and clear counters' };
const ORDER_NAMES: Record<Order['what'], string> = {
  freeze: 'freeze counters',
  restart: 'restart',
  assignClass: 'assign class',
  unsolicited: 'unsolicited reporting',
  writeDeadbands: 'write deadbands',
  readDeadbands: 'read deadbands',
  synchronise: 'set the clock',
  directory: 'read directory',
  readFile: 'read file',
  deleteFile: 'delete file',
  fileInformation: 'file information',
  broadcast: 'to all on the line',
};

export const orderWords = (order: Order): string =>
  order.what === 'broadcast'
    ? `to all on the line: ${BROADCASTS[order.job]}`
    : order.what === 'freeze' && order.clear
      ? BROADCASTS.freezeAndClear
      : ORDER_NAMES[order.what];

/** Orders that change how a device works or what it holds for everybody, rather than ask it for something. */
const CHANGING: readonly Order['what'][] = [
  'restart',
  'assignClass',
  'unsolicited',
  'writeDeadbands',
  'deleteFile',
  'synchronise',
  'broadcast',
];
export const changesDevice = (order: Order): boolean =>
  CHANGING.includes(order.what) || (order.what === 'freeze' && order.clear);

/** An order that is one request. */
export type Requested = Exclude<Order, { what: 'synchronise' | 'broadcast' | FileOrder['what'] }>;
export type FileOrder = Extract<Order, { name: string }>;
export const isFileOrder = (order: Order): order is FileOrder => 'name' in order;

/** Function code and objects of an order. */
export function orderRequest(order: Requested): [number, Uint8Array] {
  const out = new ByteWriter();
  const rangeOrAll = (group: number, range: { start: number; stop: number } | null): void => {
    if (range === null) writeAllHeader(out, group, 0);
    else writeRangeHeader(out, group, 0, range.start, range.stop);
  };
  switch (order.what) {
    case 'freeze': {
      rangeOrAll(20, order.range);
      const codes = order.clear
        ? [FunctionCode.freezeAndClear, FunctionCode.freezeAndClearNoAck]
        : [FunctionCode.immediateFreeze, FunctionCode.immediateFreezeNoAck];
      return [codes[order.acknowledged ? 0 : 1], out.finish()];
    }
    case 'restart':
      return [order.how === 'cold' ? FunctionCode.coldRestart : FunctionCode.warmRestart, out.finish()];
    case 'assignClass':
      writeAllHeader(out, 60, order.eventClass + 1);
      rangeOrAll(order.group, order.range);
      return [FunctionCode.assignClass, out.finish()];
    case 'unsolicited':
      for (const n of order.classes) writeAllHeader(out, 60, n + 1);
      return [order.enable ? FunctionCode.enableUnsolicited : FunctionCode.disableUnsolicited, out.finish()];
    case 'writeDeadbands': {
      // g34v2: 32 bits without sign.
      const highest = order.items.reduce((most, { index }) => Math.max(most, index), 0);
      const writeIndex = writeIndexedHeader(out, 34, 2, order.items.length, highest);
      for (const { index, value } of order.items) {
        writeIndex(index);
        out.uint32(Math.max(0, Math.min(0xffff_ffff, Math.round(value))));
      }
      return [FunctionCode.write, out.finish()];
    }
    case 'readDeadbands':
      writeAllHeader(out, 34, 0);
      return [FunctionCode.read, out.finish()];
    default:
      return order satisfies never;
  }
}

export const isAnswered = (order: Order): boolean => order.what !== 'freeze' || order.acknowledged;

/** What the answer to an order says, or why the device did not do it. */
export function orderAnswer(order: Requested, fragment: Fragment): OrderAnswer | string {
  const refusal = refusalOf(fragment);
  if (refusal) return `the device refused the request: ${iinWords(refusal).join(', ')}`;
  const { headers } = parseHeaders(fragment.octets, fragment.objectsAt, true);
  if (order.what === 'restart') {
    const delay = headers.find(({ type, items }) => type?.what === 'delay' && items.length > 0);
    if (delay === undefined) return {};
    const value = new ByteReader(fragment.octets, delay.items[0].at).uint16();
    return { awayMs: delay.variation === 1 ? value * 1000 : value };
  }
  if (order.what === 'readDeadbands') return { deadbands: headers.flatMap((header) => deadbandsOf(header, fragment)) };
  return {};
}

/** The analog input deadbands of one header (g34): 16 bits, 32 bits, or a float of 32. */
export function deadbandsOf(
  { group, variation, items }: { group: number; variation: number; items: readonly { index: number; at: number }[] },
  { octets }: Fragment,
): { index: number; value: number }[] {
  if (objectType(group, variation)?.what !== 'deadband') return [];
  return items.map(({ index, at }) => {
    const reader = new ByteReader(octets, at);
    return { index, value: variation === 1 ? reader.uint16() : variation === 2 ? reader.uint32() : reader.float32() };
  });
}
