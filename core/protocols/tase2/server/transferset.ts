import type { Instant } from '../../../session/index.ts';
import { AccessError, type AccessResult, type Data } from '../../mms/wire/data.ts';
import { MOST_WAITING, type CriticalChanges, type WaitingChange } from './critical.ts';
import { nameWords, type ObjectName } from '../../mms/wire/names.ts';
import {
  ATTRIBUTES,
  CONDITIONS,
  conditionsOf,
  nameOf,
  wantedData,
  type Condition,
  type TransferSetValues,
} from '../transfer.ts';

/*
 * One data set transfer set of our server (IEC 60870-6-503, 7.1; from memory).
 *
 * set       what happens                                     becomes    and then
 * --------  -----------------------------------------------  ---------  ------------------------------------------------
 * free      its name is given to who asks for the next one   reserved   for `RESERVED_MS`, then free again
 * any       its attributes are written with Status           enabled    a report of everything, where it wants any
 * enabled   an object of its data set changes                           after its buffer time a report of what changed;
 *                                                                       all of it, without report by exception
 * enabled   its interval, or its integrity period, is over              a report of everything
 * enabled   somebody here wants that, and it asked for it       a report of everything
 * enabled   Status is written false, its client goes         free
 *
 * Rules:
 *  1. With “all changes” each change of an object is reported by itself, in their order; without, its last one.
 *  2. A critical report is repeated each time limit until it is acknowledged, with the values and times that it had, and no
 *     other goes out before that.
 *  3. What a critical set by exception has to tell is owed until its report is acknowledged, and waits for the next set of
 *     that data set when the peer goes (`CriticalChanges`). The peer that disables it wants none of it.
 *  4. Blocked transfers are refused where they are not allowed: what cannot be done is not promised.
 */

const RESERVED_MS = 60_000;
/** Of a critical report without a limit of its own, seconds. */
const USUAL_LIMIT = 30;
/** One that was refused goes out again so soon. */
const AGAIN_MS = 1000;

export interface SetContext {
  /** Names of a data set's members, in their order; null: there is none. */
  members: (dataSet: ObjectName, peer: number) => readonly string[] | null;
  send: (set: TransferSet, report: TransferReport) => void;
  /** The values of all members of a data set as they are now, by their names. */
  values: (dataSet: ObjectName, peer: number) => ReadonlyMap<string, AccessResult>;
  /** Whether reports may be packed. */
  packs: boolean;
  /** What critical sets owe. */
  critical: CriticalChanges;
}

export interface TransferReport {
  peer: number;
  dataSet: ObjectName;
  conditions: readonly Condition[];
  /** Names with their values; null: all of them are told. */
  changed: ReadonlyMap<string, AccessResult> | null;
  /** Where all are told: as they were when it was made; null: as they are now. */
  all: ReadonlyMap<string, AccessResult> | null;
  byException: boolean;
  /** Numbers of changes in it that are owed. */
  owed: readonly number[];
  /** Packed into one octet string. */
  packed: boolean;
  /** When it was made, seconds since 1970. */
  seconds: number;
  /** What it asked to be told for. */
  eventCode: number;
}

export interface TransferSetState {
  wanted: TransferSetValues;
  /** Whose it is; null: nobody's. */
  peer: number | null;
  state: 'free' | 'enabled' | 'waits for its acknowledgement';
  reports: number;
  lastAt: Instant | null;
  /** How often a critical report went out once more. */
  repeats: number;
}

const OFF: TransferSetValues = {
  ...{ dataSet: { scope: 'vmd', item: '' }, start: 0, interval: 0, limit: 0, buffer: 0, integrity: 0, conditions: [] },
  ...{ blocked: false, critical: false, byException: false, all: false, enabled: false, eventCode: 0 },
};

