import { hasStates, kindRank, POINT_KINDS, type PointKind } from '../../../../point/index.ts';

/*
 * Keeps an event from being stored twice, and from being taken for one that was.
 *
 * A device sends an event again until it has seen our confirm, and the confirm goes out only after the event is
 * committed. So when the engine dies, the link breaks, a confirm is lost or the commit is slow in between, events that
 * are stored come once more. The guard knows the events whose confirm may not have arrived (they are stored in the
 * same transaction as the readings) and tells whether a device goes over them again.
 *
 * Rules:
 * 1. A fragment is remembered from its arrival. The next fragment of the same answer shows that its confirm arrived:
 *    the device waits for it. So only the last fragment of an answer stays in question, as a list in the order sent.
 *    The next unsolicited response shows it too, when it comes before the device can have waited in vain.
 * 2. What an answer left in question is forgotten when a later answer is complete that had to carry it again: one to
 *    a read of at least the same scope. An answer to a read of other classes says nothing about it.
 * 3. A repetition is the whole list again: for each of its points the same events in the same order, before any other
 *    event of that point. Where the answer goes on, or the device says that it holds more or that its buffer
 *    overflowed, a part of the list is enough.
 * 4. Beyond that, an event with a time of its own that nothing else can have is a repetition wherever it comes up; and
 *    where such events of a list come up, the device goes over that list again.
 * 5. Events of a kind come in order: once a new one has come, older ambiguous ones of that kind are done with.
 * 6. Contacts that go to and fro bring equal lists one after the other: where the device said that it holds more, an
 *    equal list is the next one.
 * 7. An event without a time, or with one that a clock of coarse grain may give twice, is `ambiguous`: the device may
 *    well bring forth an equal one. The master asks again at once after such events, so that what comes next is
 *    either the list again or what happened in the meantime.
 */

/** Event classes as bits: 1, 2 and 4 for the classes 1, 2 and 3. */
export const ALL_EVENT_CLASSES = 7;

/** An event as it is recognised again. */
export interface EventMark {
  /** Of its point: kind and index. */
  point: number;
  /** Of everything else, with the point: see `eventKey`. */
  key: number;
  /** An equal one may be new. */
  ambiguous: boolean;
}

export interface EventLike {
  kind: PointKind;
  index: number;
  value: number;
  flags: number;
  time: number | null;
  text?: string;
}

/** What is known of the fragment that brings events. */
export interface Carried {
  /** What the read asked for: event classes as bits 1, 2 and 4, single event objects as higher bits. */
  scope: number;
  /** It begins an answer. */
  first: boolean;
  /** Nothing of the answer follows it. */
  final: boolean;
  unsolicited: boolean;
  /** The device says that it had to drop events. */
  overflow: boolean;
  /** Classes (bits) of which it says that it holds more. */
  waiting: number;
  /**
   * Unasked, so soon after our confirm that the device cannot have waited for it in vain: it sends nothing unasked while
   * it waits (IEEE 1815, clause 5.1.1.1.3).
   */
  promptly?: boolean;
  /** Unasked, so soon after the last of that kind, which we have confirmed, that the device has seen the confirm. */
  soon?: boolean;
}

interface Question {
  /** What may still bring it again. */
  scope: number;
  events: EventMark[];
  /** A complete answer to a read of a part of its scope has not brought it: what it has of that is done with. */
  partly?: boolean;
  /** The device said that it holds more of it. */
  more?: boolean;
}

/** Far more than answers leave in question; a device that ends no answer loses its oldest. */
const MAX_KEPT = 5000;
/** Beyond so many the oldest two become one. */
const MAX_LISTS = 32;

export class ReplayGuard {
  /** What earlier answers left in question, oldest first. */
  private questions: Question[];
  /**
   * The last fragment of the answer, and the last unsolicited response; each followed by the rest of the lists that it
   * began to go over again.
   */
  private readonly latest: Record<'answer' | 'unsolicited', Question[]> = { answer: [], unsolicited: [] };
  private readonly clock = new ClockGrain();

  constructor(remembered: Uint8Array | null = null) {
    this.questions = remembered === null ? [] : decode(remembered);
    // Only where times tell events apart was anything remembered as unambiguous.
    if (this.questions.some(({ events }) => events.some(({ point, ambiguous }) => point >= 0 && !ambiguous)))
      this.clock.isFine();
  }

