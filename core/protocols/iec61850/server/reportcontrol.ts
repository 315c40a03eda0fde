import type { Instant } from '../../../session/index.ts';
import { AccessError, type Data, type TypeOf } from '../../mms/wire/data.ts';
import { isOwn, shownSet } from './datasets.ts';
import { OPTION, OPTION_BITS, type Reason, type Report } from '../report.ts';
import { encodeEntryTime } from '../time.ts';
import { settledPart, type SettledPart } from '../../owed.ts';
import {
  beginRecord,
  entryOctets,
  idOf,
  overRecord,
  sentRecord,
  toNumber,
  type KeptBlock,
  type KeptEntry,
} from './kept.ts';

/*
 * One report control block of our server (IEC 61850-7-2, clause 17; its attributes after IEC 61850-8-1, 17.1).
 *
 * block      what happens                                   becomes    and then
 * ---------  ---------------------------------------------  ---------  ---------------------------------------------
 * free       `Resv`, `ResvTms` or `RptEna` is written       reserved   nobody else may write to it
 * reserved   `RptEna` true                                  enabled    what waits in the buffer goes out, in order
 * enabled    a change                                       enabled    after `BufTm` an entry is made and sent
 * enabled    `RptEna` false, or its client goes             reserved   a buffered one stays so for `ResvTms`
 * reserved   its time is over, or `Resv` false              free
 *
 * Rules:
 *  1. A buffered block makes entries whether it is enabled or not, from the first time on that a client had it; an
 *     unbuffered one only while it is enabled.
 *  2. A second change of a member within `BufTm` makes an entry of what there is, and begins another (17.2.2.9).
 *  3. When the buffer is full its oldest entry goes. Was it not sent, the next report says that there was an overflow.
 *  4. `EntryID` is written before it is enabled: reports go on behind that entry; zeros: from the oldest. An id that is
 *     not there is refused, and reports begin with the oldest (17.2.2.13).
 *  5. While it is enabled nothing of it may be written but `RptEna`, `GI` and `PurgeBuf`. A change of what makes entries
 *     empties the buffer.
 *  6. What is in a buffer is owed: each entry, or where `BufTm` gathers changes each of them by itself, so that there is
 *     no moment at which a reading is stored and its change is not. Ids are the numbers of what is owed. After a restart
 *     changes that were gathered stand in an entry each; whoever has the entry that they were in goes on behind it.
 *  7. A block of another composition of its data set goes on with what waits, by what its members are called.
 */

const TRIGGER_BITS = 6;
const TRIGGER = { dataChange: 1, qualityChange: 2, dataUpdate: 3, integrity: 4, interrogation: 5 } as const;
const OF_TRIGGER: Record<keyof typeof TRIGGER, Reason> = {
  dataChange: 'data change',
  qualityChange: 'quality change',
  dataUpdate: 'data update',
  integrity: 'integrity',
  interrogation: 'general interrogation',
};
const ENTRY_OCTETS = 8;
/** More often all values are not reported. */
const LEAST_INTEGRITY_MS = 100;

const text = (size: number): TypeOf => ({ type: 'text', size });
const unsigned = (bits: number): TypeOf => ({ type: 'unsigned', bits });
const BOOLEAN: TypeOf = { type: 'boolean' };
const COMMON: [string, TypeOf][] = [
  ['DatSet', text(-129)],
  ['ConfRev', unsigned(32)],
  ['OptFlds', { type: 'bits', size: -OPTION_BITS }],
  ['BufTm', unsigned(32)],
];
const BUFFERED: [string, TypeOf][] = [
  ['RptID', text(-129)],
  ['RptEna', BOOLEAN],
  ...COMMON,
  ['SqNum', unsigned(16)],
  ['TrgOps', { type: 'bits', size: -TRIGGER_BITS }],
  ['IntgPd', unsigned(32)],
  ['GI', BOOLEAN],
  ['PurgeBuf', BOOLEAN],
  ['EntryID', { type: 'octets', size: ENTRY_OCTETS }],
  ['TimeofEntry', { type: 'binaryTime', days: true }],
  ['ResvTms', { type: 'integer', bits: 16 }],
  ['Owner', { type: 'octets', size: -64 }],
];
const UNBUFFERED: [string, TypeOf][] = [
  ['RptID', text(-129)],
  ['RptEna', BOOLEAN],
  ['Resv', BOOLEAN],
  ...COMMON,
  ['SqNum', unsigned(8)],
  ['TrgOps', { type: 'bits', size: -TRIGGER_BITS }],
  ['IntgPd', unsigned(32)],
  ['GI', BOOLEAN],
  ['Owner', { type: 'octets', size: -64 }],
];
export const blockType = (isBuffered: boolean): TypeOf => ({
  type: 'structure',
  components: (isBuffered ? BUFFERED : UNBUFFERED).map(([name, of]) => ({ name, of })),
});

