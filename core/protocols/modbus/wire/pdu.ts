import type { Refusal } from '../../control.ts';

/** Protocol data units (Modbus Application Protocol V1.1b3, 4.1): a function code and what belongs to it. */

/** Function codes (6.1 to 6.21). */
export const Function = {
  readCoils: 0x01,
  readDiscreteInputs: 0x02,
  readHoldingRegisters: 0x03,
  readInputRegisters: 0x04,
  writeSingleCoil: 0x05,
  writeSingleRegister: 0x06,
  diagnostics: 0x08,
  writeMultipleCoils: 0x0f,
  writeMultipleRegisters: 0x10,
  maskWriteRegister: 0x16,
  readWriteMultipleRegisters: 0x17,
  encapsulated: 0x2b,
} as const;

/** Set in the function code of an answer: it is an exception. */
export const EXCEPTION = 0x80;
/** No unit is longer (4.1): 253 octets. */
export const MAX_PDU = 253;

/** Most that a request may write (6.11, 6.12, 6.17). */
export const MOST_BITS_WRITTEN = 1968;
export const MOST_REGISTERS_WRITTEN = 123;
export const MOST_REGISTERS_WITH_READ = 121;

/** Exception codes (7); the words are ours. */
export const ExceptionCode = {
  illegalFunction: 0x01,
  illegalAddress: 0x02,
  illegalValue: 0x03,
  deviceFailure: 0x04,
  acknowledge: 0x05,
  busy: 0x06,
  parityError: 0x08,
  noGatewayPath: 0x0a,
  gatewaySilent: 0x0b,
} as const;

const EXCEPTION_WORDS: Record<number, string> = {
  0x01: 'it does not know the function',
  0x02: 'it has no such address',
  0x03: 'it does not take the value',
  0x04: 'it failed while it did that',
  0x05: 'it takes its time over that',
  0x06: 'it is busy',
  0x08: 'its memory has a parity error',
  0x0a: 'the gateway has no way to it',
  0x0b: 'it did not answer the gateway',
};
export const exceptionWords = (code: number): string =>
  `exception ${code.toString(16).toUpperCase().padStart(2, '0')}, ${EXCEPTION_WORDS[code] ?? 'which the specification does not name'}`;

export type ReadFunction = 0x01 | 0x02 | 0x03 | 0x04;
export const isRead = (code: number): code is ReadFunction => code >= 0x01 && code <= 0x04;
export const isWrite = (code: number): boolean => [0x05, 0x06, 0x0f, 0x10, 0x16].includes(code);
export const isBitRead = (code: number): boolean => code === 0x01 || code === 0x02;

export type Request =
  | { code: ReadFunction; address: number; count: number }
  | { code: 0x05; address: number; on: boolean }
  /** `registers`: the octets as they go over the line. */
  | { code: 0x06; address: number; registers: Uint8Array }
  | { code: 0x08; sub: number; data: Uint8Array }
  | { code: 0x0f; address: number; bits: readonly boolean[] }
  | { code: 0x10; address: number; registers: Uint8Array }
  | { code: 0x16; address: number; and: number; or: number }
  | { code: 0x17; address: number; count: number; writeAddress: number; registers: Uint8Array }
  /** Read device identification (6.21): access by a stream from an object on. */
  | { code: 0x2b; access: 1 | 2 | 3 | 4; object: number };

export type Response =
  /** Bits packed as they came, the first in the least significant place; registers, two octets each. */
  | { code: ReadFunction | 0x17; data: Uint8Array }
  | { code: 0x05; address: number; value: number }
  | { code: 0x06; address: number; registers: Uint8Array }
  | { code: 0x08; sub: number; data: Uint8Array }
  | { code: 0x0f | 0x10; address: number; count: number }
  | { code: 0x16; address: number; and: number; or: number }
  | { code: 0x2b; access: number; conformity: number; next: number | null; objects: { id: number; text: string }[] };

export type Answer = { ok: true; response: Response } | { ok: false; exception: number };

const word = (value: number): [number, number] => [(value >> 8) & 0xff, value & 0xff];
const wordAt = (octets: Uint8Array, at: number): number => (octets[at] << 8) | octets[at + 1];
/** MEI type of read device identification. */
const IDENTIFICATION = 0x0e;

export function packBits(bits: readonly boolean[]): Uint8Array {
  const octets = new Uint8Array(Math.ceil(bits.length / 8));
  bits.forEach((on, at) => {
    if (on) octets[at >> 3] |= 1 << (at & 7);
  });
  return octets;
}
export const bitAt = (octets: Uint8Array, at: number): boolean => ((octets[at >> 3] >> (at & 7)) & 1) === 1;

