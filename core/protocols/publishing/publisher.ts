import { exceedsDeadband, hasStates, qualityWords, validity, type PointKind } from '../../point/index.ts';
import type { Instant } from '../../session/index.ts';
import { Counters } from '../counterset.ts';
import type { At, Placed } from '../definition.ts';
import { EventNumbers, settledPart } from '../owed.ts';
import type {
  OwedRecord,
  Remembered,
  Server,
  ServerCommand,
  ServerEffect,
  ServerPoint,
  ServerSide,
  ServerUpdate,
  UpdateManner,
} from '../server.ts';
import type { Message, Packet, Packing, PublishingTerms, ToldValue } from './form.ts';
import { decodeValue, encodeValue, type WaitingValue } from './record.ts';

/*
 * The session of a destination that asks for nothing: what changes is written down, gathered into packets, and carried
 * there, one packet at a time, in order.
 *
 *   gathering ──full, or its time is over──▶ closed ──committed, way is there, none under way──▶ under way
 *                                                            ▲                                    │     │
 *                                                            └────── not carried: a pause ────────┘     └─ carried ─▶ settled
 *
 * Rules:
 * 1. A value belongs to its packet from the moment it is written down. A packet that has gone out takes no more values, so
 *    that it is the same however often it is tried, after an end of the engine too.
 * 2. A packet goes out once all of its values are committed: what is not in history is nowhere else.
 * 3. Packets go in their order. One that is not carried is tried again, after pauses that get longer, for ever.
 * 4. Beyond the bound the oldest packet that is not under way is dropped, or what is new is not taken, as it is set; so is what
 *    is too old. The next value that is written down says how many values that were; so does its packet.
 * 5. What earlier sessions owe goes first: until all of it is there, nothing goes out. After a start a new packet begins.
 * 6. All points are written down, as they are then, at each whole period, and when the trigger turns on; also while the way is
 *    not there. A period that passed while nobody ran is over.
 */

const COUNTERS = ['values', 'packets', 'octets', 'failures', 'dropped'] as const;
const WORDS: Readonly<Record<(typeof COUNTERS)[number], string>> = {
  values: 'values written down',
  packets: 'packets delivered',
  octets: 'octets delivered',
  failures: 'tries that failed',
  dropped: 'values given up, because too many waited or they were too old',
};
/** What sessions count, as definitions say it. */
export const PUBLISHING_COUNTERS = {
  words: WORDS,
  device: [],
  outbound: ['values', 'packets', 'octets', 'failures'],
  trouble: ['failures', 'dropped'],
};

/** There is one queue: all values of a destination are in one order. */
const QUEUE = '*';
const FIRST_PAUSE_MS = 1000;
const LONGEST_PAUSE_MS = 60_000;
/** Packets that wait to go once more. */
const MOST_AGAIN = 1000;

interface Spoken {
  value: number;
  text: string | null;
  quality: number;
}
interface Held<Target> {
  point: ServerPoint<Target>;
  /** What it is now; null: not known. */
  now: Spoken | null;
  /** What was told last; null: nothing yet. */
  told: Spoken | null;
}

/** A value on its way; `isStored`: it is committed. */
interface Waiting {
  value: WaitingValue;
  octets: Uint8Array;
  isStored: boolean;
}

export class PublishingSession<Settings, Target extends At> implements Server<Target> {
  readonly counters: Counters<(typeof COUNTERS)[number]>;
  readonly wantsStored = true;
  private effects: ServerEffect[] = [];
  private known = new Map<string, Held<Target>>();
  /** In order, those before `first` are done with. */
  private waiting: Waiting[] = [];
  private first = 0;
  /** Own new values while what earlier sessions owe is still to come. */
  private behind: Waiting[] = [];
  private readonly byNumber = new Map<number, Waiting>();
  private readonly numbers: EventNumbers;
  private settledBeyond: number[] = [];
  /** The packet that still takes values. */
  private open: { number: number; values: number; since: Instant } | null = null;
  private underWay: { number: number; values: readonly Waiting[]; octets: number; isAgain: boolean } | null = null;
  /** Packets that somebody wants there once more. */
  private again: { packet: number; messages: readonly Message[] }[] = [];
  private droppedSince = 0;
  private isUp = false;
  private isResting = false;
  private isFilling: boolean;
  /** It has told something, in this session or an earlier one. */
  private hasTold: boolean;
  private failures = 0;
  private notBefore: Instant = 0;
  /** Up to then whole periods are over. */
  private recordedAt: Instant;