export interface BlockSettings {
  device: string;
  /** Of MMS: `LLN0$BR$brcbStatus01`. */
  item: string;
  isBuffered: boolean;
  reportId: string;
  /** As MMS has it: `HLM/LLN0$status`; empty: none. */
  dataSet: string;
  revision: number;
  /** Values that its entries have at most, all together. */
  values: number;
  /** As it is until a client writes something else; absent: 0. */
  bufferMs?: number;
  integrityMs?: number;
}

/** What a block needs to know of the model. */
export interface BlockContext {
  /** Members of a data set; null: there is none of that name. */
  sizeOf: (dataSet: string) => number | null;
  /** The present value of a member. */
  value: (dataSet: string, place: number) => Data;
  /** How a member is called. */
  reference: (dataSet: string, place: number) => string;
  /** To be remembered for a restart. */
  keep: (octets: Uint8Array) => void;
  /** The number of what is owed next. */
  number: (now: Instant) => number;
  /** That is owed from now on; places are those of the data set as it is. */
  owe: (number: number, octets: Uint8Array) => void;
  settle: (part: SettledPart) => void;
  /** What tells the composition of a data set from another one. */
  composition: (dataSet: string) => number;
  /** Sends a report of a data set to a client. */
  send: (peer: number, report: Report, dataSet: string) => void;
  /** Which data set a client calls so in its association; null: it has none of that name. */
  ownSet: (peer: number, name: string) => string | null;
}

export type Entry = KeptEntry;

/** `number`: under which it is owed by itself. */
type Pending = Map<number, { value: Data; change: number; reasons: Set<Reason>; number?: number }>;

const bitsOf = (data: Data, count: number): boolean[] | null =>
  data.type === 'bits' && data.bits.length <= count + 6
    ? Array.from({ length: count }, (_, at) => data.bits[at] ?? false)
    : null;
const wholeOf = (data: Data, most: number): number | null => {
  if (data.type !== 'unsigned' && data.type !== 'integer') return null;
  const value = Number(data.value);
  return value >= -1 && value <= most ? value : null;
};

export class ReportControl {
  private enabled = false;
  /** A client has had it: from then on a buffered one makes entries for it. */
  private isUsed = false;
  private owner: { peer: number | null; name: string } | null = null;
  private reservedUntil: Instant = Infinity;
  private reserveS = 0;
  private options: boolean[] = new Array<boolean>(OPTION_BITS).fill(false);
  private triggers: boolean[] = [false, true, true, false, true, true];
  private bufferMs = 0;
  private integrityMs = 0;
  private sequence = 0;
  private reportId: string;
  private dataSet: string;
  private revision: number;
  private pending: Pending = new Map();
  private flushAt: Instant = Infinity;
  private integrityAt: Instant = Infinity;
  private entries: Entry[] = [];
  /** Values of all entries. */
  private values = 0;
  /** The first entry that is to be sent next. */
  private next = 0;
  private overflown = false;
  /** All values were asked for. */
  private isInterrogated = false;
  /** The last entry that was made. */
  private lastId = 0;
  /** The last entry that went out. */
  private sent = 0;
  /** What an earlier session had is still to come: its entries by their numbers, and behind which of them is gone on. */
  private filling: { entries: Map<number, Entry> } | null = null;

