import { measuredNumber, Quality } from '../../../point/index.ts';
import type { Carrying, MarkedFrame, Measured } from '../../measured.ts';
import { isBitTable, placeWords, TABLE_WORDS, widthOf, type Table } from '../points.ts';
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
export function readingsOf(block: Block, data: Uint8Array, before?: Uint8Array): RegisterReading[] {
  const { table, start, points } = block;
  const read: RegisterReading[] = [];
  if (before === undefined) for (const point of points) read.push(readingAt(point, table, start, data));
  else for (const point of changedIn(block, data, before)) read.push(readingAt(point, table, start, data));
  return read;
}

function readingAt(point: ReadPoint, table: Table, start: number, data: Uint8Array): RegisterReading {
  const offset = point.at.address - start;
  if (isBitTable(table)) {
    const on = bitAt(data, offset);
    return reading(point, { value: on ? 1 : 0 }, offset >> 3, 1, offset & 7);
  }
  const at = offset * 2;
  const { bit, type, order } = point.at;
  if (bit !== null) {
    const on = (((data[at] << 8) | data[at + 1]) >> bit) & 1;
    // The octet of the register that has it.
    return reading(point, { value: on }, bit > 7 ? at : at + 1, 1, bit & 7);
  }
  const octets = widthOf(point.at) * 2;
  return reading(point, readValue(data.subarray(at, at + octets), type, order), at, octets, null);
}

/** Which points lie in each register of a block, by its place in it. */
const LIE_IN = new WeakMap<Block, ReadPoint[][]>();

function lieIn(block: Block): ReadPoint[][] {
  const known = LIE_IN.get(block);
  if (known !== undefined) return known;
  const made: ReadPoint[][] = Array.from({ length: block.count }, () => []);
  for (const point of block.points)
    for (let n = 0; n < widthOf(point.at); n++) made[point.at.address - block.start + n]?.push(point);
  LIE_IN.set(block, made);
  return made;
}

/** Points in whose octets something has changed. Registers are compared, not points: most of them stay. */
function changedIn(block: Block, data: Uint8Array, before: Uint8Array): Iterable<ReadPoint> {
  const { table, start, count, points } = block;
  if (isBitTable(table))
    return points.filter(({ at }) => bitAt(data, at.address - start) !== bitAt(before, at.address - start));
  const there = lieIn(block);
  const changed = new Set<ReadPoint>();
  for (let n = 0; n < count; n++)
    if (data[2 * n] !== before[2 * n] || data[2 * n + 1] !== before[2 * n + 1])
      for (const point of there[n]) changed.add(point);
  return changed;
}

function reading(
  point: ReadPoint,
  { value, text }: Value,
  at: number,
  octets: number,
  bit: number | null,
): RegisterReading {
  const { id, kind } = point;
  const states = kind === 'binary' || kind === 'output';
  const odd = Number.isFinite(value) ? null : measuredNumber(value);
  const raw = odd === null ? value : odd.raw;
  return {
    id,
    kind,
    // A register that stands for a state is on when it is not 0.
    raw: kind === 'text' ? 0 : states ? (raw === 0 ? 0 : 1) : raw,
    ...(text === undefined || (kind !== 'text' && point.at.type === 'time32') ? {} : { text }),
    quality: odd === null ? Quality.good : odd.quality,
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
    return placeWords(at);
  }
}
