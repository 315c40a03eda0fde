import { ByteWriter } from '../../../../bytes/index.ts';
import type { Instant } from '../../../../session/index.ts';
import { encodeLinkFrame, LinkParser } from '../../wire/link.ts';
import { Reassembler, segment } from '../../wire/transport.ts';

/*
 * A device that is not ours, for trials in virtual time: it makes its answers octet by octet, keeps its events in a
 * plain queue, and behaves oddly where it is told to. It counts what it generated, so that what arrived can be held
 * against it. Nothing of the outstation's code is used but frames and segments.
 */

export type ModelKind = 'binary' | 'doubleBit' | 'output' | 'counter' | 'frozenCounter' | 'analog' | 'setpoint';

export interface ModelPoint {
  kind: ModelKind;
  index: number;
  class: 1 | 2 | 3;
}

export interface ModelEvent {
  kind: ModelKind;
  index: number;
  class: 1 | 2 | 3;
  value: number;
  time: number | null;
}

/** How it differs from a plain device. */
export interface Quirks {
  /** Grain of its clock, milliseconds; null: events have no time. */
  grainMs?: number | null;
  /** Its clock against ours. */
  clockOffsetMs?: number;
  /** Its clock stands still. */
  stuckClock?: boolean;
  /** Times as g51 with a relative one. */
  relativeTime?: boolean;
  /** Confirms that it does not see; asked for each. */
  losesConfirm?: () => boolean;
  /** In which order events stand in an answer. */
  order?: 'oldestFirst' | 'byKind' | 'byClass' | 'newestPointFirst';
  /** Most events in a fragment, and whether answers go on in further fragments. */
  perFragment?: () => number;
  severalFragments?: boolean;
  /** Octet pairs of the indications that are always set, or never. */
  iinSet?: number;
  iinClear?: number;
  /** Class bits count events under way as well. */
  classBitsLag?: boolean;
  /** Function codes that it refuses with IIN2.0, or leaves unanswered. */
  refuses?: readonly number[];
  ignores?: readonly number[];
  /** Refuses a read that names more than one class. */
  refusesCombined?: 'error' | 'silence';
  /** Classes and groups that it does not know. */
  unknownClasses?: readonly number[];
  /** It knows no g60 at all. */
  noClasses?: boolean;
  unknownGroups?: readonly number[];
  /** Objects put before or behind its own, as octets. */
  before?: readonly number[];
  between?: readonly number[];
  behind?: readonly number[];
  /** Objects before its own in answers to class reads only. */
  beforeOfClasses?: readonly number[];
  /** How it answers when events are asked for by object. */
  eventsByObject?: 'nothing' | 'error';
  /** So many octets are missing at the end of an answer that has events; asked for each. */
  cutsAnswer?: () => number;
  /** Qualifier of events. */
  qualifier?: 0x17 | 0x28 | 0x18 | 0x27 | 0x39;
  /** Asks for a confirm of everything, or of nothing. */
  confirms?: 'all' | 'events' | 'never';
  /** Sends events unasked. */
  unsolicited?: 'never' | 'whenEnabled' | 'always';
  unsolicitedRetryMs?: number;
  /** An unsolicited response without its confirm comes again with what is new besides, under another sequence number. */
  regenerates?: boolean;
  /** An empty unsolicited response each so many milliseconds. */
  chatterMs?: number;
  /** How long it thinks. */
  delayMs?: number;
  /** It says everything twice. */
  twice?: boolean;
  /** Octets of noise around its frames. */
  noise?: readonly number[];
  /** Each octet by itself. */
  dribbles?: boolean;
  /** Events kept at most for all classes together. */
  bufferEvents?: number;
  /** It keeps its events over a restart. */
  keepsEvents?: boolean;
  /** Flags of its values. */
  flags?: number;
  /** Only so many of its points are in an answer to class 0. */
  staticForm?: 'flags' | 'packed' | 'none';
  /** Frames have the keep-alive of another master between them. */
  otherFrames?: readonly { source: number; destination: number }[];
  /** It forgets nothing of what was confirmed: the confirm of a read counts for the fragment before only. */
  sequenceOfUnsolicitedStays?: boolean;
  /** Answers carry the events of single group reads only. */
  maxFragment?: number;
  /** Says link status as a reset in between. */
  linkChatter?: boolean;
}

