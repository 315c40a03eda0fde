import { POINT_KINDS } from '../../../point/index.ts';
import type { Instant } from '../../../session/index.ts';
import { encodeFragment } from '../wire/application.ts';
import { Lane, NO_LINE_TIMING } from '../../../line/index.ts';
import { linkFraming } from '../wire/framing.ts';
import { encodeLinkFrame, LinkParser, PrimaryFunction } from '../wire/link.ts';
import { Loop } from './loop.ts';
import { Master } from '../client/master.ts';
import { Outstation } from '../server/outstation.ts';
import { DEFAULT_VARIATIONS, type OutstationPoint } from '../server/pointtable.ts';
import { masterSettings, outstationSettings } from '../settings.ts';
import { segment } from '../wire/transport.ts';

/*
 * Hostile octets against master, outstation and lane: true conversations with octets flipped, cut, doubled, put in
 * other places, and fragments with nonsense in them under right checksums. Each stream goes to a session in pieces of
 * any size. What must never happen: an exception, a stream that takes long, memory that grows, a frame taken whose
 * checksum is wrong.
 */

export interface FuzzReport {
  streams: number;
  framesTaken: number;
  longestMs: number;
  problems: string[];
}

/** A reproducible source of chance (mulberry32). */
export function chance(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let t = Math.imul(state ^ (state >>> 15), 1 | state);
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t;
    return ((t ^ (t >>> 14)) >>> 0) / 4_294_967_296;
  };
}

/** The checksum bit by bit, apart from the one that is tested (IEEE 1815, clause 9.2.4.7). */
function bitwiseCrc(octets: Uint8Array, from: number, to: number): number {
  let register = 0;
  for (let at = from; at < to; at++) {
    register ^= octets[at];
    for (let bit = 0; bit < 8; bit++) register = register & 1 ? (register >>> 1) ^ 0xa6bc : register >>> 1;
  }
  return ~register & 0xffff;
}

function checksumsHold(frame: Uint8Array): boolean {
  const holds = (from: number, to: number): boolean =>
    bitwiseCrc(frame, from, to) === (frame[to] | (frame[to + 1] << 8));
  if (!holds(0, 8)) return false;
  for (let at = 10; at < frame.length; at += 18) if (!holds(at, Math.min(at + 16, frame.length - 2))) return false;
  return true;
}

const points: OutstationPoint[] = POINT_KINDS.flatMap((kind) =>
  Array.from({ length: 8 }, (_, index) => ({
    kind,
    index,
    class: 1 as const,
    staticVariation: DEFAULT_VARIATIONS[kind].static,
    eventVariation: DEFAULT_VARIATIONS[kind].event,
    deadband: 0,
    commandClass: 1 as const,
  })),
);

const credentials = { user: 'records', password: 'vole' };
const files = [
  { name: 'A.CFG', content: new Uint8Array(40), time: 1_700_000_000_000 },
  { name: 'A.DAT', content: new Uint8Array(3000).fill(65), time: 1_700_000_000_000 },
];
const fileOrders = [
  { what: 'directory', name: '', as: credentials },
  { what: 'readFile', name: 'A.DAT', as: credentials },
  { what: 'fileInformation', name: 'A.CFG' },
  { what: 'deleteFile', name: 'A.CFG', as: credentials },
] as const;

