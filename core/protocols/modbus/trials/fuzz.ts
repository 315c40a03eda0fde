import { Lane, NO_LINE_TIMING } from '../../../line/index.ts';
import type { PointKind } from '../../../point/index.ts';
import type { ClientCommand, ClientNews } from '../../client.ts';
import { ModbusClient } from '../client/client.ts';
import type { Order } from '../order.ts';
import { modbusAt, type ModbusAt, type Table } from '../points.ts';
import { ModbusServer } from '../server/server.ts';
import { clientSettings, serverSettings } from '../settings.ts';
import { encodeFrame, FRAMINGS, modbusFraming, type FramingName, type WireEvent } from '../wire/frame.ts';
import { encodeException, encodeRequest, encodeResponse, packBits, type Request } from '../wire/pdu.ts';

/*
 * Hostile octets against client, server and lane, over each framing: true requests and answers with octets flipped,
 * cut, doubled and put in other places, and units of data of nonsense under right checksums. Each stream goes in pieces
 * of any size. What must never happen: an exception, a stream that takes long, a control that nobody asked for, an
 * answer that is longer than the specification allows.
 */

export interface FuzzReport {
  streams: number;
  /** Requests that the server took for such, and answers that the client did. */
  taken: number;
  longestMs: number;
  problems: string[];
}

const LIST: [kind: PointKind, table: Table, address: number, more?: Partial<ModbusAt>][] = [
  ['output', 'coils', 0],
  ['binary', 'discreteInputs', 3],
  ['analog', 'inputRegisters', 0, { type: 'float32' }],
  ['counter', 'inputRegisters', 4, { type: 'uint64' }],
  ['text', 'inputRegisters', 10, { type: 'text', registers: 8 }],
  ['setpoint', 'holdingRegisters', 0, { type: 'int32', order: 'CDAB' }],
  ['output', 'holdingRegisters', 9, { bit: 4 }],
];
const points = LIST.map(([kind, table, address, more], id) => ({ id, kind, at: modbusAt(table, address, more) }));
const UNIT = 1;
/** Longest frame of any framing: ASCII's. */
const LONGEST_FRAME = 513;
/** A stream that takes longer than this has got stuck somewhere. */
const MOST_MS = 1000;

export function fuzz(streams: number, random: () => number, clock: () => number): FuzzReport {
  const report: FuzzReport = { streams: 0, taken: 0, longestMs: 0, problems: [] };
  const below = (n: number): number => Math.floor(random() * n);
  const octets = (most: number): Uint8Array => Uint8Array.from({ length: below(most) }, () => below(256));
  const pick = <One>(of: readonly One[]): One => of[below(of.length)];

  const anyRequest = (): Request =>
    pick<Request>([
      { code: pick([1, 2, 3, 4] as const), address: below(20), count: 1 + below(12) },
      { code: 0x05, address: below(3), on: random() < 0.5 },
      { code: 0x06, address: below(12), registers: Uint8Array.of(below(256), below(256)) },
      { code: 0x08, sub: below(3), data: octets(6) },
      { code: 0x0f, address: below(3), bits: Array.from({ length: 1 + below(9) }, () => random() < 0.5) },
      { code: 0x10, address: below(12), registers: new Uint8Array(2 * (1 + below(6))) },
      { code: 0x16, address: below(12), and: below(65536), or: below(65536) },
      { code: 0x17, address: below(9), count: 1 + below(4), writeAddress: below(9), registers: new Uint8Array(4) },
      { code: 0x2b, access: pick([1, 2, 3, 4] as const), object: below(8) },
    ]);
  const anyAnswer = (): Uint8Array =>
    pick([
      () => encodeResponse({ code: pick([3, 4] as const), data: new Uint8Array(2 * below(20)) }),
      () => encodeResponse({ code: pick([1, 2] as const), data: packBits([true, false]) }),
      () => encodeException(below(256), below(256)),
      () => encodeResponse({ code: 0x05, address: 0, value: 0xff00 }),
      () => octets(40),
    ])();
  const nonsense = (): Uint8Array => Uint8Array.of(below(256), ...octets(60));

  /** True frames, spoilt now and then. */
  const stream = (framing: FramingName, unitOf: () => Uint8Array): Uint8Array => {
    const parts: number[] = [];
    for (let n = 1 + below(6); n > 0; n--) {
      const pdu = random() < 0.2 ? nonsense() : unitOf();
      let frame = encodeFrame(framing, below(40), random() < 0.9 ? UNIT : below(256), pdu);
      const mischief = random();
      if (mischief < 0.2 && frame.length > 0) frame[below(frame.length)] ^= 1 << below(8);
      else if (mischief < 0.3) frame = frame.slice(0, below(frame.length));
      else if (mischief < 0.4) parts.push(...octets(12));
      else if (mischief < 0.45) parts.push(...frame);
      parts.push(...frame);
    }
    return Uint8Array.from(parts);
  };
  const inPieces = (all: Uint8Array, take: (piece: Uint8Array) => void): void => {
    for (let at = 0; at < all.length;) {
      const length = 1 + below(40);
      take(all.subarray(at, at + length));
      at += length;
    }
  };

  while (report.streams < streams) {
    const framing = pick(FRAMINGS);
    let now = 1_700_000_000_000;
    const began = clock();
    const what = `stream ${report.streams} over ${framing}`;
    try {
      const server = new ModbusServer(
        serverSettings.parse({ unitId: UNIT }),
        framing,
        0,
        points.map(({ kind, at }) => ({ kind, at, deadband: 0 })),
        now,
      );
      server.command({ type: 'came', peer: 1 }, now);
      inPieces(
        stream(framing, () => encodeRequest(anyRequest())),
        (piece) => {
          server.command({ type: 'octets', peer: 1, octets: piece }, now++);
          for (const effect of server.take()) {
            if (effect.type === 'send' && effect.octets.length > LONGEST_FRAME)
              report.problems.push(`${what}: an answer of ${effect.octets.length} octets`);
            if (effect.type !== 'control') continue;
            if (effect.items.some(({ kind }) => kind !== 'output' && kind !== 'setpoint'))
              report.problems.push(`${what}: a control of something else`);
            const outcomes = effect.items.map(() => ({ result: 'done' as const, status: null, protocol: null }));
            server.command({ type: 'controlResult', token: effect.token, outcomes }, now);
          }
        },
      );
      report.taken += server.counters.values.requests;

      const client = new ModbusClient(clientSettings.parse({ unitId: UNIT, outstanding: 3 }), framing, now, {
        ...{ octetMs: 0, remembered: null, points, phase: 1 },
      });
      const lane = new Lane<ClientCommand<ModbusAt, Order>, ClientNews, WireEvent>(
        NO_LINE_TIMING,
        modbusFraming(framing, 'responses', 0),
        now,
      );
      lane.add('D', client, now);
      lane.start(now);
      inPieces(stream(framing, anyAnswer), (piece) => {
        lane.receive(piece, now);
        now += below(50);
        lane.wake(now);
        for (const effect of lane.take())
          if (effect.type === 'device' && effect.effect.type === 'readings')
            for (const { raw } of effect.effect.readings)
              if (!Number.isFinite(raw)) report.problems.push(`${what}: a reading of ${raw}`);
      });
      report.taken += client.counters.values.responses;
    } catch (error) {
      report.problems.push(`${what}: ${error instanceof Error ? (error.stack ?? error.message) : String(error)}`);
    }
    const took = clock() - began;
    report.longestMs = Math.max(report.longestMs, took);
    if (took > MOST_MS) report.problems.push(`${what}: took ${took.toFixed(0)} ms`);
    report.streams++;
  }
  return report;
}