  constructor(
    readonly settings: BlockSettings,
    private readonly context: BlockContext,
  ) {
    this.reportId = settings.reportId;
    this.dataSet = settings.dataSet;
    this.revision = settings.revision;
    this.bufferMs = settings.bufferMs ?? 0;
    this.integrityMs = settings.integrityMs ?? 0;
  }

  get ofDataSet(): string {
    return this.dataSet;
  }
  /** Entries that nobody has had. */
  get waiting(): number {
    return this.settings.isBuffered ? this.entries.length - this.next : 0;
  }
  get deadline(): Instant {
    const release = this.owner !== null && this.owner.peer === null ? this.reservedUntil : Infinity;
    return Math.min(this.flushAt, this.enabled ? this.integrityAt : Infinity, release);
  }

  // ---- attributes

  read(attribute: string): Data | null {
    switch (attribute) {
      case 'RptID':
        return { type: 'text', text: this.reportId, wide: false };
      case 'RptEna':
        return { type: 'boolean', value: this.enabled };
      case 'Resv':
        return this.settings.isBuffered ? null : { type: 'boolean', value: this.owner !== null };
      case 'DatSet':
        return { type: 'text', text: shownSet(this.dataSet), wide: false };
      case 'ConfRev':
        return { type: 'unsigned', value: this.revision };
      case 'OptFlds':
        return { type: 'bits', bits: this.options };
      case 'BufTm':
        return { type: 'unsigned', value: this.bufferMs };
      case 'SqNum':
        return { type: 'unsigned', value: this.sequence };
      case 'TrgOps':
        return { type: 'bits', bits: this.triggers };
      case 'IntgPd':
        return { type: 'unsigned', value: this.integrityMs };
      case 'GI':
      case 'PurgeBuf':
        return attribute === 'PurgeBuf' && !this.settings.isBuffered ? null : { type: 'boolean', value: false };
      case 'EntryID':
        return { type: 'octets', octets: this.entries.at(-1)?.id ?? new Uint8Array(ENTRY_OCTETS) };
      case 'TimeofEntry':
        return { type: 'binaryTime', octets: encodeEntryTime(this.entries.at(-1)?.time ?? 0) };
      case 'ResvTms':
        return { type: 'integer', value: this.reserveS };
      case 'Owner':
        return { type: 'octets', octets: new TextEncoder().encode(this.owner?.name ?? '') };
      default:
        return null;
    }
  }

  /** The whole block, in the order of its type. */
  get value(): Data {
    const of = this.settings.isBuffered ? BUFFERED : UNBUFFERED;
    return { type: 'structure', items: of.map(([name]) => this.read(name) ?? { type: 'boolean', value: false }) };
  }

  /** Returns the access error; null: written. `name`: by which its owner is known again. */
  write(attribute: string, data: Data, peer: number, name: string, now: Instant): number | null {
    if (this.owner !== null && this.owner.peer !== peer) {
      if (this.owner.peer !== null || this.owner.name !== name) return AccessError.temporarilyUnavailable;
      // Whoever it was reserved for is back.
      this.owner.peer = peer;
    }
    if (attribute === 'RptEna') return this.enable(data, peer, name, now);
    if (attribute === 'GI') return this.interrogate(data, peer, now);
    if (attribute === 'PurgeBuf' && this.settings.isBuffered) {
      if (data.type !== 'boolean') return AccessError.typeInconsistent;
      if (data.value) this.purge();
      return null;
    }
    if (this.enabled) return AccessError.temporarilyUnavailable;
    return this.configure(attribute, data, peer, name);
  }