  /**
   * Takes the events of one fragment, in order; tells of each whether it is new, and of the fragment whether anything
   * new, or repeated, in it is ambiguous.
   */
  admit(events: readonly EventLike[], carried: Carried): { fresh: boolean[]; ambiguous: boolean; repeated: boolean } {
    this.clock.look(events);
    const marks = events.map((event) => this.markOf(event));
    const way = carried.unsolicited ? 'unsolicited' : 'answer';
    const before = carried.soon ? this.latest.unsolicited.at(0) : undefined;
    if (carried.unsolicited || carried.first) this.leaveInQuestion(way);
    else this.confirmed(way);
    const fresh = marks.map(() => true);
    if (carried.promptly && this.latest.answer.length > 0)
      for (const question of this.latest.answer)
        question.events = question.events.filter(({ ambiguous }) => !ambiguous);
    // What came unasked may come again in an answer, and the other way round.
    const other = this.latest[way === 'answer' ? 'unsolicited' : 'answer'];
    const inQuestion = other.length === 0 ? this.questions : [...this.questions, ...other];
    const open = inQuestion.filter((question) => mayCarry(carried.scope, question));
    const rest: Question[] = [];
    if (open.length > 0 && marks.length > 0) {
      const keys = new Keys(marks);
      for (const question of open)
        if (keys.haveAnyOf(question.events) && recognise(question, marks, fresh, carried))
          rest.push({ ...question, events: question.events.splice(0) });
      dropOvertaken(open, marks, fresh);
    }
    // It sends nothing unasked while it waits for a confirm: the list before is done with, unless it came again.
    if (before !== undefined && fresh.every(Boolean)) before.events = [];
    this.questions = this.questions.filter((question) => question.events.length > 0);
    if (marks.length > 0 || !carried.unsolicited) {
      const more = carried.final && (carried.waiting & carried.scope) !== 0;
      this.latest[way] = [{ scope: carried.scope, events: marks, more }, ...rest];
    }
    let [ambiguous, repeated] = [false, false];
    for (let at = 0; at < marks.length; at++) {
      if (!marks[at].ambiguous) continue;
      if (fresh[at]) ambiguous = true;
      else repeated = true;
    }
    return { fresh, ambiguous, repeated };
  }

  /** A complete answer to a read of this scope was taken; of the classes in `waiting` the device says that it holds more. */
  settle(scope: number, waiting = 0): void {
    const told = scope & ~waiting;
    for (const question of [...this.questions, ...this.latest.unsolicited]) {
      question.partly ||= (question.scope & told) !== 0;
      question.scope = told === ALL_EVENT_CLASSES ? 0 : question.scope & ~told;
    }
    this.questions = this.questions.filter((question) => question.scope !== 0);
    this.latest.unsolicited = this.latest.unsolicited.filter((question) => question.scope !== 0);
    this.leaveInQuestion('answer');
  }

  /** The conversation began anew: what came last may come again, with whatever answer. */
  doubt(): void {
    this.leaveInQuestion('answer');
    this.leaveInQuestion('unsolicited');
  }

  /** Whether anything that may have to be recognised is ambiguous. */
  get hasAmbiguous(): boolean {
    const { answer, unsolicited } = this.latest;
    return anyAmbiguous(this.questions) || anyAmbiguous(answer) || anyAmbiguous(unsolicited);
  }

  /** What has to be remembered together with the events just admitted. */
  remembered(): Uint8Array {
    return encode(this.all());
  }

  private all(): Question[] {
    const { answer, unsolicited } = this.latest;
    return [...this.questions, ...answer, ...unsolicited].filter(({ events }) => events.length > 0);
  }

  private markOf(event: EventLike): EventMark {
    const { kind, index, value, flags, time, text } = event;
    const point = pointOf(event);
    const key = eventKey(kind, index, value, flags, time, text);
    return { point, key, ambiguous: time === null || this.clock.mayRepeat(point) };
  }

  /** The next fragment of the answer shows it. */
  private confirmed(which: 'answer' | 'unsolicited'): void {
    this.latest[which].shift();
    this.leaveInQuestion(which);
  }

