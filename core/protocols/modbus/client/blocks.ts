import type { PointKind } from '../../../point/index.ts';
import { isBitTable, TABLE_WORDS, TABLES, widthOf, type ModbusAt, type Table } from '../points.ts';
import { GROUPS, type ClientSettings, type Group } from '../settings.ts';
import { FRAME_OVERHEAD, OCTET_WIDTH, type FramingName } from '../wire/frame.ts';
import type { ReadFunction } from '../wire/pdu.ts';

/*
 * Which requests bring all points of a device.
 *
 * Rules:
 *  1. A point is read whole, by one request; points of one named block by one and the same, whatever stands between.
 *  2. A request reads one table, and no more than the device takes.
 *  3. Where there is no line, the fewest requests; on a line, the least time: registers that nobody asked for are read
 *     along where they take less time than another request does. Never where the device is said to refuse them.
 */

/** A point as requests see it. */
export interface ReadPoint {
  id: number;
  kind: PointKind;
  at: ModbusAt;
}

/** What one request reads. */
export interface Block {
  group: Group;
  table: Table;
  start: number;
  count: number;
  /** Their registers or bits lie within. */
  points: readonly ReadPoint[];
  /** Nothing of it may be read alone. */
  isWhole: boolean;
}

export const READ_FUNCTION: Record<Table, ReadFunction> = {
  coils: 0x01,
  discreteInputs: 0x02,
  holdingRegisters: 0x03,
  inputRegisters: 0x04,
};

/** Registers, or bits, that belong together. */
interface Piece {
  start: number;
  end: number;
  points: ReadPoint[];
  isWhole: boolean;
}

/** What requests cost: of each, and of each register or bit, in milliseconds or anything else. */
export interface Cost {
  request: number;
  unit: number;
}

/** Between an answer and the next request nothing is said: what devices and this machine need, milliseconds. */
const TURNAROUND_MS = 5;

/** What requests of a table cost on a link. */
export function costOf(table: Table, framing: FramingName, octetMs: number): Cost {
  const width = OCTET_WIDTH[framing];
  // Request: function, address, count; answer: function, number of octets.
  const octets = 2 * FRAME_OVERHEAD[framing] + (5 + 2) * width;
  // Where octets take no time the fewest requests are best, and of those the shortest.
  if (octetMs === 0) return { request: 1, unit: 1e-6 };
  return { request: octets * octetMs + TURNAROUND_MS, unit: (isBitTable(table) ? 1 / 8 : 2) * width * octetMs };
}

export function planBlocks(
  points: readonly ReadPoint[],
  settings: Pick<ClientSettings, 'maxBits' | 'maxRegisters' | 'bridgesGaps'>,
  framing: FramingName,
  octetMs: number,
): Block[] {
  return GROUPS.flatMap((group) =>
    TABLES.flatMap((table) => {
      const own = points.filter(({ at }) => at.group === group && at.table === table);
      const most = isBitTable(table) ? settings.maxBits : settings.maxRegisters;
      const pieces = piecesOf(own);
      const cost = costOf(table, framing, octetMs);
      return cut(pieces, most, settings.bridgesGaps, cost).map((part): Block => {
        const start = part[0].start;
        const count = Math.max(...part.map(({ end }) => end)) - start;
        const [first] = part;
        return {
          ...{ group, table, start, count },
          points: part.flatMap((piece) => piece.points),
          isWhole: part.length === 1 && first.isWhole,
        };
      });
    }),
  );
}

/** Points of one block are one piece, and so are points of the same registers. In the order of their first register. */
function piecesOf(points: readonly ReadPoint[]): Piece[] {
  const byName = new Map<string, Piece>();
  for (const point of points) {
    const { address, block } = point.at;
    const [start, end] = [address, address + widthOf(point.at)];
    const name = block === '' ? `${start} ${end}` : `block ${block}`;
    const known = byName.get(name);
    if (known === undefined) byName.set(name, { start, end, points: [point], isWhole: block !== '' });
    else {
      known.start = Math.min(known.start, start);
      known.end = Math.max(known.end, end);
      known.points.push(point);
    }
  }
  return [...byName.values()].sort((a, b) => a.start - b.start || a.end - b.end);
}