export class TransferSet {
  private wanted: TransferSetValues = OFF;
  private peer: number | null = null;
  private reservedUntil: Instant = -Infinity;
  private members: ReadonlySet<string> = new Set();
  private waiting: WaitingChange[] = [];
  /** What it has to tell is owed, as that of this data set. */
  private owesAs: string | null = null;
  private flushAt: Instant = Infinity;
  private intervalAt: Instant = Infinity;
  private integrityAt: Instant = Infinity;
  /** A critical report that is not acknowledged. */
  private unanswered: TransferReport | null = null;
  private repeatAt: Instant = Infinity;
  /** Reports of everything that wait for that. */
  private due: Condition[] = [];
  private reports = 0;
  private repeats = 0;
  private lastAt: Instant | null = null;

  constructor(
    readonly name: ObjectName & { scope: 'domain' },
    private readonly context: SetContext,
  ) {}

  get isEnabled(): boolean {
    return this.wanted.enabled;
  }
  get dataSet(): ObjectName {
    return this.wanted.dataSet;
  }
  get value(): Data {
    return wantedData(this.wanted);
  }
  get deadline(): Instant {
    if (this.unanswered !== null) return Math.min(this.repeatAt, this.intervalAt, this.integrityAt);
    return Math.min(this.flushAt, this.intervalAt, this.integrityAt);
  }
  get pending(): number {
    return this.waiting.length;
  }
  /** A critical report has gone out that is not acknowledged. */
  get awaits(): boolean {
    return this.unanswered !== null;
  }
  /** Nothing new goes out. */
  rest(): void {
    [this.flushAt, this.intervalAt, this.integrityAt] = [Infinity, Infinity, Infinity];
    this.isResting = true;
  }
  private isResting = false;

  isFree(now: Instant): boolean {
    return !this.wanted.enabled && now >= this.reservedUntil;
  }
  reserve(peer: number, now: Instant): void {
    this.peer = peer;
    this.reservedUntil = now + RESERVED_MS;
  }

  left(peer: number): void {
    if (this.peer !== peer) return;
    if (this.owesAs !== null) this.context.critical.giveBack(this.owesAs, [...this.unacknowledged, ...this.waiting]);
    this.owesAs = null;
    this.disable();
    this.peer = null;
    this.reservedUntil = -Infinity;
  }

  /** What a report that is not acknowledged told. */
  private get unacknowledged(): WaitingChange[] {
    const { changed = null, owed = [] } = this.unanswered ?? {};
    return [...(changed ?? [])].flatMap(([name, value], at) =>
      value.type === 'failure' ? [] : [{ name, value, number: owed[at] ?? null }],
    );
  }

  private disable(): void {
    if (this.owesAs !== null) this.context.critical.end(this.owesAs);
    this.owesAs = null;
    this.wanted = { ...this.wanted, enabled: false };
    this.waiting = [];
    [this.flushAt, this.intervalAt, this.integrityAt] = [Infinity, Infinity, Infinity];
    [this.unanswered, this.repeatAt, this.due] = [null, Infinity, []];
  }

  /** With the access error; null: written. `attribute` null: all of them at once. */
  write(attribute: string | null, data: Data, peer: number, now: Instant): number | null {
    if (this.peer !== null && this.peer !== peer && !this.isFree(now)) return AccessError.denied;
    const present = this.value;
    if (present.type !== 'structure') return AccessError.typeInconsistent;
    let items = [...present.items];
    if (attribute === null) {
      if (data.type !== 'structure' || data.items.length !== items.length) return AccessError.typeInconsistent;
      items = [...data.items];
    } else {
      const at = ATTRIBUTES.indexOf(attribute);
      if (at < 0) return AccessError.nonExistent;
      items[at] = data;
    }
    const read = wantedOf(items);
    if (typeof read === 'number') return read;
    // What an enabled one does is changed by disabling it first.
    if (this.wanted.enabled && read.enabled) return AccessError.temporarilyUnavailable;
    if (!read.enabled) {
      this.disable();
      this.wanted = read;
      return null;
    }
    return this.enable(read, peer, now);
  }