export function encodeRequest(request: Request): Uint8Array {
  const { code } = request;
  switch (code) {
    case 0x01:
    case 0x02:
    case 0x03:
    case 0x04:
      return Uint8Array.of(code, ...word(request.address), ...word(request.count));
    case 0x05:
      return Uint8Array.of(code, ...word(request.address), request.on ? 0xff : 0x00, 0x00);
    case 0x06:
      return Uint8Array.of(code, ...word(request.address), ...request.registers);
    case 0x08:
      return Uint8Array.of(code, ...word(request.sub), ...request.data);
    case 0x0f: {
      const octets = packBits(request.bits);
      return Uint8Array.of(code, ...word(request.address), ...word(request.bits.length), octets.length, ...octets);
    }
    case 0x10: {
      const { address, registers } = request;
      return Uint8Array.of(code, ...word(address), ...word(registers.length / 2), registers.length, ...registers);
    }
    case 0x16:
      return Uint8Array.of(code, ...word(request.address), ...word(request.and), ...word(request.or));
    case 0x17: {
      const { address, count, writeAddress, registers } = request;
      const written = [...word(writeAddress), ...word(registers.length / 2), registers.length, ...registers];
      return Uint8Array.of(code, ...word(address), ...word(count), ...written);
    }
    case 0x2b:
      return Uint8Array.of(code, IDENTIFICATION, request.access, request.object);
    default:
      return code satisfies never;
  }
}

/** Reads a request; a number: the exception that it deserves. Counts and addresses are within the specification's. */
export function decodeRequest(octets: Uint8Array): Request | number {
  const [code] = octets;
  const { illegalFunction, illegalValue, illegalAddress } = ExceptionCode;
  const address = wordAt(octets, 1);
  const count = wordAt(octets, 3);
  switch (code) {
    case 0x01:
    case 0x02:
    case 0x03:
    case 0x04: {
      if (octets.length !== 5) return illegalValue;
      if (count < 1 || count > (isBitRead(code) ? 2000 : 125)) return illegalValue;
      return address + count > 0x1_0000 ? illegalAddress : { code, address, count };
    }
    case 0x05:
      if (octets.length !== 5 || (count !== 0xff00 && count !== 0)) return illegalValue;
      return { code, address, on: count === 0xff00 };
    case 0x06:
      return octets.length === 5 ? { code, address, registers: octets.slice(3, 5) } : illegalValue;
    case 0x08:
      return octets.length >= 3 ? { code, sub: address, data: octets.slice(3) } : illegalValue;
    case 0x0f: {
      const data = octets.subarray(6);
      if (count < 1 || count > MOST_BITS_WRITTEN || octets[5] !== Math.ceil(count / 8) || data.length !== octets[5])
        return illegalValue;
      const bits = Array.from({ length: count }, (_, at) => bitAt(data, at));
      return address + count > 0x1_0000 ? illegalAddress : { code, address, bits };
    }
    case 0x10: {
      const registers = octets.slice(6);
      if (count < 1 || count > MOST_REGISTERS_WRITTEN || octets[5] !== count * 2 || registers.length !== octets[5])
        return illegalValue;
      return address + count > 0x1_0000 ? illegalAddress : { code, address, registers };
    }
    case 0x16:
      return octets.length === 7 ? { code, address, and: count, or: wordAt(octets, 5) } : illegalValue;
    case 0x17: {
      const registers = octets.slice(10);
      const written = wordAt(octets, 7);
      if (octets.length < 10 || count < 1 || count > 125 || written < 1 || written > MOST_REGISTERS_WITH_READ)
        return illegalValue;
      if (octets[9] !== written * 2 || registers.length !== octets[9]) return illegalValue;
      const writeAddress = wordAt(octets, 5);
      if (address + count > 0x1_0000 || writeAddress + written > 0x1_0000) return illegalAddress;
      return { code, address, count, writeAddress, registers };
    }
    case 0x2b: {
      if (octets.length !== 4) return illegalValue;
      if (octets[1] !== IDENTIFICATION) return illegalFunction;
      const access = octets[2];
      if (access < 1 || access > 4) return illegalValue;
      return { code, access: access as 1 | 2 | 3 | 4, object: octets[3] };
    }
    default:
      return illegalFunction;
  }
}

export function encodeResponse(response: Response): Uint8Array {
  const { code } = response;
  switch (code) {
    case 0x01:
    case 0x02:
    case 0x03:
    case 0x04:
    case 0x17:
      return Uint8Array.of(code, response.data.length, ...response.data);
    case 0x05:
      return Uint8Array.of(code, ...word(response.address), ...word(response.value));
    case 0x06:
      return Uint8Array.of(code, ...word(response.address), ...response.registers);
    case 0x08:
      return Uint8Array.of(code, ...word(response.sub), ...response.data);
    case 0x0f:
    case 0x10:
      return Uint8Array.of(code, ...word(response.address), ...word(response.count));
    case 0x16:
      return Uint8Array.of(code, ...word(response.address), ...word(response.and), ...word(response.or));
    case 0x2b: {
      const { access, conformity, next, objects } = response;
      const listed = objects.flatMap(({ id, text }) => {
        const octets = [...text].map((character) => character.charCodeAt(0) & 0x7f);
        return [id, octets.length, ...octets];
      });
      const more = next === null ? [0x00, 0x00] : [0xff, next];
      return Uint8Array.of(code, IDENTIFICATION, access, conformity, ...more, objects.length, ...listed);
    }
    default:
      return code satisfies never;
  }
}

