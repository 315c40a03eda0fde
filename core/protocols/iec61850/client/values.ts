import { measuredNumber, Quality, type PointKind } from '../../../point/index.ts';
import type { AccessResult, Data } from '../../mms/wire/data.ts';
import { decodeStamp, type Stamp } from '../time.ts';

/** A value in a point's terms; `quality`: what its own octets say of it. */
export interface RawValue {
  raw: number;
  text?: string;
  quality: number;
}

const MOVING = 0;
const ON = 2;
const BAD = 3;

/** Positions of two bits as numbers (IEC 61850-7-3, 6.1: 0 intermediate, 1 off, 2 on, 3 bad state). */
const twoBits = ([first, second]: readonly boolean[]): number => (first ? 2 : 0) + (second ? 1 : 0);

const stateOf = ({ raw, quality }: RawValue): RawValue => ({ raw: raw === 0 ? 0 : 1, quality });

/** What a point of that kind makes of a value; null: it is none that it can have. */
export function rawOf(kind: PointKind, data: Data): RawValue | null {
  const states = kind === 'binary' || kind === 'output';
  switch (data.type) {
    case 'boolean':
      return { raw: data.value ? (kind === 'doubleBit' ? ON : 1) : kind === 'doubleBit' ? 1 : 0, quality: 0 };
    case 'bits': {
      if (data.bits.length === 2) {
        const position = twoBits(data.bits);
        if (!states) return { raw: position, quality: 0 };
        // Of one bit there is no state between: the last one that it had would be as wrong.
        const between = position === MOVING || position === BAD;
        return { raw: position === ON ? 1 : 0, quality: between ? Quality.inconsistent : 0 };
      }
      return kind === 'text' ? { raw: 0, text: data.bits.map((bit) => (bit ? '1' : '0')).join(''), quality: 0 } : null;
    }
    case 'integer':
    case 'unsigned': {
      const raw = Number(data.value);
      if (states) return { raw: raw === 0 ? 0 : 1, quality: 0 };
      const exact = typeof data.value === 'bigint' && !Number.isSafeInteger(raw);
      return { raw, ...(exact || kind === 'text' ? { text: String(data.value) } : {}), quality: 0 };
    }
    case 'float':
      if (kind === 'text') return { raw: 0, text: String(data.value), quality: 0 };
      return states ? stateOf(measuredNumber(data.value)) : measuredNumber(data.value);
    case 'text':
      return kind === 'text' ? { raw: 0, text: octetsOf(data.text), quality: 0 } : null;
    case 'octets':
      return kind === 'text' ? { raw: 0, text: String.fromCharCode(...data.octets), quality: 0 } : null;
    case 'array':
    case 'structure':
    case 'binaryTime':
    case 'utcTime':
    case 'name':
      return null;
    default:
      return data satisfies never;
  }
}

/** Texts are kept as octets, a character each. */
const octetsOf = (text: string): string => {
  const octets = new TextEncoder().encode(text);
  return octets.length === text.length ? text : Array.from(octets, (octet) => String.fromCharCode(octet)).join('');
};

/** A part of a value, by the steps that lead to it. */
export function partOf(result: AccessResult | undefined, steps: readonly number[]): AccessResult | null {
  let data: AccessResult | undefined = result;
  for (const step of steps) {
    if (data === undefined || data.type === 'failure') return data ?? null;
    if (data.type !== 'structure' && data.type !== 'array') return null;
    data = data.items[step];
  }
  return data ?? null;
}

/** A time stamp that says something: at the epoch a device has none yet. */
export function stampOf(data: AccessResult | null): Stamp | null {
  if (data?.type !== 'utcTime') return null;
  const stamp = decodeStamp(data.octets);
  return stamp.ok && stamp.value.time >= MS_OF_A_DAY ? stamp.value : null;
}
const MS_OF_A_DAY = 86_400_000;
