import { Quality } from '../../../point/index.ts';
import type { Carrying, MarkedFrame, Measured } from '../../measured.ts';
import { isBitTable, TABLE_WORDS, widthOf, type Table } from '../points.ts';
import { readValue, type Value } from '../values.ts';
import { describeFrame } from '../describe.ts';
import { bitAt } from '../wire/pdu.ts';
import type { WireEvent } from '../wire/frame.ts';
import type { Block, ReadPoint } from './blocks.ts';

/** A value as it stood in an answer. */
export interface RegisterReading extends Measured {
  point: ReadPoint;
  /** First octet of it in the data, and how many. */
  at: number;
  octets: number;
  bit: number | null;
}

/** The values of a block's points; `data` is what its answer brought. With `before`: those alone that differ from it. */
export function readingsOf({ table, start, points }: Block, data: Uint8Array, before?: Uint8Array): RegisterReading[] {
  const changed = before === undefined ? points : points.filter((point) => differs(point, table, start, data, before));
  return changed.map((point) => {
    const offset = point.at.address - start;
    if (isBitTable(table)) {
      const on = bitAt(data, offset);
      return reading(point, { value: on ? 1 : 0, isBad: false }, offset >> 3, 1, offset & 7);
    }
    const at = offset * 2;
    const { bit, type, order } = point.at;
    if (bit !== null) {
      const on = (((data[at] << 8) | data[at + 1]) >> bit) & 1;
      // The octet of the register that has it.
      return reading(point, { value: on, isBad: false }, bit > 7 ? at : at + 1, 1, bit & 7);
    }
    const octets = widthOf(point.at) * 2;
    return reading(point, readValue(data.subarray(at, at + octets), type, order), at, octets, null);
  });
}

/** Whether the octets that a point lies in have changed. */
function differs({ at }: ReadPoint, table: Table, start: number, data: Uint8Array, before: Uint8Array): boolean {
  const offset = at.address - start;
  if (isBitTable(table)) return bitAt(data, offset) !== bitAt(before, offset);
  for (let n = offset * 2; n < (offset + widthOf(at)) * 2; n++) if (data[n] !== before[n]) return true;
  return false;
}

function reading(
  point: ReadPoint,
  { value, text, isBad }: Value,
  at: number,
  octets: number,
  bit: number | null,
): RegisterReading {
  const { id, kind } = point;
  const states = kind === 'binary' || kind === 'output';
  return {
    id,
    kind,
    // A register that stands for a state is on when it is not 0.
    raw: kind === 'text' ? 0 : states ? (value === 0 ? 0 : 1) : value,
    ...(text === undefined || (kind !== 'text' && point.at.type === 'time32') ? {} : { text }),
    quality: isBad ? Quality.referenceError : Quality.good,
    time: null,
    timeSource: 'receipt',
    event: false,
    ...{ point, at, octets, bit },
  };
}

/** An answer with readings, for their trail. */
export class CarryingAnswer implements Carrying<RegisterReading> {
  constructor(
    private readonly frame: WireEvent & { type: 'frame' },
    private readonly block: Block,
  ) {}

  words(): string {
    const { one } = TABLE_WORDS[this.block.table];
    const last = this.block.start + this.block.count - 1;
    return `${describeFrame(this.frame.unit, this.frame.pdu)}: ${one}s ${this.block.start} to ${last}`;
  }

  form({ point: { at } }: RegisterReading): string {
    if (isBitTable(at.table)) return TABLE_WORDS[at.table].one;
    return at.bit === null ? `${at.type} ${at.order}` : `bit ${at.bit} of a register`;
  }

  /** A register says nothing of its quality. */
  said(): null {
    return null;
  }

  frames({ at, octets, bit }: RegisterReading): MarkedFrame[] {
    const { octets: frame, at: begins, width } = this.frame;
    // Function and number of octets stand before the data.
    const first = begins + (2 + at) * width;
    const marked = Array.from({ length: octets * width }, (_, n) => first + n);
    return [{ octets: frame, marked, bit }];
  }

  address({ point: { at } }: RegisterReading): string {
    return `${TABLE_WORDS[at.table].short} ${at.address}${at.bit === null ? '' : `.${at.bit}`}`;
  }
}