const GROUPS: Record<
  ModelKind,
  { event: number; static: number; octets: (out: ByteWriter, value: number, flags: number) => void }
> = {
  binary: { event: 2, static: 1, octets: (out, v, f) => void out.uint8(f | (v ? 0x80 : 0)) },
  doubleBit: { event: 4, static: 3, octets: (out, v, f) => void out.uint8((f & 0x3f) | (v << 6)) },
  output: { event: 11, static: 10, octets: (out, v, f) => void out.uint8(f | (v ? 0x80 : 0)) },
  counter: { event: 22, static: 20, octets: (out, v, f) => void out.uint8(f).uint32(v) },
  frozenCounter: { event: 23, static: 21, octets: (out, v, f) => void out.uint8(f).uint32(v) },
  analog: { event: 32, static: 30, octets: (out, v, f) => void out.uint8(f).int32(v) },
  setpoint: { event: 42, static: 40, octets: (out, v, f) => void out.uint8(f).int32(v) },
};
/** Variations of an event without and with a time, and of the present value with flags. */
const VARIATIONS: Record<ModelKind, [plain: number, timed: number, present: number]> = {
  binary: [1, 2, 2],
  doubleBit: [1, 2, 2],
  output: [1, 2, 2],
  counter: [1, 5, 1],
  frozenCounter: [1, 5, 1],
  analog: [1, 3, 1],
  setpoint: [1, 3, 1],
};
const KINDS = Object.keys(GROUPS) as ModelKind[];

interface Queued extends ModelEvent {
  number: number;
}

export class ModelDevice {
  private readonly gone: Queued[] = [];
  /** Events that it no longer has; whether it told them before, it does not know. */
  readonly forgotten: ModelEvent[] = [];
  /** Events that it had to drop; they count for nothing. */
  dropped = 0;
  /** Requests to read that it was sent. */
  reads = 0;
  readonly requests: number[] = [];
  private queue: Queued[] = [];
  private number = 0;
  private readonly values = new Map<string, number>();
  private readonly parser = new LinkParser();
  private reassembler = new Reassembler(2048);
  private transport = 0;
  private output: { at: Instant; octets: Uint8Array }[] = [];
  private restarted = true;
  private overflowed = false;
  private enabled = 0;
  private waiting: { numbers: Set<number>; sequence: number; unsolicited: boolean } | null = null;
  private unsolicited: { numbers: Set<number>; sequence: number; octets: Uint8Array; again: Instant } | null = null;
  private unsolicitedSequence = 0;
  private more: { wanted: (event: Queued) => boolean; sequence: number; present: boolean } | null = null;
  private deferred: Uint8Array | null = null;
  private chatterAt: Instant;

  constructor(
    readonly points: readonly ModelPoint[],
    readonly quirks: Quirks,
    private now: Instant,
    readonly addresses = { ours: 11, theirs: 1 },
  ) {
    this.chatterAt = now + (quirks.chatterMs ?? Infinity);
  }

  /** A point takes a value: an event, whatever it was before. */
  change(point: ModelPoint, value: number, now: Instant): void {
    const { grainMs = 1, clockOffsetMs = 0, stuckClock, bufferEvents = Infinity } = this.quirks;
    const clock = stuckClock ? 1_600_000_000_123 : now + clockOffsetMs;
    const time = grainMs === null ? null : Math.max(0, Math.floor(clock / grainMs) * grainMs);
    const { kind, index } = point;
    this.values.set(`${kind} ${index}`, value);
    this.queue.push({ kind, index, class: point.class, value, time, number: ++this.number });
    if (this.queue.length > bufferEvents) {
      this.forgotten.push(...this.queue.splice(0, 1));
      this.dropped++;
      this.overflowed = true;
    }
  }

