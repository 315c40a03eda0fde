import { concat } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import { encodeBer, parseBer, reading } from '../../mms/wire/ber.ts';
import { dataNode, dataOf, type Data } from '../../mms/wire/data.ts';
import { REASONS, type Reason } from '../report.ts';

/*
 * What is kept of buffers for a restart, as records one after the other; each is a structure of MMS:
 *
 *   begin   1, block, revision, data set, report id, triggers, buffer time, integrity period, number of the last entry
 *   entry   2, block, id, time, sent or not, then place, reasons and value of each member
 *   sent    3, block, id: this entry and all before it have been sent
 *   over    4, block: an entry was lost that had not been sent
 *
 * A block begins anew when what makes its entries has changed: what was in it before is gone.
 */

export interface KeptEntry {
  id: Uint8Array;
  time: Instant;
  isSent: boolean;
  places: { place: number; value: Data; reasons: Reason[] }[];
}

export interface KeptBlock {
  revision: number;
  dataSet: string;
  reportId: string;
  triggers: readonly boolean[];
  bufferMs: number;
  integrityMs: number;
  counter: bigint;
  overflown: boolean;
  entries: KeptEntry[];
}

const BEGIN = 1;
const ENTRY = 2;
const SENT = 3;
const OVER = 4;

const text = (value: string): Data => ({ type: 'text', text: value, wide: true });
const number = (value: number | bigint): Data => ({ type: 'integer', value });
const octets = (value: Uint8Array): Data => ({ type: 'octets', octets: value });
const record = (...items: Data[]): Uint8Array => encodeBer(dataNode({ type: 'structure', items }));

export const beginRecord = (block: string, kept: Omit<KeptBlock, 'entries' | 'overflown'>): Uint8Array =>
  record(
    number(BEGIN),
    text(block),
    number(kept.revision),
    text(kept.dataSet),
    text(kept.reportId),
    { type: 'bits', bits: kept.triggers },
    number(kept.bufferMs),
    number(kept.integrityMs),
    number(kept.counter),
  );
export const entryRecord = (block: string, { id, time, isSent, places }: KeptEntry): Uint8Array =>
  record(
    number(ENTRY),
    text(block),
    octets(id),
    number(Math.round(time)),
    { type: 'boolean', value: isSent },
    ...places.flatMap(({ place, value, reasons }): Data[] => [
      number(place),
      { type: 'bits', bits: REASONS.map((one) => reasons.includes(one)) },
      value,
    ]),
  );
export const sentRecord = (block: string, id: Uint8Array): Uint8Array => record(number(SENT), text(block), octets(id));
export const overRecord = (block: string): Uint8Array => record(number(OVER), text(block));

/** All that is kept of a block. */
export const blockRecords = (block: string, kept: KeptBlock): Uint8Array =>
  concat([
    beginRecord(block, kept),
    ...kept.entries.map((entry) => entryRecord(block, entry)),
    ...(kept.overflown ? [overRecord(block)] : []),
  ]);

const asNumber = (data: Data | undefined): number => (data?.type === 'integer' ? Number(data.value) : NaN);
const asText = (data: Data | undefined): string => (data?.type === 'text' ? data.text : '');

/** Blocks by their names, from the pieces that were kept; what is not well-formed ends a piece. */
export function restored(pieces: readonly Uint8Array[]): Map<string, KeptBlock> {
  const blocks = new Map<string, KeptBlock>();
  for (const piece of pieces)
    for (let at = 0; at < piece.length;) {
      const from = at;
      const read = reading(() => {
        const element = parseBer(piece, from);
        return { data: dataOf(piece, element), end: element.end };
      });
      if (!read.ok || read.value.data.type !== 'structure') break;
      at = read.value.end;
      take(blocks, read.value.data.items);
    }
  return blocks;
}

function take(blocks: Map<string, KeptBlock>, items: readonly Data[]): void {
  const [kind, name, third, fourth, fifth, sixth, seventh, eighth, ninth] = items;
  const block = blocks.get(asText(name));
  switch (asNumber(kind)) {
    case BEGIN:
      blocks.set(asText(name), {
        ...{ revision: asNumber(third), dataSet: asText(fourth), reportId: asText(fifth) },
        triggers: sixth?.type === 'bits' ? sixth.bits : [],
        ...{ bufferMs: asNumber(seventh), integrityMs: asNumber(eighth) },
        counter: ninth?.type === 'integer' ? BigInt(ninth.value) : 0n,
        ...{ overflown: false, entries: [] },
      });
      break;
    case ENTRY: {
      if (block === undefined || third?.type !== 'octets') break;
      const entry: KeptEntry = {
        ...{ id: third.octets, time: asNumber(fourth) },
        isSent: fifth?.type === 'boolean' && fifth.value,
        places: [],
      };
      for (let at = 5; at + 2 < items.length; at += 3) {
        const bits = items[at + 1];
        const reasons = bits.type === 'bits' ? REASONS.filter((_, bit) => bits.bits[bit]) : [];
        entry.places.push({ place: asNumber(items[at]), value: items[at + 2], reasons });
      }
      block.entries.push(entry);
      break;
    }
    case SENT: {
      if (block === undefined || third?.type !== 'octets') break;
      const last = toNumber(third.octets);
      for (const entry of block.entries) if (toNumber(entry.id) <= last) entry.isSent = true;
      break;
    }
    case OVER:
      if (block !== undefined) block.overflown = true;
      break;
    default:
  }
}

/** The number of an entry: its id counts. */
export const toNumber = (id: Uint8Array): bigint => {
  let number_ = 0n;
  for (const octet of id) number_ = (number_ << 8n) | BigInt(octet);
  return number_;
};