  private leaveInQuestion(which: 'answer' | 'unsolicited'): void {
    const { latest } = this;
    for (const question of latest[which]) if (question.events.length > 0) this.questions.push(question);
    latest[which] = [];
    if (this.questions.length === 0) return;
    while (this.questions.length > MAX_LISTS) {
      const [{ scope, events }, next] = this.questions.splice(0, 2);
      this.questions.unshift({ scope: scope | next.scope, events: [...events, ...next.events], partly: true });
    }
    let kept = this.questions.reduce((sum, { events }) => sum + events.length, 0);
    while (kept > MAX_KEPT) {
      const [oldest] = this.questions;
      const dropped = Math.min(oldest.events.length, kept - MAX_KEPT);
      oldest.events = oldest.events.slice(dropped);
      kept -= dropped;
      if (oldest.events.length === 0) this.questions.shift();
    }
  }
}

/** Nearly always nothing comes again: that is seen without looking point by point, and mostly without a set. */
class Keys {
  private readonly set: ReadonlySet<number> | null;

  constructor(private readonly marks: readonly EventMark[]) {
    this.set = marks.length > FEW ? new Set(marks.map(({ key }) => key)) : null;
  }

  haveAnyOf(events: readonly EventMark[]): boolean {
    for (const { key } of events) if (this.set === null ? this.isMark(key) : this.set.has(key)) return true;
    return false;
  }

  private isMark(wanted: number): boolean {
    for (const { key } of this.marks) if (key === wanted) return true;
    return false;
  }
}
const FEW = 4;

/** Asked for each fragment: without lists. */
function anyAmbiguous(questions: readonly Question[]): boolean {
  for (const { events } of questions) for (const { ambiguous } of events) if (ambiguous) return true;
  return false;
}

/** Events of a kind come in order: after a new one, an older one comes no more. */
function dropOvertaken(open: readonly Question[], marks: readonly EventMark[], fresh: readonly boolean[]): void {
  const concerned = open.filter(({ events }) => events.some(({ ambiguous }) => ambiguous));
  if (concerned.length === 0) return;
  const done = new Set<number>();
  marks.forEach(({ point }, at) => fresh[at] && done.add(kindOfPoint(point)));
  for (const question of concerned)
    question.events = question.events.filter(({ point, ambiguous }) => !ambiguous || !done.has(kindOfPoint(point)));
}

/** Whether an answer to a read of this scope can bring what is in question. Single objects may be of any class. */
const mayCarry = (scope: number, question: Question): boolean =>
  (scope & question.scope) !== 0 || scope > ALL_EVENT_CLASSES || question.scope > ALL_EVENT_CLASSES;

/**
 * Marks as known what the fragment repeats of the question, and takes it off the question; whether there was anything
 * of it.
 */
function recognise(question: Question, marks: readonly EventMark[], fresh: boolean[], carried: Carried): boolean {
  const places = freshPlaces(marks, fresh);
  const asked = byPoint(question.events);
  if (question.more && isNaturallyFollowed(question.events, asked)) return false;
  const found =
    leads(asked, places, marks, howMuch(question, marks.length, carried)) ?? soleMarks(question.events, places, marks);
  if (found.length === 0) return false;
  for (const at of found) fresh[at] = false;
  if (found.length < question.events.length) {
    // It goes over the list: what is ambiguous in it comes again too.
    const others = byPoint(question.events.filter(({ ambiguous }) => ambiguous));
    for (const at of leads(others, freshPlaces(marks, fresh), marks, 'anyPart') ?? []) {
      fresh[at] = false;
      found.push(at);
    }
  }
  // What is known now stands in the fragment, which is in question itself; the rest may follow.
  const counts = new Map<number, number>();
  for (const at of found) counts.set(marks[at].key, (counts.get(marks[at].key) ?? 0) + 1);
  question.events = question.events.filter(({ key }) => {
    const count = counts.get(key) ?? 0;
    if (count > 0) counts.set(key, count - 1);
    return count === 0;
  });
  return true;
}

/**
 * How much of a list has to come to be the list again. `whole`: all of it; `points`: all of each point that comes, but
 * points of classes that were not read may be missing; `beginning`: more may follow; `anyPart`: its oldest events may
 * be missing too.
 */
type HowMuch = 'whole' | 'points' | 'beginning' | 'anyPart';

