import { concat } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import { encodeBer, parseBer, reading } from '../../mms/wire/ber.ts';
import { dataNode, dataOf, type Data } from '../../mms/wire/data.ts';
import { REASONS, type Reason } from '../report.ts';

/*
 * What is kept of buffers for a restart, as records one after the other; each is a structure of MMS:
 *
 *   begin     1, block, revision, data set, report id, triggers, buffer time, integrity period, number of the last entry
 *   entry     2, block, id, time, sent or not, then place, reasons and value of each member
 *   sent      3, block, id: this entry and all before it have been sent
 *   over      4, block: an entry was lost that had not been sent
 *   members   5, data set, composition, then how each of its members is called
 *
 * Entries themselves are owed: they are stored with the readings that they come from (`entryOctets`). Those of an earlier
 * version stand among the records. A block begins anew when what makes its entries has changed: what was in it before is
 * gone.
 */

export interface KeptEntry {
  id: Uint8Array;
  /** The number that is its id. */
  number: number;
  /** Of the first change in it that is owed by itself. */
  first: number;
  time: Instant;
  isSent: boolean;
  /** `number`: of a change that is owed by itself. */
  places: { place: number; value: Data; reasons: Reason[]; number?: number }[];
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
  /** Id of the last entry that was sent; 0: none was. */
  sent: bigint;
  entries: KeptEntry[];
}

/** What is known of buffers: blocks by their names, and the members of data sets by their names and compositions. */
export interface Kept {
  blocks: Map<string, KeptBlock>;
  members: Map<string, readonly string[]>;
}
export const membersKey = (dataSet: string, composition: number): string => `${dataSet} ${composition}`;

const BEGIN = 1;
const ENTRY = 2;
const SENT = 3;
const OVER = 4;
const MEMBERS = 5;

const text = (value: string): Data => ({ type: 'text', text: value, wide: true });
const number = (value: number | bigint): Data => ({ type: 'integer', value });
const octets = (value: Uint8Array): Data => ({ type: 'octets', octets: value });
const record = (...items: Data[]): Uint8Array => encodeBer(dataNode({ type: 'structure', items }));

export const beginRecord = (block: string, kept: Omit<KeptBlock, 'entries' | 'overflown' | 'sent'>): Uint8Array =>
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
export const membersRecord = (dataSet: string, composition: number, members: readonly string[]): Uint8Array =>
  record(number(MEMBERS), text(dataSet), number(composition), ...members.map(text));

/** An entry as it is owed: places are those of the data set in that composition. */
export const entryOctets = (
  { time, isSent, places }: Pick<KeptEntry, 'time' | 'isSent' | 'places'>,
  composition: number,
): Uint8Array =>
  record(
    number(composition),
    number(Math.round(time)),
    { type: 'boolean', value: isSent },
    ...places.flatMap(({ place, value, reasons }): Data[] => [
      number(place),
      { type: 'bits', bits: REASONS.map((one) => reasons.includes(one)) },
      value,
    ]),
  );

/** Null: it is not well-formed. */
export function entryFrom(owed: {
  number: number;
  octets: Uint8Array;
}): (Omit<KeptEntry, 'id'> & { composition: number }) | null {
  const read = reading(() => dataOf(owed.octets, parseBer(owed.octets, 0)));
  if (!read.ok || read.value.type !== 'structure') return null;
  const [composition, time, isSent, ...rest] = read.value.items;
  if (Number.isNaN(asNumber(composition)) || Number.isNaN(asNumber(time))) return null;
  return {
    ...{ number: owed.number, first: owed.number, composition: asNumber(composition), time: asNumber(time) },
    isSent: isSent?.type === 'boolean' && isSent.value,
    places: placesOf(rest),
  };
}

function placesOf(items: readonly Data[]): KeptEntry['places'] {
  const places: KeptEntry['places'] = [];
  for (let at = 0; at + 2 < items.length; at += 3) {
    const bits = items[at + 1];
    const reasons = bits.type === 'bits' ? REASONS.filter((_, bit) => bits.bits[bit]) : [];
    places.push({ place: asNumber(items[at]), value: items[at + 2], reasons });
  }
  return places;
}

export const sentRecord = (block: string, id: Uint8Array): Uint8Array => record(number(SENT), text(block), octets(id));
export const overRecord = (block: string): Uint8Array => record(number(OVER), text(block));

/** All that is kept of a block beside its entries. */
export const blockRecords = (block: string, kept: KeptBlock): Uint8Array =>
  concat([
    beginRecord(block, kept),
    ...(kept.sent > 0n ? [sentRecord(block, idOf(Number(kept.sent)))] : []),
    ...(kept.overflown ? [overRecord(block)] : []),
  ]);

const ID_OCTETS = 8;
export function idOf(number_: number): Uint8Array {
  const id = new Uint8Array(ID_OCTETS);
  new DataView(id.buffer).setBigUint64(0, BigInt(number_));
  return id;
}

const asNumber = (data: Data | undefined): number => (data?.type === 'integer' ? Number(data.value) : NaN);
const asText = (data: Data | undefined): string => (data?.type === 'text' ? data.text : '');

/** From the pieces that were kept; what is not well-formed ends a piece. */
export function restored(pieces: readonly Uint8Array[]): Kept {
  const kept: Kept = { blocks: new Map(), members: new Map() };
  for (const piece of pieces)
    for (let at = 0; at < piece.length;) {
      const from = at;
      const read = reading(() => {
        const element = parseBer(piece, from);
        return { data: dataOf(piece, element), end: element.end };
      });
      if (!read.ok || read.value.data.type !== 'structure') break;
      at = read.value.end;
      take(kept, read.value.data.items);
    }
  return kept;
}

function take({ blocks, members }: Kept, items: readonly Data[]): void {
  const [kind, name, third, fourth, fifth, sixth, seventh, eighth, ninth] = items;
  const block = blocks.get(asText(name));
  switch (asNumber(kind)) {
    case BEGIN:
      blocks.set(asText(name), {
        ...{ revision: asNumber(third), dataSet: asText(fourth), reportId: asText(fifth) },
        triggers: sixth?.type === 'bits' ? sixth.bits : [],
        ...{ bufferMs: asNumber(seventh), integrityMs: asNumber(eighth) },
        counter: ninth?.type === 'integer' ? BigInt(ninth.value) : 0n,
        ...{ overflown: false, sent: 0n, entries: [] },
      });
      break;
    case ENTRY: {
      if (block === undefined || third?.type !== 'octets') break;
      const id = Number(toNumber(third.octets));
      block.entries.push({
        ...{ id: third.octets, number: id, first: id, time: asNumber(fourth) },
        isSent: fifth?.type === 'boolean' && fifth.value,
        places: placesOf(items.slice(5)),
      });
      break;
    }
    case SENT: {
      if (block === undefined || third?.type !== 'octets') break;
      block.sent = toNumber(third.octets);
      for (const entry of block.entries) if (toNumber(entry.id) <= block.sent) entry.isSent = true;
      break;
    }
    case OVER:
      if (block !== undefined) block.overflown = true;
      break;
    case MEMBERS:
      members.set(membersKey(asText(name), asNumber(third)), items.slice(3).map(asText));
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