  constructor(
    private settings: Settings,
    private readonly print: (point: Placed<Target>) => string,
    private readonly packing: Packing<Settings, Target>,
    points: readonly ServerPoint<Target>[],
    now: Instant,
    remembered: Remembered,
  ) {
    this.counters = new Counters(COUNTERS, now);
    this.numbers = new EventNumbers(remembered.lastNumber);
    this.isFilling = remembered.owes;
    this.hasTold = remembered.lastNumber > 0;
    this.recordedAt = now;
    this.setPoints(points);
  }

  private setPoints(points: readonly ServerPoint<Target>[]): void {
    const before = this.known;
    this.known = new Map();
    for (const point of points) {
      const one = before.get(this.print(point));
      const { now = null, told = null } = one?.point.kind === point.kind ? one : {};
      this.known.set(this.print(point), { point, now, told });
    }
  }

  // ---- what others ask of it

  get eventsWaiting(): number {
    return this.waiting.length - this.first + this.behind.length;
  }
  get isCrowded(): boolean {
    return this.eventsWaiting > this.terms.mostWaiting / 2;
  }
  get awaits(): boolean {
    return this.underWay !== null;
  }
  get owed(): readonly OwedRecord[] {
    const all = [...this.waiting.slice(this.first), ...this.behind];
    return all.map(({ value: { number }, octets, isStored }) => ({
      ...{ queue: QUEUE, number, octets },
      ...(isStored ? {} : { isUncommitted: true }),
    }));
  }
  form(point: { kind: PointKind; at: Target }): string {
    return this.packing.form(point);
  }
  said(_kind: PointKind, quality: number): string {
    return [validity(quality), qualityWords(quality)].filter((words) => words !== '').join(', ');
  }
  held(point: { kind: PointKind; at: Target }): { value: number; text: string } {
    const { value = 0, text = null } = this.known.get(this.print(point))?.now ?? {};
    return { value, text: text ?? '' };
  }

  // ---- the session

  start(now: Instant): void {
    this.isUp = true;
    this.notBefore = now;
    this.go(now);
  }

  /** What is under way is not known to have come: it is tried again. */
  stop(): void {
    this.isUp = false;
    if (this.underWay !== null)
      this.effects.push({
        ...{ type: 'packetAnswered', packet: this.underWay.number },
        problem: 'the connection ended before it was acknowledged',
      });
    if (this.underWay?.isAgain) this.notAgain(this.underWay.number);
    this.underWay = null;
  }

  receive(): void {
    // A carrier says what came of a packet; there are no octets back.
  }

  wake(now: Instant): void {
    const due = this.recordsAt;
    if (due !== null && now >= due && !this.isResting) {
      this.recordedAt = now;
      // Of several that passed while the machine slept, the last.
      this.record(now - (now % this.terms.everyMs), now);
    }
    this.dropOld(now);
    this.go(now);
  }

  get deadline(): Instant | null {
    const times = [this.sendsAt, this.isResting ? null : this.recordsAt, this.expiresAt].filter(
      (time) => time !== null,
    );
    return times.length === 0 ? null : Math.min(...times);
  }

  /** When the first packet is to go out; null: something else has to happen first. */
  private get sendsAt(): Instant | null {
    if (!this.isUp || this.isResting || this.isFilling || this.underWay !== null) return null;
    if (this.again.length > 0) return this.notBefore;
    if (this.waiting[this.first] === undefined) return null;
    if (this.gathers(this.notBefore)) return Math.max(this.notBefore, (this.open?.since ?? 0) + this.terms.afterMs);
    // What is not committed yet says so itself.
    return this.firstPacket().every(({ isStored }) => isStored) ? this.notBefore : null;
  }

  /** When all points are recorded next; null: at no time. */
  private get recordsAt(): Instant | null {
    const { everyMs } = this.terms;
    return everyMs === 0 ? null : (Math.floor(this.recordedAt / everyMs) + 1) * everyMs;
  }

  /** When the oldest value that is not under way is too old; null: never. */
  private get expiresAt(): Instant | null {
    const { mostAgeMs } = this.terms;
    const next = this.waiting[this.first + (this.underWay?.values.length ?? 0)];
    return mostAgeMs === 0 || next === undefined || this.isFilling ? null : next.value.time + mostAgeMs;
  }

