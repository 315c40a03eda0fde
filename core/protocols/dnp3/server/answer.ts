import { ByteWriter } from '../../../bytes/index.ts';
import type { PointKind } from '../../../point/index.ts';
import { Iin } from '../wire/application.ts';
import { ALL_ATTRIBUTES, writeAttribute } from '../attributes.ts';
import type { BufferedEvent, EventBuffer } from './eventbuffer.ts';
import { type ObjectHeader, writeIndexedHeader, writeRangeHeader } from '../wire/header.ts';
import {
  encodeCommand,
  encodeMeasurement,
  Flag,
  objectType,
  textType,
  type CommandType,
  type MeasurementType,
  type TextType,
} from '../wire/objects.ts';
import { COMMAND_GROUPS, GROUPS, type PointState, type PointTable } from './pointtable.ts';
import { octetsOf } from '../wire/text.ts';

/** What a read still wants, in the order in which it will be answered: events before present values. */
export type Want =
  | { what: 'events'; wanted: (event: BufferedEvent) => boolean; variation: number; limit: number }
  | { what: 'static'; points: readonly PointState[]; variation: number }
  | { what: 'octets'; octets: Uint8Array };

const CLASS_ZERO_ORDER: readonly PointKind[] = [
  'binary',
  'doubleBit',
  'output',
  'counter',
  'frozenCounter',
  'analog',
  'setpoint',
  'text',
];

/** Turns the object headers of a read into wants; `iin` gets what is wrong with it. */
export function wantsOf(
  headers: readonly ObjectHeader[],
  points: PointTable,
  indications: () => number,
  attributes: Readonly<Record<string, string>>,
  now: number,
): { wants: Want[]; iin: number } {
  const events: Want[] = [];
  const statics: Want[] = [];
  let iin = 0;
  for (const header of headers) {
    const { group, variation, range } = header;
    const limit = range.type === 'count' ? range.count : Infinity;
    const type = header.type;
    if (type?.what === 'class') {
      if (variation === 1)
        for (const kind of CLASS_ZERO_ORDER)
          statics.push({ what: 'static', points: points.ofKind(kind), variation: 0 });
      else events.push({ what: 'events', wanted: (event) => event.class === variation - 1, variation: 0, limit });
    } else if (type?.what === 'attribute') {
      const wanted = Object.entries(attributes).filter(
        ([known]) => variation === ALL_ATTRIBUTES || Number(known) === variation,
      );
      if (wanted.length === 0) iin |= Iin.objectUnknown;
      for (const [known, text] of wanted) {
        const out = new ByteWriter();
        writeAttribute(out, Number(known), text);
        statics.push({ what: 'octets', octets: out.finish() });
      }
    } else if (group === DEADBAND_GROUP) {
      const chosen = chosenPoints(points.ofKind('analog'), range);
      if (!chosen.complete) iin |= Iin.parameterError;
      for (let at = 0; at < chosen.points.length; at += DEADBANDS_AT_ONCE)
        statics.push({
          what: 'octets',
          octets: deadbandObjects(chosen.points.slice(at, at + DEADBANDS_AT_ONCE), variation || 2),
        });
    } else if (type?.what === 'indications') {
      statics.push({ what: 'octets', octets: indicationObjects(indications()) });
    } else if (type?.what === 'time' && variation === 1) {
      const out = new ByteWriter()
        .uint8(50)
        .uint8(1)
        .uint8(0x07)
        .uint8(1)
        .uint48(Math.max(0, Math.round(now)));
      statics.push({ what: 'octets', octets: out.finish() });
    } else {
      const holder = kindOfGroup(group);
      if (holder === null || type?.what === 'passedOver') {
        iin |= Iin.objectUnknown;
        continue;
      }
      if (holder.use !== 'static') {
        const commands = holder.use === 'command';
        const wanted = ({ kind, status }: BufferedEvent): boolean =>
          kind === holder.kind && (status !== undefined) === commands;
        events.push({ what: 'events', wanted, variation: holder.kind === 'text' ? 0 : variation, limit });
      } else {
        const chosen = chosenPoints(points.ofKind(holder.kind), range);
        if (!chosen.complete) iin |= Iin.parameterError;
        statics.push({ what: 'static', points: chosen.points, variation });
      }
    }
  }
  return { wants: [...events, ...statics], iin };
}