  /** All events that it was asked to tell, but those that it dropped or forgot. */
  get generated(): ModelEvent[] {
    return [...this.gone, ...this.queue];
  }

  /** It is switched off and on again. */
  restart(): void {
    this.restarted = true;
    if (!this.quirks.keepsEvents) this.forgotten.push(...this.queue.splice(0));
    this.disconnect();
  }

  disconnect(): void {
    this.parser.reset();
    this.reassembler = new Reassembler(2048);
    this.output = [];
    this.waiting = null;
    this.unsolicited = null;
    this.more = null;
    this.deferred = null;
    this.enabled = 0;
  }

  /** Whether nothing is left that it would still tell. */
  get isEmpty(): boolean {
    return this.queue.length === 0;
  }

  receive(bytes: Uint8Array, now: Instant): void {
    this.now = now;
    for (const event of this.parser.push(bytes)) {
      if (event.type !== 'frame' || !event.frame.fromMaster) continue;
      const { frame } = event;
      if (frame.destination !== this.addresses.ours || frame.source !== this.addresses.theirs) continue;
      if (frame.functionCode === 9) this.sendFrame(11, new Uint8Array(0), false);
      if (frame.functionCode !== 4) continue;
      const { done } = this.reassembler.push(frame.data, event.octets);
      if (done !== null) this.onRequest(done.fragment);
    }
    this.sendUnasked();
  }

  wake(now: Instant): void {
    this.now = now;
    if (now >= this.chatterAt) {
      this.chatterAt = now + (this.quirks.chatterMs ?? Infinity);
      const sequence = (this.unsolicitedSequence = (this.unsolicitedSequence + 1) & 15);
      this.send(0xd0 | sequence, 130, new Uint8Array(0));
    }
    const { unsolicited } = this;
    if (unsolicited !== null && now >= unsolicited.again) {
      unsolicited.again = now + (this.quirks.unsolicitedRetryMs ?? 3000);
      if (this.deferred !== null) {
        this.unsolicited = null;
        this.answerDeferred();
      } else if (this.quirks.regenerates) {
        this.unsolicited = null;
        this.sendUnasked();
      } else this.sendFragment(unsolicited.octets);
    }
    this.sendUnasked();
  }

  get deadline(): Instant | null {
    const times = [...this.output.map(({ at }) => at), this.chatterAt];
    if (this.unsolicited !== null) times.push(this.unsolicited.again);
    const next = Math.min(...times);
    return next === Infinity ? null : next;
  }

  take(now: Instant): Uint8Array[] {
    const due = this.output.filter(({ at }) => at <= now);
    this.output = this.output.filter(({ at }) => at > now);
    return due.map(({ octets }) => octets);
  }

  // ---- requests

  private onRequest(fragment: Uint8Array): void {
    const sequence = fragment[0] & 0x0f;
    const code = fragment[1];
    this.requests.push(code);
    if (code === 0) {
      this.onConfirm(sequence, (fragment[0] & 0x10) !== 0);
      return;
    }
    // A read waits until an unsolicited response is confirmed or given up (IEEE 1815, clause 5.1.1.1.3).
    if (code === 1 && this.unsolicited !== null) {
      this.deferred = fragment;
      return;
    }
    this.deferred = null;
    this.waiting = null;
    this.more = null;
    if (this.quirks.ignores?.includes(code)) return;
    if (this.quirks.refuses?.includes(code)) {
      this.respond(sequence, new Uint8Array(0), { iin: 0x100 });
      return;
    }
    if (code === 1) this.onRead(sequence, fragment);
    else if (code === 2) {
      if (fragment[2] === 80) this.restarted = false;
      this.respond(sequence, new Uint8Array(0));
    } else if (code === 20 || code === 21) {
      for (let at = 2; at + 2 < fragment.length; at += 3) {
        const bit = 1 << (fragment[at + 1] - 2);
        this.enabled = code === 20 ? this.enabled | bit : this.enabled & ~bit;
      }
      this.respond(sequence, new Uint8Array(0));
    } else if (code === 23)
      this.respond(sequence, new ByteWriter().uint8(52).uint8(2).uint8(7).uint8(1).uint16(0).finish());
    else this.respond(sequence, new Uint8Array(0), { iin: 0x100 });
  }