function howMuch(question: Question, come: number, carried: Carried): HowMuch {
  if (carried.overflow) return 'anyPart';
  if (!carried.final) return 'beginning';
  if ((carried.waiting & question.scope) !== 0) return come < question.events.length ? 'beginning' : 'points';
  return !question.partly && (question.scope & ~carried.scope) === 0 ? 'whole' : 'points';
}

/**
 * Whether the same events over again are what is to be expected next of a device that holds more: contacts that go to
 * and fro.
 */
const isNaturallyFollowed = (events: readonly EventMark[], asked: ReadonlyMap<number, readonly number[]>): boolean =>
  events.every(({ ambiguous }) => ambiguous) &&
  [...asked].every(([point, keys]) => hasStates(POINT_KINDS[kindOfPoint(point)]) && keys[0] !== keys[keys.length - 1]);

/** Where in the fragment the events of each point stand that are not recognised yet. */
function freshPlaces(marks: readonly EventMark[], fresh: readonly boolean[]): Map<number, number[]> {
  const places = new Map<number, number[]>();
  marks.forEach(({ point }, at) => {
    if (!fresh[at]) return;
    const own = places.get(point);
    if (own) own.push(at);
    else places.set(point, [at]);
  });
  return places;
}

function byPoint(events: readonly EventMark[]): Map<number, number[]> {
  const keys = new Map<number, number[]>();
  for (const { point, key } of events) {
    const own = keys.get(point);
    if (own) own.push(key);
    else keys.set(point, [key]);
  }
  return keys;
}

/** The places at which the fragment goes over the list again, point by point; null when it does not. */
function leads(
  asked: ReadonlyMap<number, readonly number[]>,
  places: ReadonlyMap<number, readonly number[]>,
  marks: readonly EventMark[],
  how: HowMuch,
): number[] | null {
  const found: number[] = [];
  for (const [point, keys] of asked) {
    const at = places.get(point) ?? [];
    if (at.length === 0) {
      if (how === 'whole') return null;
      continue;
    }
    if ((how === 'whole' || how === 'points') && at.length < keys.length) return null;
    const from = how === 'anyPart' ? overlapOf(keys, at, marks) : 0;
    if (from === null) return null;
    const count = Math.min(keys.length - from, at.length);
    for (let i = 0; i < count; i++) {
      if (marks[at[i]].key !== keys[from + i]) return null;
      found.push(at[i]);
    }
  }
  return found.length > 0 ? found : null;
}

/** From which place on a point's list is what comes; null: from none. */
function overlapOf(keys: readonly number[], at: readonly number[], marks: readonly EventMark[]): number | null {
  for (let from = 0; from < keys.length; from++) {
    const count = Math.min(keys.length - from, at.length);
    let same = 0;
    while (same < count && marks[at[same]].key === keys[from + same]) same++;
    if (same === count) return from;
  }
  return null;
}

/** Events that cannot be others than those in question: each with a time of its own. */
function soleMarks(
  events: readonly EventMark[],
  places: ReadonlyMap<number, readonly number[]>,
  marks: readonly EventMark[],
): number[] {
  const known = new Map<number, number>();
  for (const { key, ambiguous } of events) if (!ambiguous) known.set(key, (known.get(key) ?? 0) + 1);
  const found: number[] = [];
  if (known.size === 0) return found;
  for (const at of [...places.values()].flat()) {
    const count = known.get(marks[at].key) ?? 0;
    if (count === 0 || marks[at].ambiguous) continue;
    known.set(marks[at].key, count - 1);
    found.push(at);
  }
  return found;
}

/** From this grain on a contact may well do the same thing twice in one tick of the device's clock. */
const COARSE_MS = 100;

/** What the times of a device's events say of its clock. */
class ClockGrain {
  private grainMs = 60_000;
  private readonly last = new Map<number, { time: number; value: number }>();
  /** Points of which two different events had the same time. */
  private readonly collided = new Set<number>();

  look(events: readonly EventLike[]): void {
    for (const event of events) {
      const { time, value } = event;
      if (time === null) continue;
      while (this.grainMs > 1 && time % this.grainMs !== 0) this.grainMs /= this.grainMs === 60_000 ? 60 : 10;
      const point = pointOf(event);
      const last = this.last.get(point);
      if (last === undefined) {
        this.last.set(point, { time, value });
        continue;
      }
      if (last.time === time && last.value !== value) this.collided.add(point);
      last.time = time;
      last.value = value;
    }
  }

