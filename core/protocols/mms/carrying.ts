import type { Carrying, MarkedFrame, Measured } from '../measured.ts';
import { accessErrorWords, type AccessResult, type Data } from './wire/data.ts';
import { placeOf } from './wire/place.ts';

/** A value as it came, with where its octets are: in which message, behind which steps. */
export interface MmsReading extends Measured {
  data: AccessResult;
  from: { message: Uint8Array; steps: readonly number[] } | null;
}

/** A message with readings, for their trail. */
export class CarryingMessage<Reading extends MmsReading> implements Carrying<Reading> {
  constructor(
    private readonly inWords: () => string,
    /** What the peer says of a reading's quality, and how its point is called. */
    private readonly about: { said: (reading: Reading) => string | null; address: (reading: Reading) => string },
  ) {}

  words(): string {
    return this.inWords();
  }

  form({ data }: Reading): string {
    if (data.type === 'failure') return accessErrorWords(data.code);
    return data.type === 'float'
      ? `float ${data.width}`
      : data.type === 'bits'
        ? `${data.bits.length} bits`
        : FORMS[data.type];
  }

  said(reading: Reading): string | null {
    return this.about.said(reading);
  }

  frames({ from }: Reading): MarkedFrame[] {
    if (from === null) return [];
    const place = placeOf(from.message, from.steps);
    const marked = place === null ? [] : Array.from({ length: place.end - place.at }, (_, n) => place.at + n);
    return [{ octets: from.message, marked, bit: null }];
  }

  address(reading: Reading): string {
    return this.about.address(reading);
  }
}

const FORMS: Record<Data['type'], string> = {
  array: 'array',
  structure: 'structure',
  boolean: 'boolean',
  bits: 'bits',
  integer: 'integer',
  unsigned: 'unsigned',
  float: 'float',
  octets: 'octets',
  text: 'text',
  binaryTime: 'time',
  utcTime: 'time',
  name: 'name',
};