  private configure(attribute: string, data: Data, peer: number, name: string): number | null {
    const { isBuffered } = this.settings;
    /** What makes entries has changed: those that there are go. */
    const changed = (): null => {
      this.purge();
      return null;
    };
    switch (attribute) {
      case 'Resv':
        if (isBuffered || data.type !== 'boolean') return AccessError.typeInconsistent;
        this.owner = data.value ? { peer, name } : null;
        return null;
      case 'ResvTms': {
        const seconds = wholeOf(data, 32_767);
        if (!isBuffered || seconds === null) return AccessError.typeInconsistent;
        if (seconds < 0) return AccessError.valueInvalid;
        this.reserveS = seconds;
        this.owner = seconds > 0 ? { peer, name } : null;
        this.reservedUntil = Infinity;
        return null;
      }
      case 'RptID':
        if (data.type !== 'text') return AccessError.typeInconsistent;
        if (data.text.length > 129) return AccessError.valueInvalid;
        if (data.text === this.reportId) return null;
        this.reportId = data.text === '' ? this.settings.reportId : data.text;
        return changed();
      case 'DatSet':
        if (data.type !== 'text') return AccessError.typeInconsistent;
        return this.setDataSet(data.text, peer, changed);
      case 'OptFlds': {
        const bits = bitsOf(data, OPTION_BITS);
        if (bits === null) return AccessError.typeInconsistent;
        this.options = bits;
        return null;
      }
      case 'TrgOps': {
        const bits = bitsOf(data, TRIGGER_BITS);
        if (bits === null) return AccessError.typeInconsistent;
        if (bits.every((bit, at) => bit === this.triggers[at])) return null;
        this.triggers = bits;
        return changed();
      }
      case 'BufTm':
      case 'IntgPd': {
        const value = wholeOf(data, 0xffff_ffff);
        if (value === null) return AccessError.typeInconsistent;
        const key = attribute === 'BufTm' ? 'bufferMs' : 'integrityMs';
        if (key === 'integrityMs' && value > 0 && value < LEAST_INTEGRITY_MS) return AccessError.valueInvalid;
        if (this[key] === Math.max(0, value)) return null;
        this[key] = Math.max(0, value);
        return changed();
      }
      case 'EntryID':
        if (!isBuffered || data.type !== 'octets' || data.octets.length !== ENTRY_OCTETS)
          return AccessError.typeInconsistent;
        if (this.filling !== null) return AccessError.temporarilyUnavailable;
        return this.goBehind(data.octets);
      case 'SqNum':
      case 'ConfRev':
      case 'TimeofEntry':
      case 'Owner':
        return AccessError.denied;
      default:
        return AccessError.nonExistent;
    }
  }

  /** What goes with an association cannot be buffered for when its client is away. */
  private setDataSet(name: string, peer: number, changed: () => null): number | null {
    if (isOwn(name) && this.settings.isBuffered) return AccessError.valueInvalid;
    const dataSet = isOwn(name) ? this.context.ownSet(peer, name.slice(1)) : name;
    if (dataSet === null || (dataSet !== '' && this.context.sizeOf(dataSet) === null)) return AccessError.nonExistent;
    if (dataSet === this.dataSet) return null;
    this.dataSet = dataSet;
    this.revision++;
    return changed();
  }

  /** What came behind that id: an entry that is there no more in that grouping may have been one before a restart. */
  private goBehind(id: Uint8Array): number | null {
    if (id.every((octet) => octet === 0)) {
      this.next = 0;
      return null;
    }
    const number = Number(toNumber(id));
    const [oldest] = this.entries;
    const isThere = oldest !== undefined && number >= oldest.first && number <= this.lastId;
    const behind = this.entries.findIndex((entry) => entry.number > number);
    this.next = !isThere ? 0 : behind < 0 ? this.entries.length : behind;
    return isThere ? null : AccessError.valueInvalid;
  }

  private enable(data: Data, peer: number, name: string, now: Instant): number | null {
    if (data.type !== 'boolean') return AccessError.typeInconsistent;
    if (!data.value) {
      this.disable();
      if (this.reserveS === 0 && this.settings.isBuffered) this.owner = null;
      return null;
    }
    if (this.enabled || this.filling !== null) return AccessError.temporarilyUnavailable;
    if (this.context.sizeOf(this.dataSet) === null) return AccessError.valueInvalid;
    this.owner = { peer, name };
    this.enabled = true;
    if (!this.isUsed) {
      this.isUsed = true;
      this.remember(() => beginRecord(this.key, this.head));
    }
    this.sequence = 0;
    this.integrityAt = this.isTriggered('integrity') && this.integrityMs > 0 ? now + this.integrityMs : Infinity;
    if (!this.settings.isBuffered) this.pending.clear();
    // What waits goes out behind the answer.
    this.flushAt = Math.min(this.flushAt, now);
    return null;
  }

