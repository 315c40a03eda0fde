import { ByteReader, ByteWriter } from '../../../../bytes/index.ts';
import type { Instant } from '../../../../session/index.ts';
import { FunctionCode, refusalOf, type Fragment } from '../../wire/application.ts';
import { parseHeaders, writeCountHeader } from '../../wire/header.ts';
import { delayMs } from '../../wire/objects.ts';
import { Priority } from '../../../../line/index.ts';
import type { Rules, TaskOf } from '../task.ts';

/** Setting a device's clock in both ways (IEEE 1815, clause 10.3), and reading it. */

const nothing = new Uint8Array(0);

export const measureDelay: Rules<TaskOf<'measureDelay'>> = {
  priority: () => Priority.background,
  words: () => 'measure delay',
  request: () => [FunctionCode.delayMeasurement, nothing],
  answered: (_, { fragment, sentAt }, talk, now) =>
    talk.doFirst({ type: 'writeTime', oneWayMs: oneWay(fragment, now - sentAt) }),
  mayBeRefused: true,
  dispensable: 'measure delay',
};

export const writeTime: Rules<TaskOf<'writeTime'>> = {
  priority: () => Priority.events,
  words: () => 'set clock',
  request: ({ oneWayMs }, now) => {
    const out = new ByteWriter();
    writeCountHeader(out, 50, 1, 1);
    return [FunctionCode.write, out.uint48(Math.round(now + oneWayMs)).finish()];
  },
  answered: (_, __, talk, now) => talk.clock.wasSet(now),
  dispensable: 'set clock',
};

export const recordTime: Rules<TaskOf<'recordTime'>> = {
  priority: () => Priority.background,
  words: () => 'record time',
  request: () => [FunctionCode.recordCurrentTime, nothing],
  answered: (_, { fragment, sentAt }, talk) => {
    if (!refusalOf(fragment)) talk.doFirst({ type: 'writeRecordedTime', at: sentAt });
  },
  mayBeRefused: true,
  dispensable: 'record time',
};

export const writeRecordedTime: Rules<TaskOf<'writeRecordedTime'>> = {
  priority: () => Priority.events,
  words: () => 'set clock',
  request: ({ at }) => {
    const out = new ByteWriter();
    writeCountHeader(out, 50, 3, 1);
    return [FunctionCode.write, out.uint48(Math.round(at)).finish()];
  },
  answered: (_, __, talk, now) => talk.clock.wasSet(now),
  dispensable: 'set clock',
};

export const readClock: Rules<TaskOf<'readClock'>> = {
  priority: () => Priority.background,
  words: () => 'read clock',
  request: () => {
    const out = new ByteWriter();
    writeCountHeader(out, 50, 1, 1);
    return [FunctionCode.read, out.finish()];
  },
  /** The device's clock, read half a round trip ago at the best guess (common practice). */
  answered: (_, { fragment, sentAt }, talk, now) => {
    const theirs = clockOf(fragment);
    if (theirs === null) return talk.clock.cannotBeRead();
    const half = (now - sentAt) / 2;
    talk.report({ type: 'clock', offsetMs: Math.round(theirs - (now - half)), uncertaintyMs: Math.ceil(half) });
  },
  unanswered: (_, __, talk) => {
    talk.clock.cannotBeRead();
    return 'over';
  },
  mayBeRefused: true,
};

/** Half of what the round took beyond the device's own delay (IEEE 1815, clause 10.3). */
function oneWay(fragment: Fragment, roundTripMs: number): number {
  const { headers } = parseHeaders(fragment.octets, fragment.objectsAt, true);
  const header = headers.find((h) => h.type?.what === 'delay' && h.items.length > 0);
  if (header === undefined) return 0;
  const inDevice = delayMs(header.variation, new ByteReader(fragment.octets, header.items[0].at).uint16());
  return Math.max(0, (roundTripMs - inDevice) / 2);
}

/** The device's clock in its answer to `readClock`; null when it gave none. */
function clockOf(fragment: Fragment): Instant | null {
  const { headers } = parseHeaders(fragment.octets, fragment.objectsAt, true);
  const header = headers.find((h) => h.type?.what === 'time' && h.variation === 1 && h.items.length > 0);
  return header ? new ByteReader(fragment.octets, header.items[0].at).uint48() : null;
}