  private onConfirm(sequence: number, unsolicited: boolean): void {
    if (this.quirks.losesConfirm?.()) return;
    const under = unsolicited ? this.unsolicited : this.waiting;
    if (under === null || under.sequence !== sequence) return;
    const { numbers } = under;
    this.remove(numbers);
    this.overflowed = false;
    if (unsolicited) {
      this.unsolicited = null;
      this.answerDeferred();
      return;
    }
    this.waiting = null;
    const { more } = this;
    this.more = null;
    if (more !== null) this.answer(more.wanted, more.present, (sequence + 1) & 15, false);
  }

  private answerDeferred(): void {
    const { deferred } = this;
    this.deferred = null;
    if (deferred !== null) this.onRead(deferred[0] & 0x0f, deferred);
  }

  private remove(numbers: ReadonlySet<number>): void {
    this.gone.push(...this.queue.filter(({ number }) => numbers.has(number)));
    this.queue = this.queue.filter(({ number }) => !numbers.has(number));
  }

  private onRead(sequence: number, fragment: Uint8Array): void {
    this.reads++;
    const classes: number[] = [];
    const groups: number[] = [];
    let limit = Infinity;
    for (let at = 2; at + 2 < fragment.length;) {
      const [group, variation, qualifier] = fragment.subarray(at, at + 3);
      if (group === 60) classes.push(variation - 1);
      else groups.push(group);
      at += 3;
      if (qualifier === 7) limit = fragment[at++];
      if (qualifier === 8) {
        limit = fragment[at] | (fragment[at + 1] << 8);
        at += 2;
      }
      if (qualifier === 0) at += 2;
    }
    const { refusesCombined, unknownClasses = [], noClasses, unknownGroups = [] } = this.quirks;
    if (classes.length > 1 && refusesCombined === 'silence') return;
    const refused =
      (classes.length > 1 && refusesCombined === 'error') ||
      (classes.length > 0 && noClasses) ||
      classes.some((n) => unknownClasses.includes(n)) ||
      groups.some((group) => unknownGroups.includes(group));
    if (refused) {
      this.respond(sequence, new Uint8Array(0), { iin: 0x200 });
      return;
    }
    const asksEvents = groups.some((group) => KINDS.some((kind) => GROUPS[kind].event === group));
    if (asksEvents && this.quirks.eventsByObject !== undefined) {
      this.respond(sequence, new Uint8Array(0), { iin: this.quirks.eventsByObject === 'error' ? 0x200 : 0 });
      return;
    }
    const taken = new Set(
      this.sorted((event) => classes.includes(event.class) || groups.includes(GROUPS[event.kind].event))
        .slice(0, limit)
        .map(({ number }) => number),
    );
    const present = classes.includes(0) || groups.some((group) => KINDS.some((kind) => GROUPS[kind].static === group));
    this.presentGroups = groups;
    this.ofClasses = classes.length > 0;
    this.answer(({ number }) => taken.has(number), present, sequence, true);
  }

  private presentGroups: readonly number[] = [];
  private ofClasses = false;

  private sorted(wanted: (event: Queued) => boolean): Queued[] {
    const events = this.queue.filter((event) => wanted(event) && !this.unsolicited?.numbers.has(event.number));
    const rank: Record<NonNullable<Quirks['order']>, (event: Queued) => number> = {
      oldestFirst: () => 0,
      byKind: ({ kind }) => KINDS.indexOf(kind),
      byClass: (event) => event.class,
      newestPointFirst: ({ index }) => -index,
    };
    const of = rank[this.quirks.order ?? 'oldestFirst'];
    return events.sort((a, b) => of(a) - of(b) || a.number - b.number);
  }