  private disable(): void {
    this.enabled = false;
    this.isInterrogated = false;
    this.integrityAt = Infinity;
    if (this.settings.isBuffered) return;
    this.pending.clear();
    this.flushAt = Infinity;
  }

  private interrogate(data: Data, peer: number, now: Instant): number | null {
    if (data.type !== 'boolean') return AccessError.typeInconsistent;
    if (!this.enabled || this.owner?.peer !== peer) return AccessError.temporarilyUnavailable;
    if (!data.value) return null;
    if (!this.isTriggered('interrogation')) return AccessError.valueInvalid;
    this.isInterrogated = true;
    this.flushAt = now;
    return null;
  }

  /** Its client has gone. */
  left(peer: number, now: Instant): void {
    if (this.owner?.peer !== peer) return;
    this.disable();
    // Its own data set has gone with it.
    if (isOwn(this.dataSet)) [this.dataSet, this.revision] = [this.settings.dataSet, this.settings.revision];
    if (this.settings.isBuffered && this.reserveS > 0) {
      this.owner.peer = null;
      this.reservedUntil = now + this.reserveS * 1000;
    } else this.owner = null;
  }

  // ---- what is reported

  private isTriggered(trigger: keyof typeof TRIGGER): boolean {
    return this.triggers[TRIGGER[trigger]] ?? false;
  }

  /** Whether a change of that sort becomes an entry. */
  takes(trigger: 'dataChange' | 'qualityChange' | 'dataUpdate'): boolean {
    return this.isTriggered(trigger) && (this.enabled || (this.settings.isBuffered && this.isUsed));
  }

  /**
   * A member of its data set has changed, for that reason; `value`: all of the member as it is now, `change`: the number of
   * the change, by which its quality belongs to its value.
   */
  changed(
    place: number,
    value: Data,
    trigger: 'dataChange' | 'qualityChange' | 'dataUpdate',
    change: number,
    now: Instant,
  ): void {
    const reason = OF_TRIGGER[trigger];
    const before = this.pending.get(place);
    // Another change of it, though it be at the same moment: devices hand over what they kept in one piece.
    if (before !== undefined && before.change !== change) this.flush(now);
    const again = this.pending.get(place) ?? { value, change, reasons: new Set<Reason>() };
    this.pending.set(place, again);
    again.value = value;
    again.reasons.add(reason);
    if (this.flushAt === Infinity) this.flushAt = now + this.bufferMs;
    if (!this.settings.isBuffered || this.bufferMs === 0) return;
    // What is gathered is stored with its reading, not when it becomes an entry.
    again.number ??= this.context.number(now);
    const places = [{ place, value, reasons: [...again.reasons] }];
    this.context.owe(again.number, entryOctets({ time: now, isSent: false, places }, this.composition));
  }

  wake(now: Instant): void {
    if (now >= this.flushAt) {
      this.flush(now);
      this.sendWaiting();
      if (this.isInterrogated) this.whole('interrogation', now);
      this.isInterrogated = false;
    }
    if (this.enabled && now >= this.integrityAt) {
      this.integrityAt = now + this.integrityMs;
      this.whole('integrity', now);
    }
    if (this.owner !== null && this.owner.peer === null && now >= this.reservedUntil) {
      this.owner = null;
      this.reserveS = 0;
      this.reservedUntil = Infinity;
    }
  }

  private flush(now: Instant): void {
    this.flushAt = Infinity;
    if (this.pending.size === 0) return;
    const places = [...this.pending].map(([place, { change: _, reasons, ...rest }]) => ({
      ...{ place, reasons: [...reasons], ...rest },
    }));
    this.pending = new Map();
    this.enter(places, now);
  }