/** What both ends said in a true conversation. */
function conversation(): { toMaster: Uint8Array[]; toOutstation: Uint8Array[] } {
  const loop = new Loop(
    points,
    { unsolicitedClasses: [1, 2, 3], clockCheckMs: 1000 },
    { takesTime: true, unsolicited: true, restartsInMs: 500 },
  );
  loop.connect();
  loop.toOutstation({ type: 'setFiles', files, rules: { credentials, mayDelete: true } });
  for (let i = 0; i < 16; i++) {
    const kind = POINT_KINDS[i % POINT_KINDS.length];
    const text = kind === 'text' ? { text: `text ${i}` } : {};
    const update = { kind, index: i % 8, value: i % 3, ...text, flags: 1, time: loop.now, exact: true };
    const given = { kind: i % 2 === 0 ? ('output' as const) : ('setpoint' as const), index: i % 8 };
    loop.toOutstation({ type: 'commandGiven', ...given, value: 1, status: i % 9, time: loop.now });
    loop.toOutstation({ type: 'update', updates: [update] });
    loop.pass(700);
  }
  const block = { code: 0x41, count: 1, onMs: 100, offMs: 100 };
  const expiresAt = loop.now + 10_000;
  loop.toMaster({ type: 'control', id: 'a', index: 1, block, mode: 'selectOperate', expiresAt });
  const setpoint = { variation: 1 as const, value: 7 };
  loop.toMaster({ type: 'control', id: 'b', index: 1, block, setpoint, mode: 'direct', expiresAt });
  const range = { start: 0, stop: 3 };
  loop.toMaster({ type: 'order', id: 'c', order: { what: 'freeze', clear: true, range, acknowledged: true } });
  loop.toMaster({ type: 'order', id: 'd', order: { what: 'assignClass', eventClass: 2, group: 30, range } });
  loop.toMaster({ type: 'order', id: 'e', order: { what: 'readDeadbands' } });
  loop.toMaster({ type: 'order', id: 'f', order: { what: 'broadcast', job: 'time' } });
  for (const order of fileOrders) loop.toMaster({ type: 'order', id: order.what, order });
  loop.toMaster({ type: 'survey', id: 's' });
  loop.pass(8000);
  const of = (towards: 'master' | 'outstation'): Uint8Array[] =>
    loop.sent.flatMap((one) => (one.towards === towards ? [one.octets] : []));
  return { toMaster: of('master'), toOutstation: of('outstation') };
}

/** A fragment with nonsense in it, in frames whose checksums are right. */
function nonsense(random: () => number, fromMaster: boolean): Uint8Array {
  const octet = (): number => Math.floor(random() * 256);
  const objects = Uint8Array.from({ length: Math.floor(random() * 60) }, octet);
  // Often the beginning of something known.
  const groups = [
    0, 1, 2, 3, 10, 11, 12, 13, 20, 21, 22, 23, 30, 32, 34, 40, 41, 42, 43, 50, 51, 52, 60, 70, 80, 110, 111,
  ];
  if (objects.length > 4 && random() < 0.8) {
    objects[0] = groups[Math.floor(random() * groups.length)];
    objects[1] = Math.floor(random() * 9);
    objects[2] = [0x00, 0x01, 0x06, 0x07, 0x08, 0x17, 0x28, 0x5b][Math.floor(random() * 8)];
  }
  const control = {
    first: random() < 0.95,
    final: random() < 0.95,
    confirm: random() < 0.5,
    unsolicited: random() < 0.3,
    sequence: Math.floor(random() * 16),
  };
  const functionCode = fromMaster ? Math.floor(random() * 34) : random() < 0.7 ? 129 : 130;
  const fragment = encodeFragment(control, functionCode, fromMaster ? null : octet() | (octet() << 8), objects);
  const frames = segment(fragment, Math.floor(random() * 64)).map((data) =>
    encodeLinkFrame({
      fromMaster,
      primary: true,
      countBit: random() < 0.5,
      countValid: random() < 0.2,
      functionCode: random() < 0.9 ? PrimaryFunction.unconfirmedUserData : Math.floor(random() * 16),
      destination: fromMaster ? (random() < 0.9 ? 11 : 0xffff) : 1,
      source: fromMaster ? 1 : 11,
      data,
    }),
  );
  return joined(frames);
}

function joined(parts: readonly Uint8Array[]): Uint8Array {
  const whole = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0));
  let at = 0;
  for (const part of parts) {
    whole.set(part, at);
    at += part.length;
  }
  return whole;
}

function mutate(octets: Uint8Array, random: () => number): Uint8Array {
  const at = Math.floor(random() * octets.length);
  const copy = octets.slice();
  switch (Math.floor(random() * 6)) {
    case 0:
      copy[at] ^= 1 << Math.floor(random() * 8);
      return copy;
    case 1:
      copy[at] = Math.floor(random() * 256);
      return copy;
    case 2:
      return joined([octets.subarray(0, at), octets.subarray(at + 1)]);
    case 3:
      return joined([octets.subarray(0, at), Uint8Array.of(Math.floor(random() * 256)), octets.subarray(at)]);
    case 4:
      return octets.slice(0, at);
    default:
      return joined([octets.subarray(0, at), octets]);
  }
}

