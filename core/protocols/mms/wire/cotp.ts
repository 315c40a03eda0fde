import { concat } from '../../../bytes/index.ts';
import type { Result } from '../../../session/index.ts';

/*
 * Transport of class 0 (ISO 8073, clause 13; ITU-T X.224):
 *
 *   CR, CC   LI  E0/D0  dst-ref 2  src-ref 2  class 1  parameters: code 1, length 1, value
 *   DR       LI  80     dst-ref 2  src-ref 2  reason 1
 *   DT       02  F0     80 (the last one) or 00  user data
 *   ER       LI  70     dst-ref 2  reason 1
 */

export interface Connect {
  type: 'connectRequest' | 'connectConfirm';
  destination: number;
  source: number;
  class: number;
  /** Octets of a TPDU at most; absent: 128. */
  size?: number;
  calling?: Uint8Array;
  called?: Uint8Array;
}

export type Tpdu =
  | Connect
  | { type: 'disconnect'; destination: number; source: number; reason: number }
  | { type: 'data'; last: boolean; data: Uint8Array }
  | { type: 'error'; reason: number };

const CODE = { connectRequest: 0xe0, connectConfirm: 0xd0, disconnect: 0x80, data: 0xf0, error: 0x70 } as const;
const PARAMETER = { size: 0xc0, calling: 0xc1, called: 0xc2 } as const;
/** Octets before the data of a DT. */
export const DATA_OVERHEAD = 3;
/** Sizes are powers of two, 2^7 to 2^13 (13.3.4 b); class 0 stops at 2^11, which nobody keeps to. */
const SIZES = [7, 8, 9, 10, 11, 12, 13];
export const DEFAULT_SIZE = 128;

/** The largest size that may be said and is not above the wanted one. */
export const sizeAtMost = (wanted: number): number =>
  2 ** (SIZES.filter((power) => 2 ** power <= wanted).at(-1) ?? SIZES[0]);

const uint16 = (value: number): number[] => [(value >> 8) & 0xff, value & 0xff];
const parameter = (code: number, value: Uint8Array | undefined): Uint8Array =>
  value === undefined ? new Uint8Array() : concat([Uint8Array.of(code, value.length), value]);

export function encodeTpdu(tpdu: Tpdu): Uint8Array {
  switch (tpdu.type) {
    case 'connectRequest':
    case 'connectConfirm': {
      const { destination, source, size, calling, called } = tpdu;
      const variable = concat([
        parameter(PARAMETER.size, size === undefined ? undefined : Uint8Array.of(Math.log2(size))),
        parameter(PARAMETER.calling, calling),
        parameter(PARAMETER.called, called),
      ]);
      const fixed = [CODE[tpdu.type], ...uint16(destination), ...uint16(source), tpdu.class];
      return concat([Uint8Array.of(fixed.length + variable.length, ...fixed), variable]);
    }
    case 'disconnect':
      return Uint8Array.of(6, CODE.disconnect, ...uint16(tpdu.destination), ...uint16(tpdu.source), tpdu.reason);
    case 'data':
      return concat([Uint8Array.of(2, CODE.data, tpdu.last ? 0x80 : 0), tpdu.data]);
    case 'error':
      return Uint8Array.of(4, CODE.error, 0, 0, tpdu.reason);
    default:
      return tpdu satisfies never;
  }
}

export function decodeTpdu(octets: Uint8Array): Result<Tpdu, string> {
  const wrong = (problem: string): Result<Tpdu, string> => ({ ok: false, problem });
  if (octets.length < 2) return wrong(`a TPDU of ${octets.length} octets`);
  const headerEnd = octets[0] + 1;
  if (headerEnd > octets.length) return wrong(`a TPDU whose header has ${octets[0]} octets, of ${octets.length - 1}`);
  const code = octets[1] & 0xf0;
  const least = { [CODE.data]: 3, [CODE.error]: 5 }[code] ?? 7;
  if (headerEnd < least) return wrong(`a TPDU ${octets[1].toString(16)} whose header has ${octets[0]} octets`);
  const [destination, source] = [(octets[2] << 8) | octets[3], (octets[4] << 8) | octets[5]];
  switch (code) {
    case CODE.connectRequest:
    case CODE.connectConfirm: {
      const connect: Connect = {
        type: code === CODE.connectRequest ? 'connectRequest' : 'connectConfirm',
        ...{ destination, source, class: octets[6] >> 4 },
      };
      return withParameters(connect, octets.subarray(7, headerEnd));
    }
    case CODE.disconnect:
      return { ok: true, value: { type: 'disconnect', destination, source, reason: octets[6] } };
    case CODE.data:
      return {
        ok: true,
        value: { type: 'data', last: (octets[2] & 0x80) !== 0, data: octets.subarray(headerEnd) },
      };
    case CODE.error:
      return { ok: true, value: { type: 'error', reason: octets[4] } };
    default:
      return wrong(`a TPDU ${octets[1].toString(16)}, which class 0 does not have`);
  }
}

/** Parameters that are not known are passed over (13.2.3). */
function withParameters(connect: Connect, variable: Uint8Array): Result<Tpdu, string> {
  for (let at = 0; at < variable.length;) {
    const [code, length] = [variable[at], variable[at + 1] ?? 0];
    const value = variable.subarray(at + 2, at + 2 + length);
    if (value.length < length) return { ok: false, problem: `a parameter ${code.toString(16)} that is cut off` };
    if (code === PARAMETER.size && length === 1) {
      if (!SIZES.includes(value[0])) return { ok: false, problem: `a TPDU size of 2^${value[0]}` };
      connect.size = 2 ** value[0];
    }
    if (code === PARAMETER.calling) connect.calling = value;
    if (code === PARAMETER.called) connect.called = value;
    at += 2 + length;
  }
  return { ok: true, value: connect };
}

/** Reasons of a disconnect (13.5.3 d). */
const REASONS: Record<number, string> = {
  0: 'no reason said',
  1: 'congestion there',
  2: 'no session at that selector',
  3: 'the address is not known there',
  128: 'disconnected there',
  129: 'congestion of the transport there',
  130: 'the connection could not be agreed on',
  133: 'a protocol error',
  136: 'the connection was refused',
  138: 'a header that is not well-formed',
};
export const reasonWords = (reason: number): string => REASONS[reason] ?? `reason ${reason}`;

/** Data of one message, cut to TPDUs of the agreed size (13.7.4). */
export function segments(message: Uint8Array, size: number): Uint8Array[] {
  const room = size - DATA_OVERHEAD;
  const parts: Uint8Array[] = [];
  for (let at = 0; at === 0 || at < message.length; at += room)
    parts.push(encodeTpdu({ type: 'data', last: at + room >= message.length, data: message.subarray(at, at + room) }));
  return parts;
}