  /** All members, for that reason; what changed before goes in front. */
  private whole(trigger: 'integrity' | 'interrogation', now: Instant): void {
    this.flush(now);
    const size = this.context.sizeOf(this.dataSet) ?? 0;
    const reasons = [OF_TRIGGER[trigger]];
    const places = Array.from({ length: size }, (_, place) => ({
      ...{ place, value: this.context.value(this.dataSet, place), reasons },
    }));
    if (places.length > 0) this.enter(places, now);
  }

  private enter(places: Entry['places'], now: Instant): void {
    if (!this.settings.isBuffered) {
      this.sendEntry({ id: idOf(0), number: 0, first: 0, time: now, places, isSent: false });
      return;
    }
    const numbers = places.flatMap(({ number: one }) => one ?? []);
    const isOwed = numbers.length === places.length;
    const number = isOwed ? Math.max(...numbers) : this.context.number(now);
    const first = isOwed ? Math.min(...numbers) : number;
    const entry: Entry = { id: idOf(number), number, first, time: now, places, isSent: this.enabled };
    this.lastId = Math.max(this.lastId, number);
    if (!isOwed) this.context.owe(number, entryOctets(entry, this.composition));
    this.entries.push(entry);
    this.values += entry.places.length;
    if (this.filling !== null) return;
    this.makeRoom();
    this.sendWaiting();
    // What was gathered is owed as not sent.
    if (isOwed && this.enabled) this.remember(() => sentRecord(this.key, entry.id));
  }

  private get composition(): number {
    return this.context.composition(this.dataSet);
  }

  /** The oldest entries go until the rest fits; the newest stays, however large. */
  private makeRoom(): void {
    let gone = 0;
    const before = this.overflown;
    for (; this.values > this.settings.values && gone < this.entries.length - 1; gone++) {
      const oldest = this.entries[gone];
      this.values -= oldest.places.length;
      if (!oldest.isSent) this.overflown = true;
    }
    if (gone === 0) return;
    if (this.overflown && !before) this.remember(() => overRecord(this.key));
    this.entries.splice(0, gone);
    this.next = Math.max(0, this.next - gone);
    this.settle();
  }

  private settle(): void {
    let oldest = this.entries[0]?.first ?? Infinity;
    for (const { number = Infinity } of this.pending.values()) oldest = Math.min(oldest, number);
    this.context.settle(settledPart(oldest === Infinity ? null : oldest, this.lastId, []));
  }

  private sendWaiting(): void {
    if (!this.enabled) return;
    const backlog = this.entries.slice(this.next).filter(({ isSent }) => !isSent);
    for (; this.next < this.entries.length; this.next++) this.sendEntry(this.entries[this.next]);
    const last = backlog.at(-1);
    if (last) this.remember(() => sentRecord(this.key, last.id));
  }

  private sendEntry(entry: Entry): void {
    const { owner, dataSet } = this;
    if (owner?.peer == null) return;
    const has = (option: keyof typeof OPTION): boolean => this.options[OPTION[option]] ?? false;
    const { isBuffered } = this.settings;
    entry.isSent = true;
    this.sent = Math.max(this.sent, entry.number);
    const report: Report = {
      id: this.reportId,
      sequence: has('sequence') ? this.sequence : null,
      time: has('time') ? encodeEntryTime(entry.time) : null,
      dataSet: has('dataSet') ? shownSet(dataSet) : null,
      overflow: isBuffered && has('overflow') ? this.overflown : null,
      entry: isBuffered && has('entry') ? entry.id : null,
      revision: has('revision') ? this.revision : null,
      segment: null,
      size: this.context.sizeOf(dataSet) ?? 0,
      members: entry.places.map(({ place, value, reasons }) => ({
        place,
        value,
        reference: has('references') ? this.context.reference(dataSet, place) : null,
        reasons: has('reasons') ? reasons : [],
      })),
    };
    this.overflown = false;
    this.sequence = (this.sequence + 1) % (isBuffered ? 0x1_0000 : 0x100);
    this.context.send(owner.peer, report, dataSet);
  }

  /** Everything that waits goes. */
  private purge(): void {
    [this.entries, this.next, this.overflown, this.values] = [[], 0, false, 0];
    this.pending = new Map();
    this.flushAt = Infinity;
    if (this.lastId > 0) this.settle();
    this.remember(() => beginRecord(this.key, this.head));
  }