const STREAMS_A_SESSION = 500;
const LONGEST_MS = 500;
const MAX_PROBLEMS = 20;

/** Runs so many streams; the same seed gives the same ones. */
export function fuzz(streams: number, seed: number, now: () => number): FuzzReport {
  const random = chance(seed);
  const { toMaster, toOutstation } = conversation();
  const report: FuzzReport = { streams: 0, framesTaken: 0, longestMs: 0, problems: [] };
  let virtual: Instant = 1_700_000_000_000;
  const settings = masterSettings.parse({ ourAddress: 1, theirAddress: 11, unsolicitedClasses: [1, 2, 3] });
  const there = outstationSettings.parse({ ourAddress: 11, theirAddress: 1, unsolicited: true, eventsPerClass: 50 });
  const victims = (): { receive: (octets: Uint8Array) => void; towards: 'master' | 'outstation' }[] => {
    const master = new Master(settings, virtual);
    const outstation = new Outstation(there, points, virtual);
    const lane = new Lane(NO_LINE_TIMING, linkFraming(), virtual);
    lane.add('D', new Master(settings, virtual, { lane: true }), virtual);
    for (const session of [master, outstation, lane]) session.start(virtual);
    outstation.command({ type: 'setFiles', files, rules: { credentials, mayDelete: true } }, virtual);
    return [
      {
        towards: 'master',
        receive: (octets) => {
          // Answers about files find somebody who waits for them.
          const order = fileOrders[Math.floor(random() * 40)] as (typeof fileOrders)[number] | undefined;
          if (order) master.command({ type: 'order', id: order.what, order }, virtual);
          master.receive(octets, virtual);
          if (master.deadline !== null && master.deadline <= virtual) master.wake(virtual);
          for (const effect of master.take())
            if (effect.type === 'readings' && effect.token !== null)
              master.command({ type: 'committed', token: effect.token }, virtual);
        },
      },
      {
        towards: 'outstation',
        receive: (octets) => {
          outstation.receive(octets, virtual);
          if (outstation.deadline !== null && outstation.deadline <= virtual) outstation.wake(virtual);
          for (const effect of outstation.take())
            if (effect.type === 'control')
              outstation.command(
                { type: 'controlResult', token: effect.token, statuses: effect.items.map(() => 0) },
                virtual,
              );
        },
      },
      {
        towards: 'master',
        receive: (octets) => {
          lane.receive(octets, virtual);
          if (lane.deadline !== null && lane.deadline <= virtual) lane.wake(virtual);
          lane.take();
        },
      },
    ];
  };
  let current = victims();
  for (; report.streams < streams && report.problems.length < MAX_PROBLEMS; report.streams++) {
    if (report.streams % STREAMS_A_SESSION === 0) current = victims();
    const victim = current[report.streams % current.length];
    const sources = victim.towards === 'master' ? toMaster : toOutstation;
    const invented = random() < 0.3;
    let stream = invented
      ? nonsense(random, victim.towards === 'outstation')
      : sources[Math.floor(random() * sources.length)];
    for (let i = Math.floor(random() * (invented ? 1.3 : 3)); i > 0 && stream.length > 0; i--)
      stream = mutate(stream, random);
    virtual += Math.floor(random() * 400);
    for (const event of new LinkParser().push(stream))
      if (event.type === 'frame') {
        report.framesTaken++;
        if (!checksumsHold(event.octets))
          report.problems.push(`a frame with a wrong checksum was taken: ${hex(stream)}`);
      }
    const began = now();
    try {
      for (let at = 0; at < stream.length;) {
        const size = 1 + Math.floor(random() * (random() < 0.3 ? 8 : 300));
        victim.receive(stream.subarray(at, at + size));
        at += size;
      }
    } catch (error) {
      report.problems.push(`${String(error)} after ${hex(stream)}`);
      current = victims();
    }
    const took = now() - began;
    report.longestMs = Math.max(report.longestMs, took);
    if (took > LONGEST_MS) report.problems.push(`${took.toFixed(0)} ms for ${hex(stream)}`);
  }
  return report;
}

const hex = (octets: Uint8Array): string => [...octets].map((octet) => octet.toString(16).padStart(2, '0')).join('');