  /** The first packet still takes values. */
  private gathers(now: Instant): boolean {
    const { open, terms } = this;
    if (open === null || this.waiting[this.first]?.value.packet !== open.number) return false;
    return open.values < terms.mostValues && now >= open.since && now < open.since + terms.afterMs;
  }

  take(): ServerEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  command(command: ServerCommand<Target>, now: Instant): void {
    switch (command.type) {
      case 'update':
        for (const update of command.updates) this.update(update, command.manner ?? 'told', now);
        this.onTriggers(now);
        this.go(now);
        break;
      case 'toldBefore':
        for (const record of command.records) this.noteTold(record);
        break;
      case 'owed':
        this.fill(command.records, command.last, now);
        break;
      case 'stored':
        for (const number of command.numbers) {
          const one = this.byNumber.get(number);
          if (one) one.isStored = true;
        }
        this.go(now);
        break;
      case 'carried':
        this.onCarried(command.packet, now);
        break;
      case 'notCarried':
        this.onNotCarried(command.packet, command.words, now);
        break;
      case 'again':
        if (this.again.length < MOST_AGAIN) this.again.push({ packet: command.packet, messages: command.messages });
        this.go(now);
        break;
      case 'setPoints':
        this.setPoints(command.points);
        break;
      case 'setSettings':
        this.settings = { ...this.settings, ...command.settings };
        this.recordedAt = now;
        this.go(now);
        break;
      case 'rest':
        this.isResting = true;
        break;
      case 'resetCounters':
        this.counters.reset(now);
        break;
      case 'controlResult':
      case 'commandGiven':
      case 'came':
      case 'went':
      case 'octets':
      case 'rights':
      case 'order':
      case 'guest':
        // Nobody asks, and nobody operates.
        break;
      default:
        command satisfies never;
    }
  }

  private get terms(): PublishingTerms {
    return this.packing.terms(this.settings);
  }

  // ---- what is written down

  private update(update: ServerUpdate<Target>, manner: UpdateManner, now: Instant): void {
    const address = this.print(update);
    const held = this.known.get(address);
    if (held === undefined) return;
    if (manner === 'past') return this.write(update, address, now);
    const spoken: Spoken = { value: update.value, text: update.text ?? null, quality: update.quality };
    const before = held.now;
    held.now = spoken;
    if (manner === 'shown') return;
    if (manner === 'told' && address === this.terms.trigger && isOn(spoken) && before !== null && isOff(before))
      this.triggered.push({ update, address });
    if (!this.terms.onChange) return;
    // Whoever has never been told anything has to hear how things are.
    if (manner === 'quiet' && this.hasTold) {
      held.told = spoken;
      return;
    }
    if (!update.always && held.told !== null && !this.isNews(held.told, spoken, held.point, update.moved ?? false))
      return;
    held.told = spoken;
    this.write(update, address, now);
  }

  /** What a trigger asks for is recorded as things are once all that came with it is known. */
  private onTriggers(now: Instant): void {
    for (const { update, address } of this.triggered.splice(0)) {
      this.record(update.time, now);
      if (!this.terms.setsBack) continue;
      this.effects.push({
        ...{ type: 'control', token: 0, phase: 'direct', own: true },
        items: [
          {
            ...{ address, kind: 'output', operation: 'latchOff', counts: null, onMs: 0, offMs: 0, count: 1 },
            ...{ asked: 'off', on: false },
          },
        ],
      });
    }
  }
  private readonly triggered: { update: ServerUpdate<Target>; address: string }[] = [];

  /** Writes down all points as they are now, as of a time. */
  private record(time: Instant, now: Instant): void {
    for (const [address, { point, now: spoken }] of this.known) {
      if (spoken === null) continue;
      const { kind, at } = point;
      const { value, text, quality } = spoken;
      this.write({ kind, at, value, ...(text === null ? {} : { text }), quality, time }, address, now);
    }
  }

  private isNews(told: Spoken, { value, text, quality }: Spoken, point: ServerPoint<Target>, moved: boolean): boolean {
    if (told.quality !== quality || told.text !== text) return true;
    if (Object.is(told.value, value)) return false;
    if (moved || hasStates(point.kind) || !Number.isFinite(value) || !Number.isFinite(told.value)) return true;
    return exceedsDeadband(value, told.value, point.deadband);
  }