  private answer(wanted: (event: Queued) => boolean, present: boolean, sequence: number, first: boolean): void {
    const { perFragment, severalFragments, confirms = 'events' } = this.quirks;
    const all = this.sorted(wanted);
    const events = all.slice(0, perFragment?.() ?? 60);
    const rest = severalFragments ? all.slice(events.length) : [];
    const out = new ByteWriter();
    out.bytes(Uint8Array.from(this.quirks.before ?? []));
    if (this.ofClasses) out.bytes(Uint8Array.from(this.quirks.beforeOfClasses ?? []));
    this.writeEvents(out, events);
    if (rest.length === 0 && present) this.writePresent(out);
    out.bytes(Uint8Array.from(this.quirks.behind ?? []));
    const confirm = confirms === 'all' || (confirms === 'events' && (events.length > 0 || rest.length > 0));
    const numbers = new Set(events.map(({ number }) => number));
    if (confirm) this.waiting = { numbers, sequence, unsolicited: false };
    else this.remove(numbers);
    if (rest.length > 0) {
      const left = new Set(rest.map(({ number }) => number));
      this.more = { wanted: ({ number }) => left.has(number), present, sequence };
    }
    const objects = out.finish();
    const kept = objects.length - (events.length > 0 ? (this.quirks.cutsAnswer?.() ?? 0) : 0);
    this.respond(sequence, objects.subarray(0, Math.max(0, kept)), { first, final: rest.length === 0, confirm });
  }

  private writeEvents(out: ByteWriter, events: readonly Queued[]): void {
    const { relativeTime, qualifier = 0x28, flags = 1, between } = this.quirks;
    let at = 0;
    while (at < events.length) {
      const { kind } = events[at];
      let end = at + 1;
      while (
        end < events.length &&
        events[end].kind === kind &&
        (events[end].time === null) === (events[at].time === null)
      )
        end++;
      const run = events.slice(at, end);
      const timed = run[0].time !== null;
      const common = relativeTime && kind === 'binary' && timed ? (run[0].time ?? 0) : null;
      if (common !== null) out.uint8(51).uint8(1).uint8(7).uint8(1).uint48(common);
      const [plain, withTime] = VARIATIONS[kind];
      out
        .uint8(GROUPS[kind].event)
        .uint8(common !== null ? 3 : timed ? withTime : plain)
        .uint8(qualifier);
      const write = {
        0x17: ['uint8', 'uint8'],
        0x28: ['uint16', 'uint16'],
        0x18: ['uint16', 'uint8'],
        0x27: ['uint8', 'uint16'],
        0x39: ['uint32', 'uint32'],
      } as const;
      const [count, index] = write[qualifier];
      out[count](run.length);
      for (const event of run) {
        out[index](event.index);
        GROUPS[kind].octets(out, event.value, flags);
        if (event.time === null) continue;
        if (common !== null) out.uint16(event.time - common);
        else out.uint48(event.time);
      }
      out.bytes(Uint8Array.from(between ?? []));
      at = end;
    }
  }

  private writePresent(out: ByteWriter): void {
    const { staticForm = 'flags', flags = 1 } = this.quirks;
    if (staticForm === 'none') return;
    for (const kind of KINDS) {
      const { static: group, octets } = GROUPS[kind];
      if (this.presentGroups.length > 0 && !this.presentGroups.includes(group)) continue;
      const own = this.points.filter((point) => point.kind === kind).sort((a, b) => a.index - b.index);
      if (own.length === 0) continue;
      for (const { index } of own) {
        const value = this.values.get(`${kind} ${index}`) ?? 0;
        if (staticForm === 'packed' && kind === 'binary')
          out.uint8(1).uint8(1).uint8(0).uint8(index).uint8(index).uint8(value);
        else {
          out.uint8(group).uint8(VARIATIONS[kind][2]).uint8(0).uint8(index).uint8(index);
          octets(out, value, flags);
        }
      }
    }
  }