export const encodeException = (code: number, exception: number): Uint8Array =>
  Uint8Array.of((code | EXCEPTION) & 0xff, exception);

/** Reads the answer to a request; in words why it is none. */
export function decodeAnswer(octets: Uint8Array, request: Request): Answer | string {
  const [code] = octets;
  if (code === (request.code | EXCEPTION))
    return octets.length === 2 ? { ok: false, exception: octets[1] } : 'an exception of the wrong length';
  if (code !== request.code) return `an answer to function ${code}, ${request.code} was asked`;
  const good = (response: Response): Answer => ({ ok: true, response });
  switch (request.code) {
    case 0x01:
    case 0x02:
    case 0x03:
    case 0x04:
    case 0x17: {
      const wanted = isBitRead(request.code) ? Math.ceil(request.count / 8) : request.count * 2;
      if (octets[1] !== wanted || octets.length !== wanted + 2)
        return `${octets[1] ?? 0} octets of data in ${octets.length}, ${wanted} were asked`;
      return good({ code: request.code, data: octets.subarray(2) });
    }
    case 0x05: {
      if (octets.length !== 5) return 'the wrong length';
      const value = wordAt(octets, 3);
      if (wordAt(octets, 1) !== request.address || value !== (request.on ? 0xff00 : 0))
        return 'the answer does not repeat what was sent';
      return good({ code: 0x05, address: request.address, value });
    }
    case 0x06:
      if (octets.length !== 5) return 'the wrong length';
      if (wordAt(octets, 1) !== request.address || wordAt(octets, 3) !== wordAt(request.registers, 0))
        return 'the answer does not repeat what was sent';
      return good({ code: 0x06, address: request.address, registers: octets.subarray(3) });
    case 0x08:
      if (octets.length < 3 || wordAt(octets, 1) !== request.sub) return 'another diagnostic';
      return good({ code: 0x08, sub: request.sub, data: octets.subarray(3) });
    case 0x0f:
    case 0x10: {
      if (octets.length !== 5) return 'the wrong length';
      const count = request.code === 0x0f ? request.bits.length : request.registers.length / 2;
      if (wordAt(octets, 1) !== request.address || wordAt(octets, 3) !== count)
        return 'the answer does not repeat what was sent';
      return good({ code: request.code, address: request.address, count });
    }
    case 0x16:
      if (octets.length !== 7) return 'the wrong length';
      if (
        wordAt(octets, 1) !== request.address ||
        wordAt(octets, 3) !== request.and ||
        wordAt(octets, 5) !== request.or
      )
        return 'the answer does not repeat what was sent';
      return good({ code: 0x16, address: request.address, and: request.and, or: request.or });
    case 0x2b:
      return identification(octets);
    default:
      return request satisfies never;
  }
}

/** Objects of an identification, as printable ASCII. What the lengths promise and is not there ends the list. */
function identification(octets: Uint8Array): Answer | string {
  if (octets.length < 7 || octets[1] !== IDENTIFICATION) return 'no identification';
  const objects: { id: number; text: string }[] = [];
  let at = 7;
  for (let n = 0; n < octets[6] && at + 2 <= octets.length; n++) {
    const [id, length] = [octets[at], octets[at + 1]];
    const own = octets.subarray(at + 2, at + 2 + length);
    const text = [...own].map((octet) => (octet >= 32 && octet < 127 ? String.fromCharCode(octet) : '?')).join('');
    objects.push({ id, text });
    at += 2 + length;
  }
  const next = octets[4] === 0xff ? octets[5] : null;
  return { ok: true, response: { code: 0x2b, access: octets[2], conformity: octets[3], next, objects } };
}

/** What an exception means to whoever speaks another protocol; and the exception for what another protocol means. */
export function refusalOf(exception: number): Refusal {
  switch (exception) {
    case ExceptionCode.illegalFunction:
    case ExceptionCode.illegalAddress:
      return 'notSupported';
    case ExceptionCode.illegalValue:
      return 'outOfRange';
    case ExceptionCode.busy:
    case ExceptionCode.acknowledge:
      return 'busy';
    case ExceptionCode.noGatewayPath:
    case ExceptionCode.gatewaySilent:
      return 'lost';
    default:
      return 'other';
  }
}
export const EXCEPTION_OF: Readonly<Record<Refusal, number>> = {
  local: ExceptionCode.deviceFailure,
  interlocked: ExceptionCode.deviceFailure,
  notSelected: ExceptionCode.deviceFailure,
  busy: ExceptionCode.busy,
  already: ExceptionCode.deviceFailure,
  cancelled: ExceptionCode.deviceFailure,
  notSupported: ExceptionCode.illegalAddress,
  outOfRange: ExceptionCode.illegalValue,
  notAuthorized: ExceptionCode.illegalFunction,
  lost: ExceptionCode.gatewaySilent,
  other: ExceptionCode.deviceFailure,
};