  private write(update: ServerUpdate<Target>, address: string, now: Instant): void {
    if (!this.hold(1)) {
      this.giveUp(1);
      return;
    }
    const number = this.numbers.next(now);
    if (this.open !== null && this.open.values >= this.terms.mostValues) this.open = null;
    this.open ??= { number, values: 0, since: now };
    this.open.values++;
    const { kind, value, text = null, quality, time, unsynchronised = false } = update;
    const whole: WaitingValue = {
      ...{ number, packet: this.open.number, dropped: this.droppedSince },
      ...{ address, kind, value, text, quality, time, unsynchronised },
    };
    this.droppedSince = 0;
    const one: Waiting = { value: whole, octets: encodeValue(whole), isStored: false };
    (this.isFilling ? this.behind : this.waiting).push(one);
    this.byNumber.set(number, one);
    this.counters.add('values');
    this.effects.push({ type: 'owes', queue: QUEUE, number, octets: one.octets });
    this.effects.push({ type: 'event', address, number, form: this.packing.form(update) });
  }

  /** Whether so many more may come: beyond the bound the oldest packet goes that is not under way, or nothing is taken. */
  private hold(more: number): boolean {
    const { mostWaiting, whenFull } = this.terms;
    while (this.eventsWaiting + more > mostWaiting && !this.isFilling) {
      if (more > 0 && whenFull === 'new') return false;
      if (!this.dropNext()) return true;
    }
    return true;
  }

  /** What is too old goes, packet by packet. */
  private dropOld(now: Instant): void {
    for (let at = this.expiresAt; at !== null && now >= at; at = this.expiresAt) if (!this.dropNext()) return;
  }

  /** Gives up the first packet that is not under way; false: there is none. */
  private dropNext(): boolean {
    const from = this.first + (this.underWay?.values.length ?? 0);
    const packet = this.waiting[from]?.value.packet;
    if (packet === undefined) return false;
    let end = from;
    while (this.waiting[end]?.value.packet === packet) end++;
    if (packet === this.open?.number) this.open = null;
    const gone = this.waiting.splice(from, end - from);
    this.forget(gone);
    this.giveUp(gone.length, gone.length + gone.reduce((sum, { value }) => sum + value.dropped, 0));
    this.settle(gone.map(({ value }) => value.number));
    return true;
  }

  /** So many values never get there; `told`: with those of which the given up ones would have told. */
  private giveUp(values: number, told = values): void {
    if (this.droppedSince === 0) {
      const { mostWaiting, whenFull } = this.terms;
      const isFull = this.eventsWaiting + values >= mostWaiting;
      const what = whenFull === 'new' ? 'new ones are not taken' : 'the oldest are dropped';
      const words = isFull
        ? `more than ${mostWaiting} values wait: ${what}`
        : 'values that waited are too old: they are dropped';
      this.effects.push({ type: 'diagnostic', words });
    }
    this.droppedSince += told;
    this.counters.add('dropped', values);
  }

  private forget(done: readonly Waiting[]): void {
    for (const { value } of done) this.byNumber.delete(value.number);
  }

  private settle(done: readonly number[]): void {
    const oldest = this.waiting[this.first] ?? this.behind[0];
    this.settledBeyond.push(...done);
    // Nothing is known of what is still to come: it may be older than all of this.
    const part = this.isFilling
      ? { position: 0, beyond: this.settledBeyond }
      : settledPart(oldest?.value.number ?? null, this.numbers.last, this.settledBeyond);
    this.settledBeyond = [...part.beyond];
    this.effects.push({ type: 'settled', queue: QUEUE, ...part });
  }

  // ---- what was there before

  private noteTold(record: OwedRecord): void {
    const value = decodeValue(record);
    const held = value && this.known.get(value.address);
    if (held && held.point.kind === value.kind)
      held.told = { value: value.value, text: value.text, quality: value.quality };
  }

  private fill(records: readonly OwedRecord[], last: boolean, now: Instant): void {
    for (const record of records) {
      const value = decodeValue(record);
      if (value === null || this.byNumber.has(value.number)) continue;
      const one: Waiting = { value, octets: record.octets, isStored: !record.isUncommitted };
      this.waiting.push(one);
      this.byNumber.set(value.number, one);
    }
    if (!last) return;
    this.isFilling = false;
    this.waiting.push(...this.behind.splice(0));
    this.hold(0);
    this.go(now);
  }