  // ---- answers

  private indications(): number {
    const { iinSet = 0, iinClear = 0, classBitsLag } = this.quirks;
    const under = classBitsLag ? new Set<number>() : (this.waiting?.numbers ?? new Set<number>());
    let iin = this.restarted ? 0x80 : 0;
    for (const event of this.queue)
      if (!under.has(event.number) && !this.unsolicited?.numbers.has(event.number)) iin |= 1 << event.class;
    if (this.overflowed) iin |= 0x800;
    return (iin | iinSet) & ~iinClear;
  }

  private respond(
    sequence: number,
    objects: Uint8Array,
    { first = true, final = true, confirm = false, iin = 0 } = {},
  ): void {
    const control = (first ? 0x80 : 0) | (final ? 0x40 : 0) | (confirm ? 0x20 : 0) | sequence;
    this.send(control, 129, objects, iin);
  }

  private send(control: number, code: number, objects: Uint8Array, iin = 0): Uint8Array {
    const all = this.indications() | iin;
    const octets = new Uint8Array([control, code, all & 0xff, all >>> 8, ...objects]);
    this.sendFragment(octets);
    return octets;
  }

  private sendUnasked(): void {
    const { unsolicited = 'never', unsolicitedRetryMs = 3000, perFragment } = this.quirks;
    if (unsolicited === 'never' || this.unsolicited !== null || this.waiting !== null) return;
    const classes = unsolicited === 'always' ? 7 : this.enabled;
    const events = this.sorted((event) => (classes & (1 << (event.class - 1))) !== 0).slice(0, perFragment?.() ?? 60);
    if (events.length === 0) return;
    if (!this.quirks.sequenceOfUnsolicitedStays) this.unsolicitedSequence = (this.unsolicitedSequence + 1) & 15;
    const sequence = this.unsolicitedSequence;
    const out = new ByteWriter();
    this.writeEvents(out, events);
    const numbers = new Set(events.map(({ number }) => number));
    const octets = this.send(0xf0 | sequence, 130, out.finish());
    this.unsolicited = { numbers, sequence, octets, again: this.now + unsolicitedRetryMs };
  }

  private sendFragment(octets: Uint8Array): void {
    const parts = segment(octets, this.transport);
    this.transport = (this.transport + parts.length) & 0x3f;
    for (let times = this.quirks.twice ? 2 : 1; times > 0; times--)
      for (const data of parts) this.sendFrame(4, data, true);
  }

  private sendFrame(functionCode: number, data: Uint8Array, primary: boolean): void {
    const { delayMs = 5, noise = [], dribbles, otherFrames = [], linkChatter } = this.quirks;
    const { ours, theirs } = this.addresses;
    const frame = (code: number, isPrimary: boolean, source: number, destination: number, of: Uint8Array): Uint8Array =>
      encodeLinkFrame({
        fromMaster: false,
        primary: isPrimary,
        countBit: false,
        countValid: false,
        functionCode: code,
        destination,
        source,
        data: of,
      });
    const at = this.now + delayMs;
    const push = (octets: Uint8Array): void => {
      if (dribbles) for (const octet of octets) this.output.push({ at, octets: Uint8Array.of(octet) });
      else this.output.push({ at, octets });
    };
    for (const { source, destination } of otherFrames) push(frame(11, false, source, destination, new Uint8Array(0)));
    if (linkChatter) push(frame(11, false, ours, theirs, new Uint8Array(0)));
    if (noise.length > 0) push(Uint8Array.from(noise));
    push(frame(functionCode, primary, ours, theirs, data));
    if (noise.length > 0) push(Uint8Array.from(noise));
  }
}