  private enable(wanted: TransferSetValues, peer: number, now: Instant): number | null {
    if (wanted.blocked && !this.context.packs) return AccessError.accessUnsupported;
    const members = this.context.members(wanted.dataSet, peer);
    if (members === null) return AccessError.undefined;
    if (wanted.conditions.length === 0) return AccessError.valueInvalid;
    this.wanted = wanted;
    this.peer = peer;
    [this.reports, this.repeats, this.lastAt] = [0, 0, null];
    this.members = new Set(members);
    this.owesAs = null;
    if (wanted.critical && wanted.byException && wanted.conditions.includes('object change')) {
      const name = nameWords(wanted.dataSet);
      const waited = this.context.critical.take(name, members, wanted.all);
      if (waited === null) return this.refuse();
      this.owesAs = name;
      this.waiting = [...waited];
      if (waited.length > 0) this.flushAt = now;
    }
    const from = Math.max(now, wanted.start * 1000);
    const has = (condition: Condition): boolean => wanted.conditions.includes(condition);
    this.intervalAt = has('interval time-out') && wanted.interval > 0 ? from + wanted.interval * 1000 : Infinity;
    // The first report says how everything stands.
    this.integrityAt = has('integrity time-out') ? from : Infinity;
    return null;
  }

  /** Not now: what is owed is not known yet, or another set tells it. */
  private refuse(): number {
    this.wanted = { ...this.wanted, enabled: false };
    return AccessError.temporarilyUnavailable;
  }

  /** Everything is to be reported, for a reason that it asked for. Returns whether it did. */
  request(condition: Condition, now: Instant): boolean {
    if (!this.wanted.enabled || !this.wanted.conditions.includes(condition)) return false;
    this.whole(condition, now);
    return true;
  }

  /** How it stands, for those who look. */
  get standing(): TransferSetState {
    const { wanted, peer, reports, lastAt, repeats } = this;
    const state = !wanted.enabled ? 'free' : this.unanswered === null ? 'enabled' : 'waits for its acknowledgement';
    return { wanted, peer: wanted.enabled ? peer : null, state, reports, lastAt, repeats };
  }

  /** An object has changed; `name`: as data sets name it. */
  changed(name: string, value: Data, now: Instant): void {
    const { wanted } = this;
    if (!wanted.enabled || !wanted.conditions.includes('object change') || !this.members.has(name)) return;
    if (now < wanted.start * 1000) return;
    const known =
      wanted.all && this.waiting.length < MOST_WAITING ? -1 : this.waiting.findIndex((one) => one.name === name);
    const change =
      this.owesAs === null ? { name, value, number: null } : this.context.critical.owe(this.owesAs, name, value, now);
    const [gone] = known < 0 ? [] : this.waiting.splice(known, 1);
    this.waiting.push(change);
    if (this.owesAs !== null && gone?.number != null) this.context.critical.settle(this.owesAs, [gone.number]);
    this.flushAt = Math.min(this.flushAt, now + wanted.buffer * 1000);
  }

  wake(now: Instant): void {
    if (this.unanswered !== null && now >= this.repeatAt) {
      this.repeats++;
      this.tell(this.unanswered, now);
    }
    if (now >= this.flushAt) this.flush(now);
    if (now >= this.intervalAt) {
      this.intervalAt = now + this.wanted.interval * 1000;
      this.whole('interval time-out', now);
    }
    if (now >= this.integrityAt) {
      this.integrityAt = this.wanted.integrity > 0 ? now + this.wanted.integrity * 1000 : Infinity;
      this.whole('integrity time-out', now);
    }
  }