export function kindOfGroup(group: number): { kind: PointKind; use: 'static' | 'event' | 'command' } | null {
  for (const [kind, groups] of Object.entries(GROUPS) as [PointKind, (typeof GROUPS)[PointKind]][]) {
    if (groups.static === group) return { kind, use: 'static' };
    if (groups.event === group) return { kind, use: 'event' };
    if (COMMAND_GROUPS[kind] === group) return { kind, use: 'command' };
  }
  return null;
}

export function chosenPoints(
  all: readonly PointState[],
  range: ObjectHeader['range'],
): { points: readonly PointState[]; complete: boolean } {
  switch (range.type) {
    case 'all':
      return { points: all, complete: true };
    case 'count':
      return { points: all.slice(0, range.count), complete: range.count <= all.length };
    case 'range': {
      const points = all.filter(({ index }) => index >= range.start && index <= range.stop);
      return { points, complete: points.length === range.stop - range.start + 1 };
    }
    case 'indexes': {
      const byIndex = new Map(all.map((point) => [point.index, point]));
      const points = range.indexes.flatMap((index) => byIndex.get(index) ?? []);
      return { points, complete: points.length === range.indexes.length };
    }
    default:
      return range satisfies never;
  }
}

const DEADBAND_GROUP = 34;
/** As many as the shortest fragment holds. */
const DEADBANDS_AT_ONCE = 30;

/** Analog input deadbands, each with its index. */
function deadbandObjects(points: readonly PointState[], variation: number): Uint8Array {
  const out = new ByteWriter();
  if (points.length === 0) return out.finish();
  const writeIndex = writeIndexedHeader(out, DEADBAND_GROUP, variation, points.length, points[points.length - 1].index);
  for (const { index, deadband } of points) {
    writeIndex(index);
    if (variation === 3) out.float32(deadband);
    else if (variation === 2) out.uint32(Math.min(0xffff_ffff, Math.round(deadband)));
    else out.uint16(Math.min(0xffff, Math.round(deadband)));
  }
  return out.finish();
}

function indicationObjects(iin: number): Uint8Array {
  const out = new ByteWriter();
  writeRangeHeader(out, 80, 1, 0, 15);
  return out.uint16(iin).finish();
}

/** Longest header of a run of objects: group, variation, qualifier, start and stop of two octets each. */
const HEADER_ROOM = 7;
/** A common time object and two headers, which each event with a relative time may need. */
const RELATIVE_ROOM = 2 * HEADER_ROOM + 6;

/**
 * Fills one fragment's objects from the wants, and takes off them what it wrote. Events come in groups of one object
 * type each, in order within the type.
 */
export function fillFragment(
  wants: Want[],
  buffer: EventBuffer,
  room: number,
): { objects: Uint8Array; events: number[] } {
  const out = new ByteWriter(room);
  const taken = new Set<number>();
  let used = 0;
  while (wants[0]?.what === 'events') {
    const batches = new Map<string, { type: EventType; events: BufferedEvent[] }>();
    let full = false;
    while (!full && wants[0]?.what === 'events') {
      const want = wants[0];
      for (const event of buffer.waiting((e) => !taken.has(e.number) && want.wanted(e), want.limit)) {
        const type = eventType(event, want.variation);
        const key = `${type.group} ${type.variation}`;
        const batch = batches.get(key);
        const cost = type.octets + 2 + (isRelative(type) ? RELATIVE_ROOM : batch ? 0 : HEADER_ROOM);
        if (used + cost > room) {
          full = true;
          break;
        }
        used += cost;
        want.limit--;
        taken.add(event.number);
        if (batch) batch.events.push(event);
        else batches.set(key, { type, events: [event] });
      }
      if (!full) wants.shift();
    }
    for (const { type, events } of batches.values()) writeEvents(out, type, events);
    if (full) {
      // What did not fit comes with the next fragment.
      return { objects: out.finish(), events: [...taken] };
    }
  }
  while (wants.length > 0) {
    const want = wants[0];
    if (want.what === 'octets') {
      if (out.length + want.octets.length > room) break;
      out.bytes(want.octets);
    } else if (want.what === 'static') {
      const rest = writeStatic(out, want, room);
      if (rest.length > 0) {
        wants[0] = { ...want, points: rest };
        break;
      }
    }
    wants.shift();
  }
  return { objects: out.finish(), events: [...taken] };
}

type EventType = MeasurementType | CommandType | TextType;
const isRelative = (type: EventType): boolean => type.what === 'measurement' && type.time === 'relative';