  // ---- what goes out

  private firstPacket(): Waiting[] {
    const packet = this.waiting[this.first]?.value.packet;
    let end = this.first;
    while (end < this.waiting.length && this.waiting[end].value.packet === packet) end++;
    return this.waiting.slice(this.first, end);
  }

  private go(now: Instant): void {
    if (!this.isUp || this.isResting || this.isFilling || this.underWay !== null || now < this.notBefore) return;
    const once = this.again.shift();
    if (once !== undefined) return this.carry(once.packet, once.messages, null);
    const next = this.waiting[this.first];
    if (next === undefined) return;
    if (this.gathers(now)) return;
    const values = this.firstPacket();
    if (!values.every(({ isStored }) => isStored)) return;
    if (next.value.packet === this.open?.number) this.open = null;
    const messages = this.packing.messages(this.packetOf(values), this.settings);
    this.carry(next.value.packet, messages, values);
    this.effects.push({ type: 'reported', events: values.map(({ value }) => value) });
  }

  /** `values`: null: it went before. */
  private carry(packet: number, messages: readonly Message[], values: readonly Waiting[] | null): void {
    const octets = messages.reduce((sum, message) => sum + message.octets.length, 0);
    this.underWay = { number: packet, values: values ?? [], octets, isAgain: values === null };
    this.effects.push({ type: 'carry', packet, messages });
    this.effects.push({ type: 'packetOut', packet, records: values?.length ?? 0, messages });
  }

  private packetOf(values: readonly Waiting[]): Packet {
    return {
      number: values[0].value.packet,
      dropped: values.reduce((sum, { value }) => sum + value.dropped, 0),
      values: values.map(
        ({ value: { number, address, kind, value, text, quality, time, unsynchronised } }): ToldValue => {
          const { name = '', unit = '' } = this.known.get(address)?.point ?? {};
          return { number, address, kind, value, text, quality, time, unsynchronised, name, unit };
        },
      ),
    };
  }

  private onCarried(packet: number, now: Instant): void {
    const { underWay } = this;
    if (underWay?.number !== packet) return;
    this.underWay = null;
    this.failures = 0;
    this.hasTold = true;
    this.counters.add('packets');
    this.counters.add('octets', underWay.octets);
    this.first += underWay.values.length;
    this.forget(underWay.values);
    // Now and then what is done with is let go.
    if (this.first > 1000 && this.first > this.waiting.length / 2) {
      this.waiting = this.waiting.slice(this.first);
      this.first = 0;
    }
    this.effects.push({ type: 'heard' }, { type: 'packetAnswered', packet, problem: null });
    if (underWay.isAgain) {
      this.effects.push({ type: 'noted', words: `packet ${packet} was delivered once more` });
      return this.go(now);
    }
    this.effects.push({ type: 'delivered', events: underWay.values.map(({ value }) => value) });
    this.settle(underWay.values.map(({ value }) => value.number));
    this.go(now);
  }

  /** One that somebody wants there once more has one try: what waits is not to wait for it. */
  private notAgain(packet: number): void {
    this.effects.push({ type: 'diagnostic', words: `packet ${packet} was not delivered once more` });
  }

  private onNotCarried(packet: number, words: string, now: Instant): void {
    if (this.underWay?.number !== packet) return;
    const { isAgain } = this.underWay;
    this.underWay = null;
    this.effects.push({ type: 'packetAnswered', packet, problem: words });
    if (isAgain) this.notAgain(packet);
    this.counters.add('failures');
    this.notBefore = now + Math.min(LONGEST_PAUSE_MS, FIRST_PAUSE_MS * 2 ** Math.min(10, this.failures++));
    this.effects.push({ type: 'diagnostic', words });
  }
}

const isOn = ({ value, quality }: Spoken): boolean => value !== 0 && validity(quality) !== 'invalid';
const isOff = ({ value, quality }: Spoken): boolean => value === 0 && validity(quality) !== 'invalid';

/** Sessions of a protocol whose packets a carrier takes. */
export const publishingSide = <Settings, Target extends At>(
  print: (point: Placed<Target>) => string,
  packing: Packing<Settings, Target>,
): ServerSide<Settings, Target> => ({
  peers: () => null,
  make: (settings, _link, points, now, remembered) =>
    new PublishingSession(settings, print, packing, points, now, remembered),
  recogniser: () => ({ push: () => [] }),
});
