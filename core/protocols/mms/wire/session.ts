import { concat } from '../../../bytes/index.ts';
import type { Result } from '../../../session/index.ts';

/*
 * The session (ISO 8327-1, clause 8; ITU-T X.225), with the kernel and duplex data alone:
 *
 *   SI 1   LI 1, or FF and 2   parameters: PI 1, LI, value; or PGI 1, LI, parameters
 *
 *   CONNECT 0D  ACCEPT 0E  REFUSE 0C  FINISH 09  DISCONNECT 0A  ABORT 19  ABORT ACCEPT 1A
 *   DATA TRANSFER: 01 00 (give tokens), 01 00, then the data
 */

export interface SessionConnect {
  type: 'connect' | 'accept';
  calling?: Uint8Array;
  called?: Uint8Array;
  data: Uint8Array;
}

export type Spdu =
  | SessionConnect
  | { type: 'refuse'; reason: number | null; data: Uint8Array }
  | { type: 'finish' | 'disconnect' | 'abort'; data: Uint8Array }
  | { type: 'abortAccept' }
  | { type: 'data'; data: Uint8Array };

const SI = {
  connect: 0x0d,
  accept: 0x0e,
  refuse: 0x0c,
  finish: 0x09,
  disconnect: 0x0a,
  abort: 0x19,
  abortAccept: 0x1a,
};
const PI = {
  connectItem: 0x05,
  options: 0x13,
  requirements: 0x14,
  version: 0x16,
  transportDisconnect: 0x11,
  reason: 0x32,
  calling: 0x33,
  called: 0x34,
  data: 0xc1,
  extendedData: 0xc2,
} as const;
/** The functional unit duplex (8.3.1.16), and version 2 of the protocol (8.3.1.5). */
const DUPLEX = Uint8Array.of(0, 2);
const VERSION_2 = 2;
/** In front of the data: a give-tokens SPDU without tokens, then the data transfer (8.3.11). */
const DATA_PREFIX = Uint8Array.of(1, 0, 1, 0);

const unit = (code: number, value: Uint8Array): Uint8Array =>
  value.length < 0xff
    ? concat([Uint8Array.of(code, value.length), value])
    : concat([Uint8Array.of(code, 0xff, value.length >> 8, value.length & 0xff), value]);
const optional = (code: number, value: Uint8Array | undefined): Uint8Array =>
  value === undefined ? new Uint8Array() : unit(code, value);

export function encodeSpdu(spdu: Spdu): Uint8Array {
  switch (spdu.type) {
    case 'data':
      return concat([DATA_PREFIX, spdu.data]);
    case 'connect':
    case 'accept':
      return unit(
        SI[spdu.type],
        concat([
          unit(
            PI.connectItem,
            concat([unit(PI.options, Uint8Array.of(0)), unit(PI.version, Uint8Array.of(VERSION_2))]),
          ),
          unit(PI.requirements, DUPLEX),
          optional(PI.calling, spdu.calling),
          optional(PI.called, spdu.called),
          unit(PI.data, spdu.data),
        ]),
      );
    case 'refuse':
      return unit(
        SI.refuse,
        concat([unit(PI.transportDisconnect, Uint8Array.of(1)), unit(PI.reason, Uint8Array.of(spdu.reason ?? 0))]),
      );
    case 'finish':
    case 'disconnect':
      return unit(SI[spdu.type], unit(PI.data, spdu.data));
    case 'abort':
      // Transport is released, by the user (8.3.9).
      return unit(SI.abort, concat([unit(PI.transportDisconnect, Uint8Array.of(3)), unit(PI.data, spdu.data)]));
    case 'abortAccept':
      return unit(SI.abortAccept, new Uint8Array());
    default:
      return spdu satisfies never;
  }
}

interface Unit {
  code: number;
  value: Uint8Array;
}

/** The units that lie one after the other; a string: what is wrong. */
function unitsOf(octets: Uint8Array): Unit[] | string {
  const units: Unit[] = [];
  for (let at = 0; at < octets.length;) {
    const code = octets[at++];
    let length = octets[at++];
    if (length === 0xff) {
      length = (octets[at] << 8) | octets[at + 1];
      at += 2;
    }
    if (length === undefined || Number.isNaN(length) || at + length > octets.length)
      return `a session parameter ${code.toString(16)} that is cut off`;
    units.push({ code, value: octets.subarray(at, at + length) });
    at += length;
  }
  return units;
}

export function decodeSpdu(octets: Uint8Array): Result<Spdu, string> {
  const wrong = (problem: string): Result<Spdu, string> => ({ ok: false, problem });
  if (octets.length < 2) return wrong(`a session message of ${octets.length} octets`);
  if (octets[0] === DATA_PREFIX[0]) {
    if (octets[1] !== 0 || octets[2] !== 1 || octets[3] !== 0) return wrong('a data transfer that is not well-formed');
    return { ok: true, value: { type: 'data', data: octets.subarray(DATA_PREFIX.length) } };
  }
  const outer = unitsOf(octets);
  if (typeof outer === 'string') return wrong(outer);
  const [{ code, value }] = outer;
  const inner = unitsOf(value);
  if (typeof inner === 'string') return wrong(inner);
  const of = (wanted: number): Uint8Array | undefined => inner.find((one) => one.code === wanted)?.value;
  const data = of(PI.data) ?? of(PI.extendedData) ?? new Uint8Array();
  const [calling, called] = [of(PI.calling), of(PI.called)];
  switch (code) {
    case SI.connect:
    case SI.accept: {
      const selectors = { ...(calling ? { calling } : {}), ...(called ? { called } : {}) };
      return { ok: true, value: { type: code === SI.connect ? 'connect' : 'accept', ...selectors, data } };
    }
    case SI.refuse: {
      const reason = of(PI.reason);
      return { ok: true, value: { type: 'refuse', reason: reason?.[0] ?? null, data: reason?.subarray(1) ?? data } };
    }
    case SI.finish:
      return { ok: true, value: { type: 'finish', data } };
    case SI.disconnect:
      return { ok: true, value: { type: 'disconnect', data } };
    case SI.abort:
      return { ok: true, value: { type: 'abort', data } };
    case SI.abortAccept:
      return { ok: true, value: { type: 'abortAccept' } };
    default:
      return wrong(`a session message ${code.toString(16)}, which is not among those agreed on`);
  }
}