function eventType(event: BufferedEvent, asked: number): EventType {
  const { kind, text, status } = event;
  const group = (status === undefined ? undefined : COMMAND_GROUPS[kind]) ?? GROUPS[kind].event;
  const variation = text === undefined ? asked || event.variation : octetsOf(text).length;
  const chosen = objectType(group, variation);
  if (chosen?.what !== 'measurement' && chosen?.what !== 'command' && chosen?.what !== 'text')
    throw new Error(`no event object g${group}v${variation}`);
  return chosen;
}

function writeEvents(out: ByteWriter, type: EventType, events: readonly BufferedEvent[]): void {
  for (const run of isRelative(type) ? relativeRuns(events) : [events]) {
    const commonTime = run[0].time;
    if (isRelative(type))
      out
        .uint8(51)
        .uint8(1)
        .uint8(0x07)
        .uint8(1)
        .uint48(Math.max(0, Math.round(commonTime)));
    const highest = run.reduce((max, event) => Math.max(max, event.index), 0);
    const writeIndex = writeIndexedHeader(out, type.group, type.variation, run.length, highest);
    for (const event of run) {
      writeIndex(event.index);
      if (type.what === 'measurement') encodeMeasurement(type, event, out, commonTime);
      else if (type.what === 'text') out.bytes(octetsOf(event.text ?? ''));
      else encodeCommand(type, { ...event, status: event.status ?? 0 }, out);
    }
  }
}

/** Runs whose times lie within 65535 ms after their first one. */
function relativeRuns(events: readonly BufferedEvent[]): BufferedEvent[][] {
  const runs: BufferedEvent[][] = [];
  for (const event of events) {
    const run = runs.at(-1);
    const since = run ? event.time - run[0].time : -1;
    if (run && since >= 0 && since <= 0xffff) run.push(event);
    else runs.push([event]);
  }
  return runs;
}

/** Writes runs of neighbouring indexes with one variation; returns the points that did not fit. */
function writeStatic(out: ByteWriter, want: Want & { what: 'static' }, room: number): readonly PointState[] {
  const { points } = want;
  let at = 0;
  while (at < points.length) {
    const type = staticType(points[at], want.variation);
    let end = at + 1;
    while (
      end < points.length &&
      points[end].index === points[end - 1].index + 1 &&
      sameType(staticType(points[end], want.variation), type)
    )
      end++;
    const space = room - out.length - HEADER_ROOM;
    const fits = type.packedBits > 0 ? Math.max(0, space) * (8 / type.packedBits) : Math.floor(space / type.octets);
    if (fits <= 0) return points.slice(at);
    const run = points.slice(at, Math.min(end, at + fits));
    writeRangeHeader(out, type.group, type.variation, run[0].index, run[run.length - 1].index);
    if (type.packedBits > 0) writePacked(out, run, type.packedBits);
    else if (type.what === 'text') for (const { text } of run) out.bytes(octetsOf(text));
    else for (const point of run) encodeMeasurement(type, point, out);
    at += run.length;
    if (run.length === fits && at < points.length) return points.slice(at);
  }
  return [];
}

function writePacked(out: ByteWriter, run: readonly PointState[], bits: number): void {
  const perOctet = 8 / bits;
  for (let at = 0; at < run.length; at += perOctet)
    out.uint8(
      run
        .slice(at, at + perOctet)
        .reduce((octet, point, i) => octet | ((point.value & ((1 << bits) - 1)) << (i * bits)), 0),
    );
}

/** Packed and other flagless objects cannot say that a value is not good: such a point goes with its flags. */
function staticType(point: PointState, variation: number): MeasurementType | TextType {
  const group = GROUPS[point.kind].static;
  if (point.kind === 'text') return textType(group, octetsOf(point.text).length);
  const asked = objectType(group, variation || point.staticVariation);
  if (asked?.what !== 'measurement') throw new Error(`no object g${group}v${variation || point.staticVariation}`);
  if (asked.flags || point.flags === Flag.online) return asked;
  const flagged = objectType(group, WITH_FLAGS[`${group} ${asked.variation}`] ?? asked.variation);
  return flagged?.what === 'measurement' ? flagged : asked;
}

const sameType = (a: { group: number; variation: number }, b: typeof a): boolean =>
  a.group === b.group && a.variation === b.variation;

const WITH_FLAGS: Partial<Record<string, number>> = {
  '1 1': 2,
  '3 1': 2,
  '10 1': 2,
  '20 5': 1,
  '20 6': 2,
  '21 9': 1,
  '21 10': 2,
  '30 3': 1,
  '30 4': 2,
};