  // ---- what survives a restart

  private get key(): string {
    return `${this.settings.device}/${this.settings.item}`;
  }

  private remember(octets: () => Uint8Array): void {
    if (this.settings.isBuffered && this.isUsed) this.context.keep(octets());
  }

  private get head(): Omit<KeptBlock, 'entries' | 'overflown' | 'sent'> {
    const { revision, dataSet, reportId, triggers, bufferMs, integrityMs } = this;
    return { revision, dataSet, reportId, triggers, bufferMs, integrityMs, counter: BigInt(this.lastId) };
  }

  /** Without its entries, which are owed; null: there is nothing. */
  get kept(): KeptBlock | null {
    if (!this.settings.isBuffered || !this.isUsed) return null;
    return { ...this.head, overflown: this.overflown, sent: BigInt(this.sent), entries: [] };
  }

  /** What it owes, for a session that goes on in its place. */
  get owed(): { number: number; octets: Uint8Array }[] {
    if (!this.settings.isBuffered) return [];
    this.flush(this.entries.at(-1)?.time ?? 0);
    return this.entries.flatMap((entry) => {
      const { number, places, isSent } = entry;
      if (places.some((one) => one.number === undefined))
        return [{ number, octets: entryOctets(entry, this.composition) }];
      return places.map((one) => ({
        number: one.number ?? number,
        octets: entryOctets({ time: entry.time, isSent, places: [one] }, this.composition),
      }));
    });
  }

  /**
   * What it was before a restart, or as a block of another composition of the data set. `owes`: entries are still to
   * come; until then nobody can have it.
   */
  restore(kept: KeptBlock, owes: boolean): void {
    const { settings } = this;
    if (!settings.isBuffered || kept.dataSet !== settings.dataSet) return;
    this.isUsed = true;
    [this.overflown, this.triggers, this.reportId] = [kept.overflown, [...kept.triggers], kept.reportId];
    [this.bufferMs, this.integrityMs] = [kept.bufferMs, kept.integrityMs];
    [this.lastId, this.sent] = [Math.max(this.lastId, Number(kept.counter)), Number(kept.sent)];
    if (owes) this.filling = { entries: new Map() };
  }

  /** Entries that it had; what it knows already is not taken twice. */
  fill(entries: readonly Entry[], last: boolean): void {
    const filling = (this.filling ??= { entries: new Map() });
    for (const entry of entries)
      filling.entries.set(entry.number, { ...entry, isSent: entry.isSent || entry.number <= this.sent });
    if (!last) return;
    this.filling = null;
    for (const entry of this.entries) filling.entries.set(entry.number, entry);
    this.entries = [...filling.entries.values()].sort((a, b) => a.number - b.number);
    this.values = this.entries.reduce((sum, { places }) => sum + places.length, 0);
    this.lastId = Math.max(this.lastId, this.entries.at(-1)?.number ?? 0);
    const waiting = this.entries.findIndex(({ isSent }) => !isSent);
    this.next = waiting < 0 ? this.entries.length : waiting;
    this.makeRoom();
  }

  /** Goes on in the place of another block, whose members stand at other places now; null: at none. */
  takeOver(before: ReportControl, placeOf: (place: number) => number | null): void {
    const { kept } = before;
    if (kept === null) return;
    this.restore({ ...kept, dataSet: this.settings.dataSet }, false);
    before.flush(before.entries.at(-1)?.time ?? 0);
    this.fill(movedEntries(before.entries, placeOf), before.filling === null);
    if (before.filling !== null) this.fill(movedEntries([...before.filling.entries.values()], placeOf), false);
  }
}

/** Entries whose members stand at other places now; those of which nothing is left are gone. */
export const movedEntries = (entries: readonly Entry[], placeOf: (place: number) => number | null): Entry[] =>
  entries.flatMap((entry) => {
    const places = entry.places.flatMap((one) => {
      const place = placeOf(one.place);
      return place === null ? [] : [{ ...one, place }];
    });
    return places.length === 0 ? [] : [{ ...entry, places }];
  });