  /** It was known before that its times tell events apart. */
  isFine(): void {
    this.grainMs = 1;
  }

  /** Whether the device may give an equal event of that point the same time. */
  mayRepeat(point: number): boolean {
    return this.grainMs >= COARSE_MS || (this.collided.size > 0 && this.collided.has(point));
  }
}

const kindOfPoint = (point: number): number => Math.floor(point / 0x1_0000);
const pointOf = ({ kind, index }: EventLike): number => kindRank(kind) * 0x1_0000 + index;

/*
 * As octets, to be kept with the readings. The length is never a multiple of eight: older versions kept plain keys, as
 * doubles of eight octets each.
 *
 *   version   1   2
 *   padding   1   octets of zero that follow
 *   …             each question:
 *   scope     2
 *   events    4   how many
 *   …             each event:
 *   point     4   kind, index; highest bit: ambiguous
 *   key       8   double
 */
const VERSION = 2;
const EVENT_OCTETS = 12;

function encode(questions: readonly Question[]): Uint8Array {
  const length = 2 + questions.reduce((sum, { events }) => sum + 6 + events.length * EVENT_OCTETS, 0);
  const padding = length % 8 === 0 ? 1 : 0;
  const octets = new Uint8Array(length + padding);
  const view = new DataView(octets.buffer);
  view.setUint8(0, VERSION);
  view.setUint8(1, padding);
  let at = 2 + padding;
  for (const { scope, events } of questions) {
    view.setUint16(at, scope);
    view.setUint32(at + 2, events.length);
    at += 6;
    for (const { point, key, ambiguous } of events) {
      view.setUint32(at, (ambiguous ? 0x8000_0000 : 0) + point);
      view.setFloat64(at + 4, key);
      at += EVENT_OCTETS;
    }
  }
  return octets;
}

function decode(octets: Uint8Array): Question[] {
  const view = new DataView(octets.buffer, octets.byteOffset, octets.byteLength);
  if (octets.length % 8 === 0) {
    const events = Array.from({ length: octets.length / 8 }, (_, i) => ({
      point: -1,
      key: view.getFloat64(i * 8, true),
      ambiguous: false,
    }));
    return events.length > 0 ? [{ scope: ALL_EVENT_CLASSES, events }] : [];
  }
  // What nobody has written here is no memory.
  if (octets.length < 2) return [];
  const questions: Question[] = [];
  for (let at = 2 + view.getUint8(1); at + 6 <= octets.length;) {
    const scope = view.getUint16(at);
    const count = Math.min(view.getUint32(at + 2), Math.floor((octets.length - at - 6) / EVENT_OCTETS));
    at += 6;
    const events: EventMark[] = [];
    for (let i = 0; i < count; i++, at += EVENT_OCTETS) {
      const word = view.getUint32(at);
      events.push({ point: word & 0x7fff_ffff, key: view.getFloat64(at + 4), ambiguous: word >= 0x8000_0000 });
    }
    questions.push({ scope, events });
  }
  return questions;
}

const scratch = new DataView(new ArrayBuffer(16));

/**
 * What makes two events the same, as a number of 53 bits: two different events of one fragment share it once in some
 * 10^15 cases. Multiply-and-shift mixing of the fields in two lanes.
 */
export function eventKey(
  kind: PointKind,
  index: number,
  value: number,
  flags: number,
  time: number | null,
  text = '',
): number {
  scratch.setFloat64(0, value);
  scratch.setFloat64(8, time ?? -1);
  let a = 0x2545f491 ^ kindRank(kind);
  let b = 0x1b873593 ^ index;
  const mix = (word: number): void => {
    a = Math.imul(a ^ word, 0x9e3779b1);
    a ^= a >>> 15;
    b = Math.imul(b ^ word ^ (a << 7), 0x85ebca77);
    b ^= b >>> 13;
  };
  for (let at = 0; at < text.length; at++) mix(text.charCodeAt(at));
  mix((index << 8) | (flags & 0xff));
  mix(scratch.getInt32(0));
  mix(scratch.getInt32(4));
  mix(scratch.getInt32(8));
  mix(scratch.getInt32(12));
  mix(0x27d4eb2f);
  return (a >>> 0) * 0x20_0000 + ((b >>> 0) & 0x1f_ffff);
}