  private flush(now: Instant): void {
    if (this.unanswered !== null || this.isResting) return;
    this.flushAt = Infinity;
    if (!this.wanted.byException) {
      const any = this.waiting.length > 0;
      this.waiting = [];
      if (any) this.whole('object change', now);
      return;
    }
    // Each object once in a report: a second change of one begins the next.
    while (this.waiting.length > 0 && this.unanswered === null) {
      const changed = new Map<string, AccessResult>();
      const owed: number[] = [];
      for (const { name, value, number } of this.waiting) {
        if (changed.has(name)) break;
        changed.set(name, value);
        if (number !== null) owed.push(number);
      }
      this.waiting.splice(0, changed.size);
      this.send(['object change'], changed, now, owed);
    }
    if (this.waiting.length > 0) this.flushAt = now;
  }

  private whole(condition: Condition, now: Instant): void {
    if (this.unanswered === null) this.send([condition], null, now);
    else if (!this.due.includes(condition)) this.due.push(condition);
  }

  private send(
    conditions: readonly Condition[],
    changed: TransferReport['changed'],
    now: Instant,
    owed: readonly number[] = [],
  ): void {
    if (this.peer === null || this.isResting) return;
    const { dataSet, byException, critical, eventCode, blocked } = this.wanted;
    const seconds = Math.floor(now / 1000);
    const report = {
      ...{ peer: this.peer, dataSet, conditions, changed, byException, packed: blocked, owed },
      ...{ seconds, eventCode },
      // What is repeated is what was told.
      all: critical && changed === null ? this.context.values(dataSet, this.peer) : null,
    };
    if (critical) this.unanswered = report;
    this.tell(report, now);
  }

  private tell(report: TransferReport, now: Instant): void {
    this.reports++;
    this.lastAt = now;
    if (this.unanswered !== null) this.repeatAt = now + (this.wanted.limit || USUAL_LIMIT) * 1000;
    this.context.send(this, report);
  }

  /** The client has the critical report of that time. */
  acknowledged(peer: number, seconds: number, now: Instant): void {
    if (this.peer !== peer || this.unanswered === null || this.unanswered.seconds !== seconds) return;
    const { owed } = this.unanswered;
    [this.unanswered, this.repeatAt] = [null, Infinity];
    if (this.owesAs !== null) this.context.critical.settle(this.owesAs, owed);
    const { due } = this;
    this.due = [];
    for (const condition of due) this.whole(condition, now);
    if (now >= this.flushAt) this.flush(now);
  }

  /** The client has it and cannot do anything with it: once more, soon. */
  refused(peer: number, seconds: number, now: Instant): void {
    if (this.peer !== peer || this.unanswered?.seconds !== seconds) return;
    this.repeatAt = Math.min(this.repeatAt, now + AGAIN_MS);
  }

  get words(): string {
    return nameWords(this.name);
  }
}

/** What was written; an access error where it is none. */
function wantedOf(items: readonly Data[]): TransferSetValues | number {
  const [name, start, interval, limit, buffer, integrity, conditions, ...rest] = items;
  const dataSet = nameOf(name);
  const numbers = [start, interval, limit, buffer, integrity].map((one) =>
    one.type === 'integer' || one.type === 'unsigned' ? Number(one.value) : NaN,
  );
  const code = rest.at(5);
  const eventCode = code?.type === 'integer' || code?.type === 'unsigned' ? Number(code.value) : 0;
  const flags = rest.slice(0, 5).map((one) => (one.type === 'boolean' ? one.value : null));
  if (numbers.some(Number.isNaN) || flags.includes(null) || conditions.type !== 'bits')
    return AccessError.typeInconsistent;
  if (numbers.some((one) => one < 0) || conditions.bits.length < CONDITIONS.length) return AccessError.valueInvalid;
  const [blocked, critical, byException, all, enabled] = flags.map((one) => one ?? false);
  if (enabled && dataSet === null) return AccessError.valueInvalid;
  return {
    ...{ dataSet: dataSet ?? OFF.dataSet, conditions: conditionsOf(conditions) },
    ...{ start: numbers[0], interval: numbers[1], limit: numbers[2], buffer: numbers[3], integrity: numbers[4] },
    ...{ blocked, critical, byException, all, enabled, eventCode },
  };
}