/**
 * Cuts pieces, in their order, into requests at the least cost: the best way for the first few is known before the
 * next one comes.
 */
function cut(pieces: readonly Piece[], most: number, bridges: boolean, { request, unit }: Cost): Piece[][] {
  /** The best way for the first so many pieces, and where its last request begins. */
  const best: { cost: number; from: number }[] = [{ cost: 0, from: 0 }];
  for (let to = 1; to <= pieces.length; to++) {
    let found = { cost: Infinity, from: to - 1 };
    let end = pieces[to - 1].end;
    for (let from = to - 1; from >= 0; from--) {
      const { start } = pieces[from];
      end = Math.max(end, pieces[from].end);
      // A piece that is longer than a request may be goes by itself: the device says what it thinks of it.
      if (end - start > most && from < to - 1) {
        if (pieces[to - 1].start - start > most) break;
        continue;
      }
      if (!bridges && from < to - 1 && !touches(pieces, from, to)) break;
      const cost = best[from].cost + request + (end - start) * unit;
      if (cost < found.cost) found = { cost, from };
    }
    best.push(found);
  }
  const requests: Piece[][] = [];
  for (let to = pieces.length; to > 0; to = best[to].from) requests.unshift(pieces.slice(best[to].from, to));
  return requests;
}

/** Whether the piece leaves no gap to those after it. */
function touches(pieces: readonly Piece[], from: number, to: number): boolean {
  let end = pieces[from].end;
  for (let at = from + 1; at < to; at++) {
    if (pieces[at].start > end) return false;
    end = Math.max(end, pieces[at].end);
  }
  return true;
}

/** The same in two requests; null: it cannot be cut. */
export function halved(block: Block): Block[] | null {
  if (block.isWhole) return null;
  const pieces = piecesOf(block.points);
  if (pieces.length < 2) return null;
  const middle = Math.ceil(pieces.length / 2);
  return [pieces.slice(0, middle), pieces.slice(middle)].map((part) => {
    const { start } = part[0];
    return {
      ...block,
      start,
      count: Math.max(...part.map(({ end }) => end)) - start,
      points: part.flatMap(({ points }) => points),
      isWhole: part.length === 1 && part[0].isWhole,
    };
  });
}

/** The same without what nobody asked for; null: there is nothing of that in it. */
export function withoutGaps(block: Block): Block[] | null {
  const parts = cut(piecesOf(block.points), block.count, false, { request: 1, unit: 1e-6 });
  if (parts.length < 2) return null;
  return parts.map((part) => ({
    ...block,
    start: part[0].start,
    count: Math.max(...part.map(({ end }) => end)) - part[0].start,
    points: part.flatMap(({ points }) => points),
    isWhole: part.length === 1 && part[0].isWhole,
  }));
}

/** `holding registers 100 to 224`. */
export function blockWords({ table, start, count }: Block): string {
  const { one } = TABLE_WORDS[table];
  return count === 1 ? `${one} ${start}` : `${one}s ${start} to ${start + count - 1}`;
}

/** What a round of a plan takes. */
export interface PlanNumbers {
  requests: number;
  /** On the line, both ways. */
  octets: number;
  lineMs: number;
}

export function planNumbers(blocks: readonly Block[], framing: FramingName, octetMs: number): PlanNumbers {
  const width = OCTET_WIDTH[framing];
  const octets = blocks.reduce((sum, { table, count }) => {
    const data = isBitTable(table) ? Math.ceil(count / 8) : count * 2;
    return sum + 2 * FRAME_OVERHEAD[framing] + (5 + 2 + data) * width;
  }, 0);
  return { requests: blocks.length, octets, lineMs: octets * octetMs };
}
