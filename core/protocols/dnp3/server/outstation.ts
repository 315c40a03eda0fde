import { sameBytes } from '../../../bytes/index.ts';
import type { PointKind } from '../../../point/index.ts';
import type { Instant, Session } from '../../../session/index.ts';
import { encodeFragment, FunctionCode, Iin, IIN_CLASS_EVENTS, type Fragment } from '../wire/application.ts';
import { fillFragment, wantsOf, type Want } from './answer.ts';
import { classesNamed, classesToAssign, countersToFreeze } from './pointorders.ts';
import { Broadcast } from '../address.ts';
import { decodeFileObject, encodeFileObject, FileStatus } from '../files/file.ts';
import { FileShelf, type ShelfRules, type StoredFile } from '../files/fileshelf.ts';
import type { SettledPart } from '../../owed.ts';
import { deadbandsOf } from '../order.ts';
import { CounterSet } from '../counters.ts';
import { Endpoint, type ReceivedFragment } from '../wire/endpoint.ts';
import { EventBuffer, type BufferedEvent } from './eventbuffer.ts';
import { OutstationControls, type Asked, type ControlItem, type ControlPhase, type Selection } from './controls.ts';
import { Unsolicited } from './unsolicited.ts';
import { parseHeaders, writeCountHeader, type HeaderProblem, type ObjectHeader } from '../wire/header.ts';
import { ByteReader, ByteWriter } from '../../../bytes/index.ts';
import { Flag } from '../wire/objects.ts';
import { PointTable, type OutstationPoint, type PointState } from './pointtable.ts';
import type { OutstationSettings } from '../settings.ts';

/*
 * The outstation's side of one DNP3 conversation.
 *
 * answer      what happens                                  becomes      and then
 * ----------  --------------------------------------------  -----------  --------------------------------------------
 * any         a new request                                 none         it is carried out and answered
 * any         the last request again, not a read            as before    its answer again, once there is one
 * none        a read's answer with events, or more to come  confirm due  the fragment goes out
 * none        a control is handed out                       control      nothing until the owner's result
 * control     the result                                    none         the answer with the statuses
 * confirm due the confirm                                   none         its events are delivered; the next fragment
 * confirm due another confirm                               as before    counted
 * confirm due `confirmTimeoutMs`                            none         its events wait again
 *
 * unasked     what happens                                  becomes      and then
 * ----------  --------------------------------------------  -----------  --------------------------------------------
 * none        a connection                                  confirm due  an empty one, repeated until it is confirmed
 * none        events of enabled classes, no answer due      confirm due  they go out after `unsolicitedDelayMs`
 * confirm due its confirm                                   none         its events are delivered; a read that waits
 * confirm due a read                                        as before    the read waits
 * confirm due `confirmTimeoutMs`, tries left, no read       as before    the same octets again
 * confirm due `confirmTimeoutMs` otherwise                  none         its events wait for `unsolicitedRestMs`
 *
 * Rules:
 *  1. One answer at a time. A new request ends whatever went before it: events reported but not confirmed wait again,
 *     a control's result that is still awaited will not be sent.
 *  2. A request that repeats the one before, octet for octet, is not carried out again: its answer is sent again, or
 *     is still to come. A repeated read is read afresh.
 *  3. Events go out oldest first and stay in the buffer until their confirm. An answer of several fragments waits for
 *     the confirm of each one that carries events before the next is made.
 *  4. Controls are decided by the owner (`OutstationControls`).
 *  5. What is not known is answered with its indication: function code, object, parameter.
 *  6. With `unsolicited`, events go out unasked (`Unsolicited`). A read that comes while an unsolicited response waits
 *     for its confirm is answered when that wait has ended; every other request at once (IEEE 1815, clause 5.1.1.1.3).
 *     While an answer waits for its confirm, nothing goes out unasked.
 *  7. A broadcast is carried out, not answered, and indicated in the next answer.
 */

export interface PointUpdate {
  kind: PointKind;
  index: number;
  value: number;
  text?: string;
  flags: number;
  time: Instant;
  /** Makes an event of any change, however small against the deadband, but for one that the master has set. */
  exact?: boolean;
  /** Makes an event even of no change: a sample that is due. */
  always?: boolean;
}

export type OutstationCommand =
  /**
   * `quiet` sets values without making events; `shown`: they are to be read, and what was reported last stays what it was.
   */
  | { type: 'update'; updates: readonly PointUpdate[]; quiet?: boolean; shown?: boolean }
  /** Events that an earlier outstation reported, oldest first, confirmed or not: what was told last. */
  | { type: 'toldBefore'; events: readonly BufferedEvent[] }
  /** Events that an earlier outstation still owed; `last`: that is all of them. */
  | { type: 'owed'; events: readonly BufferedEvent[]; last: boolean }
  | { type: 'controlResult'; token: number; statuses: readonly number[] }
  /** An output was given a command, by whomever: reported as an event where its `commandClass` says so. */
  | { type: 'commandGiven'; kind: 'output' | 'setpoint'; index: number; value: number; status: number; time: Instant }
  /** Takes over another list; points that stay keep their value and their events. */
  | { type: 'setPoints'; points: readonly OutstationPoint[] }
  | { type: 'setLocal'; local: boolean }
  /** Other values of settings. */
  | { type: 'setSettings'; settings: object }
  /** Nothing is answered or sent any more; confirms of what has gone out are still taken. */
  | { type: 'rest' }
  /** How far the device's own clock is ahead of the time that the session is given. */
  | { type: 'setClock'; offsetMs: number }
  /** The files that it has to give. */
  | { type: 'setFiles'; files: readonly StoredFile[]; rules?: ShelfRules }
  | { type: 'restarted' }
  | { type: 'resetCounters' };

export type OutstationEffect =
  | { type: 'send'; octets: Uint8Array }
  | { type: 'control'; token: number; phase: ControlPhase; items: ControlItem[] }
  | { type: 'reported'; events: BufferedEvent[] }
  | { type: 'delivered'; events: BufferedEvent[] }
  /** The master has read the present values of all points. */
  | { type: 'integrityAnswered' }
  | { type: 'event'; event: BufferedEvent }
  /** Events of a class are done with: all up to the position, and these beyond it. */
  | ({ type: 'settled'; class: 1 | 2 | 3 } & SettledPart)
  | { type: 'overflowed'; overflowed: boolean }
  /** It is that time now. */
  | { type: 'timeWritten'; time: Instant }
  /** Counters were frozen; these begin at zero again. */
  | { type: 'countersCleared'; indexes: readonly number[] }
  | { type: 'restartAsked'; how: 'cold' | 'warm'; at: Instant }
  /** The master had a file removed. */
  | { type: 'fileDeleted'; name: string }
  | { type: 'heard' }
  | { type: 'diagnostic'; words: string };

const NO_OBJECTS = new Uint8Array(0);
const NOTHING_BEFORE = { lastNumber: 0, owes: false, overflowed: false };

export class Outstation implements Session<OutstationCommand, OutstationEffect> {
  readonly settings: OutstationSettings;
  readonly counters: CounterSet;
  readonly events: EventBuffer;
  private readonly endpoint: Endpoint;
  private readonly points: PointTable;
  private effects: OutstationEffect[] = [];
  private restarted = true;
  private needsTime: boolean;
  private local = false;
  private lastRequest: Uint8Array | null = null;
  private lastAnswer: Uint8Array | null = null;
  /** An answer under way: what it still wants to carry, and the confirm it waits for. */
  private answering: { wants: Want[]; sequence: number; iin: number } | null = null;
  private confirmDue: { sequence: number; deadline: Instant } | null = null;
  private readonly controls: OutstationControls;
  private readonly unsolicited: Unsolicited;
  private connected = false;
  /** What is carried out now is not answered. */
  private silently = false;
  private readonly files = new FileShelf();
  private wasOverflowed = false;
  private resting = false;
  private clockOffsetMs = 0;
  private recordedAt: Instant | null = null;
  private broadcastHeard: number | null = null;
  /** A read that waits until an unsolicited response is confirmed or given up. */
  private deferred: Fragment | null = null;

  constructor(
    settings: OutstationSettings,
    points: readonly OutstationPoint[],
    now: Instant,
    /** What an earlier one has left. */
    before: { lastNumber: number; owes: boolean; overflowed: boolean } = NOTHING_BEFORE,
  ) {
    // Its own: all its parts look at the same, and some of it changes while it runs.
    this.settings = { ...settings };
    this.counters = new CounterSet(now);
    this.points = new PointTable(points, Flag.restart);
    this.events = new EventBuffer(settings.eventsPerClass, before);
    this.events.overflowed = this.wasOverflowed = before.overflowed;
    this.needsTime = settings.takesTime;
    this.controls = new OutstationControls(this.settings, this.points);
    const { ourAddress, theirAddress, maxFragment, linkConfirm, linkTimeoutMs, linkRetries } = settings;
    this.endpoint = new Endpoint({
      role: 'outstation',
      ...(linkConfirm ? { linkService: { timeoutMs: linkTimeoutMs, retries: linkRetries } } : {}),
      ourAddress,
      theirAddress,
      maxFragment,
      counters: this.counters,
      selfAddress: settings.selfAddress,
    });
    const { counters, events } = this;
    this.unsolicited = new Unsolicited({
      ...{ settings: this.settings, events, counters },
      indications: () => this.indications(),
      send: (octets, at) => this.endpoint.sendFragment(octets, at),
      reported: (reported) => this.effects.push({ type: 'reported', events: reported }),
    });
  }

  point(kind: PointKind, index: number): PointState | undefined {
    return this.points.get(kind, index);
  }

  ofKind(kind: PointKind): readonly PointState[] {
    return this.points.ofKind(kind);
  }

  start(now: Instant): void {
    this.connected = true;
    this.endpoint.reset();
    this.forgetConversation();
    this.unsolicited.start(now);
    this.considerUnsolicited(now);
  }

  stop(_now: Instant): void {
    this.connected = false;
    this.forgetConversation();
  }

  private forgetConversation(): void {
    this.lastRequest = null;
    this.lastAnswer = null;
    this.controls.forget();
    this.deferred = null;
    this.files.reset();
    this.unsolicited.forget();
    this.dropAnswer();
  }

  private dropAnswer(): void {
    if (this.confirmDue !== null) this.events.unmark();
    this.confirmDue = null;
    this.answering = null;
  }

  receive(bytes: Uint8Array, now: Instant): void {
    const heard = (): void => void (this.effects.at(-1)?.type === 'heard' || this.effects.push({ type: 'heard' }));
    for (const received of this.endpoint.receive(bytes, now, heard)) this.onFragment(received, now);
    this.considerUnsolicited(now);
  }

  command(command: OutstationCommand, now: Instant): void {
    switch (command.type) {
      case 'update':
        for (const update of command.updates) {
          if (command.shown) this.show(update);
          else this.update(update, command.quiet ?? false, now);
        }
        break;
      case 'toldBefore':
        for (const event of command.events) this.toldBefore(event);
        break;
      case 'owed': {
        const { dropped } = this.events;
        // What is not reported any more, or somewhere else, is owed to nobody.
        const isOffered = ({ kind, index }: BufferedEvent): boolean => this.points.get(kind, index) !== undefined;
        this.events.discard(command.events.filter((event) => !isOffered(event)));
        this.events.fill(command.events.filter(isOffered), command.last);
        this.counters.add('eventsDropped', this.events.dropped - dropped);
        break;
      }
      case 'controlResult':
        this.onControlResult(command.token, command.statuses, now);
        break;
      case 'commandGiven':
        this.onCommandGiven(command, now);
        break;
      case 'setPoints':
        this.points.replace(command.points);
        this.events.keepOnly((event) => this.points.get(event.kind, event.index) !== undefined);
        break;
      case 'setSettings':
        Object.assign(this.settings, command.settings);
        break;
      case 'rest':
        this.resting = true;
        this.answering = null;
        break;
      case 'setLocal':
        this.local = command.local;
        break;
      case 'setFiles':
        this.files.set(command.files, command.rules);
        break;
      case 'setClock':
        this.clockOffsetMs = command.offsetMs;
        break;
      case 'restarted':
        this.restarted = true;
        this.needsTime = this.settings.takesTime;
        this.unsolicited.restarted();
        if (this.connected) this.unsolicited.start(now);
        break;
      case 'resetCounters':
        this.counters.reset(now);
        break;
      default:
        command satisfies never;
    }
    this.considerUnsolicited(now);
  }

  wake(now: Instant): void {
    this.endpoint.wake(now);
    if (this.confirmDue !== null && now >= this.confirmDue.deadline) {
      this.counters.add('timeouts');
      this.dropAnswer();
    }
    if (this.unsolicited.wake(this.deferred !== null, now)) this.answerDeferred(now);
    this.considerUnsolicited(now);
  }

  /** Events have gone out whose confirm is still to come. */
  get awaits(): boolean {
    return this.connected && (this.confirmDue !== null || this.unsolicited.isPending);
  }

  get deadline(): Instant | null {
    const unsolicited = this.unsolicited.deadline(this.confirmDue === null);
    const times = [this.confirmDue?.deadline, unsolicited, this.endpoint.deadline].flatMap((at) => at ?? []);
    return times.length > 0 ? Math.min(...times) : null;
  }

  /** What goes out unasked does so when nothing else is under way. */
  private considerUnsolicited(now: Instant): void {
    if (this.resting) return;
    if (this.connected && this.confirmDue === null && !this.controls.isPending) this.unsolicited.consider(now);
  }

  private onUnsolicitedConfirm(sequence: number, now: Instant): void {
    if (!this.unsolicited.confirmed(sequence)) {
      this.counters.add('unexpectedFragments');
      return;
    }
    this.counters.add('confirmsReceived');
    this.confirmed();
    this.answerDeferred(now);
  }

  private confirmed(): void {
    if (this.broadcastHeard === Broadcast.confirm) this.broadcastHeard = null;
    const events = this.events.confirm();
    if (events.length > 0) this.effects.push({ type: 'delivered', events });
  }

  private answerDeferred(now: Instant): void {
    const { deferred } = this;
    this.deferred = null;
    if (deferred !== null && !this.resting) this.onNewRequest(deferred, now);
  }

  take(): OutstationEffect[] {
    const octets = this.endpoint.takeOutput();
    if (octets !== null && this.connected) this.effects.push({ type: 'send', octets });
    for (const settled of this.events.takeSettled()) this.effects.push({ type: 'settled', ...settled });
    const { overflowed } = this.events;
    if (overflowed !== this.wasOverflowed) this.effects.push({ type: 'overflowed', overflowed });
    this.wasOverflowed = overflowed;
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  // ---- values

  /** Takes a present value over; null: there is no such point. */
  private show({ kind, index, value, flags, time, text = '' }: PointUpdate): PointState | null {
    const point = this.points.get(kind, index);
    if (point === undefined) return null;
    // What no fragment could carry would wait for ever.
    point.text = text.slice(0, this.settings.maxFragment - TEXT_OVERHEAD);
    point.value = value;
    point.flags = flags;
    point.time = time;
    return point;
  }

  private toldBefore({ kind, index, value, flags, text = '', status }: BufferedEvent): void {
    const point = status === undefined ? this.points.get(kind, index) : undefined;
    if (point === undefined) return;
    [point.reportedValue, point.reportedFlags, point.reportedText] = [value, flags, text];
  }

  private update(update: PointUpdate, quiet: boolean, now: Instant): void {
    const point = this.show(update);
    if (point === null) return;
    const { kind, index, value, flags, time, exact, always } = update;
    const { text } = point;
    const change = Math.abs(value - point.reportedValue);
    const changed =
      text !== point.reportedText || (change > 0 && ((exact && !point.deadbandSet) || change >= point.deadband));
    // A text has no flags on the wire.
    const flagged = kind !== 'text' && flags !== point.reportedFlags;
    if (!always && !flagged && !changed) return;
    point.reportedValue = value;
    point.reportedText = text;
    point.reportedFlags = flags;
    if (quiet || point.class === 0) return;
    const variation = point.eventVariation;
    const event = { kind, index, class: point.class, value, flags, time, variation };
    this.addEvent(kind === 'text' ? { ...event, text } : event, now);
  }

  private onCommandGiven(given: OutstationCommand & { type: 'commandGiven' }, now: Instant): void {
    const { type: _, ...command } = given;
    const point = this.points.get(command.kind, command.index);
    if (!point?.commandClass) return;
    // The variations of g43 are laid out like those of g42; g13v2 has a time, as g11v2 has.
    this.addEvent({ ...command, flags: 0, class: point.commandClass, variation: point.eventVariation }, now);
  }

  private addEvent(given: Omit<BufferedEvent, 'number'>, now: Instant): void {
    const dropped = this.events.dropped;
    const event = this.events.add(given, now);
    this.counters.add('events');
    this.counters.add('eventsDropped', this.events.dropped - dropped);
    this.effects.push({ type: 'event', event });
  }

  /** Internal indications as they stand. */
  private indications(): number {
    let iin = 0;
    for (const n of [1, 2, 3] as const) if (this.events.hasWaiting(n)) iin |= IIN_CLASS_EVENTS[n];
    if (this.needsTime) iin |= Iin.needTime;
    if (this.local) iin |= Iin.localControl;
    if (this.restarted) iin |= Iin.deviceRestart;
    if (this.events.overflowed) iin |= Iin.eventBufferOverflow;
    if (this.broadcastHeard !== null) iin |= Iin.broadcast;
    return iin;
  }

  // ---- requests

  private onFragment({ fragment, broadcast }: ReceivedFragment, now: Instant): void {
    const { control, functionCode } = fragment;
    if (fragment.iin !== null || (control.unsolicited && functionCode !== FunctionCode.confirm)) {
      this.counters.add('unexpectedFragments');
      return;
    }
    if (functionCode === FunctionCode.confirm) {
      if (control.unsolicited) this.onUnsolicitedConfirm(control.sequence, now);
      else this.onConfirm(control.sequence, now);
      return;
    }
    if (this.resting) return;
    if (!control.first || !control.final) {
      this.counters.add('malformedFragments');
      return;
    }
    this.counters.add('requests');
    if (broadcast !== undefined) {
      this.onBroadcast(fragment, broadcast, now);
      return;
    }
    const repeated = this.lastRequest !== null && sameBytes(this.lastRequest, fragment.octets);
    if (repeated && functionCode !== FunctionCode.read) {
      this.counters.add('repeatedRequests');
      if (this.lastAnswer !== null) this.endpoint.sendFragment(this.lastAnswer, now);
      return;
    }
    if (functionCode === FunctionCode.read && this.unsolicited.isPending) {
      this.deferred = fragment;
      return;
    }
    this.deferred = null;
    this.onNewRequest(fragment, now);
  }

  private onNewRequest(fragment: Fragment, now: Instant): void {
    this.lastRequest = fragment.octets;
    this.lastAnswer = null;
    const selection = this.controls.newRequest();
    this.dropAnswer();
    this.onRequest(fragment, selection, now);
  }

  /** What may be asked of all outstations at once is carried out; nothing is answered. */
  private onBroadcast(fragment: Fragment, address: number, now: Instant): void {
    this.broadcastHeard = address;
    if (!BROADCAST_FUNCTIONS.includes(fragment.functionCode)) return;
    this.silently = true;
    this.onRequest(fragment, null, now);
    this.silently = false;
  }

  private onRequest(fragment: Fragment, selection: Selection | null, now: Instant): void {
    const { sequence } = fragment.control;
    switch (fragment.functionCode) {
      case FunctionCode.read:
        if (fragment.octets[fragment.objectsAt] === FILE_GROUP) return this.onFile(fragment, now);
        return this.onRead(fragment, now);
      case FunctionCode.openFile:
      case FunctionCode.closeFile:
      case FunctionCode.deleteFile:
      case FunctionCode.authenticateFile:
      case FunctionCode.getFileInformation:
        return this.onFile(fragment, now);
      case FunctionCode.write:
        return this.onWrite(fragment, now);
      case FunctionCode.select:
      case FunctionCode.operate:
      case FunctionCode.directOperate:
      case FunctionCode.directOperateNoAck:
        return this.onControl(fragment, selection, now);
      case FunctionCode.immediateFreeze:
      case FunctionCode.freezeAndClear:
        return this.answer(sequence, this.freeze(fragment, now), now);
      case FunctionCode.immediateFreezeNoAck:
      case FunctionCode.freezeAndClearNoAck:
        this.freeze(fragment, now);
        return;
      case FunctionCode.coldRestart:
      case FunctionCode.warmRestart:
        return this.onRestart(fragment, now);
      case FunctionCode.enableUnsolicited:
      case FunctionCode.disableUnsolicited:
        return this.answer(sequence, this.enableUnsolicited(fragment), now);
      case FunctionCode.assignClass:
        return this.answer(sequence, this.assignClass(fragment), now);
      case FunctionCode.delayMeasurement: {
        const out = new ByteWriter();
        writeCountHeader(out, 52, 2, 1);
        return this.answer(sequence, 0, now, out.uint16(0).finish());
      }
      case FunctionCode.recordCurrentTime:
        this.recordedAt = now;
        return this.answer(sequence, 0, now);
      default:
        this.counters.add('unsupported');
        this.effects.push({ type: 'diagnostic', words: `function code ${fragment.functionCode} is not supported` });
        this.answer(sequence, Iin.functionNotSupported, now);
    }
  }

  private answer(sequence: number, iin: number, now: Instant, objects: Uint8Array = NO_OBJECTS): void {
    if (this.silently) return;
    const confirm = this.broadcastHeard === Broadcast.confirm;
    const control = { first: true, final: true, confirm, unsolicited: false, sequence };
    const octets = encodeFragment(control, FunctionCode.response, this.indications() | iin, objects);
    this.lastAnswer = octets;
    this.counters.add('responses');
    if (confirm) this.confirmDue = { sequence, deadline: now + this.settings.confirmTimeoutMs };
    else this.broadcastHeard = null;
    this.endpoint.sendFragment(octets, now);
  }

  private onFile(fragment: Fragment, now: Instant): void {
    const { sequence } = fragment.control;
    if (!this.files.isOffered) return this.answer(sequence, Iin.functionNotSupported, now);
    const decoded = decodeFileObject(fragment.octets, fragment.objectsAt);
    if (!decoded.ok) return this.answer(sequence, Iin.parameterError, now);
    const room = this.settings.maxFragment - FILE_OVERHEAD;
    const object = this.files.answer(fragment.functionCode, decoded.value, room);
    if (object === null) return this.answer(sequence, Iin.objectUnknown, now);
    const { value } = decoded;
    const deletes = fragment.functionCode === FunctionCode.deleteFile && value.variation === 3;
    if (deletes && object.variation === 4 && object.status === FileStatus.success)
      this.effects.push({ type: 'fileDeleted', name: value.name });
    this.answer(sequence, 0, now, encodeFileObject(object));
  }

  /** Counters as they stand become the frozen ones of the same index (IEEE 1815, clause 4.4.6). Returns indications. */
  private freeze(fragment: Fragment, now: Instant): number {
    const { frozen, clears, problem, iin } = countersToFreeze(fragment, this.points);
    for (const { index, value, flags } of frozen)
      this.update({ kind: 'frozenCounter', index, value, flags, time: now, always: true }, false, now);
    if (clears) {
      for (const { index, flags } of frozen)
        this.update({ kind: 'counter', index, value: 0, flags, time: now }, false, now);
      if (frozen.length > 0) this.effects.push({ type: 'countersCleared', indexes: frozen.map(({ index }) => index) });
    }
    return iin | this.problemIndication(problem);
  }

  private onRestart(fragment: Fragment, now: Instant): void {
    const { restartsInMs } = this.settings;
    if (restartsInMs === null) {
      this.answer(fragment.control.sequence, Iin.functionNotSupported, now);
      return;
    }
    const out = new ByteWriter();
    writeCountHeader(out, 52, 2, 1);
    this.answer(fragment.control.sequence, 0, now, out.uint16(restartsInMs).finish());
    const how = fragment.functionCode === FunctionCode.coldRestart ? 'cold' : 'warm';
    this.effects.push({ type: 'restartAsked', how, at: now });
  }

  private enableUnsolicited(fragment: Fragment): number {
    const enable = fragment.functionCode === FunctionCode.enableUnsolicited;
    if (enable && !this.settings.unsolicited) return Iin.functionNotSupported;
    const { bits, problem, iin } = classesNamed(fragment);
    const { unsolicited } = this;
    unsolicited.classes = enable ? unsolicited.classes | bits : unsolicited.classes & ~bits;
    return iin | this.problemIndication(problem);
  }

  private assignClass(fragment: Fragment): number {
    const { assigned, problem, iin } = classesToAssign(fragment, this.points);
    for (const { point, eventClass } of assigned) point.class = eventClass;
    return iin | this.problemIndication(problem);
  }

  private onRead(fragment: Fragment, now: Instant): void {
    const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, false);
    const { wants, iin } = wantsOf(
      headers,
      this.points,
      () => this.indications(),
      this.settings.attributes,
      now + this.clockOffsetMs,
    );
    if (this.silently) return;
    this.answering = { wants, sequence: fragment.control.sequence, iin: iin | this.problemIndication(problem) };
    this.sendNextFragment(true, now);
    if (headers.some((h) => h.type?.what === 'class' && h.variation === 1))
      this.effects.push({ type: 'integrityAnswered' });
  }

  private problemIndication(problem: HeaderProblem | null): number {
    if (problem === null) return 0;
    this.effects.push({ type: 'diagnostic', words: `request refused: ${problem.words}` });
    this.counters.add(problem.kind === 'truncated' ? 'malformedFragments' : 'unsupported');
    return problem.kind === 'objectUnknown' ? Iin.objectUnknown : Iin.parameterError;
  }

  private sendNextFragment(first: boolean, now: Instant): void {
    for (let isFirst = first; this.answering !== null && this.confirmDue === null; isFirst = false) {
      const { wants, sequence, iin } = this.answering;
      const { objects, events } = fillFragment(wants, this.events, this.settings.maxFragment - 4);
      const reported = this.events.markReported(new Set(events));
      const final = wants.length === 0;
      const confirm = events.length > 0 || !final || this.broadcastHeard === Broadcast.confirm;
      const control = { first: isFirst, final, confirm, unsolicited: false, sequence };
      const octets = encodeFragment(control, FunctionCode.response, this.indications() | iin, objects);
      this.endpoint.sendFragment(octets, now);
      if (this.broadcastHeard !== Broadcast.confirm) this.broadcastHeard = null;
      this.counters.add('responses');
      if (reported.length > 0) this.effects.push({ type: 'reported', events: reported });
      if (confirm) this.confirmDue = { sequence, deadline: now + this.settings.confirmTimeoutMs };
      this.answering = final ? null : { wants, sequence: (sequence + 1) & 0x0f, iin };
    }
  }

  private onConfirm(sequence: number, now: Instant): void {
    if (this.confirmDue?.sequence !== sequence) {
      this.counters.add('unexpectedFragments');
      return;
    }
    this.counters.add('confirmsReceived');
    this.confirmDue = null;
    this.confirmed();
    this.sendNextFragment(false, now);
  }

  private onWrite(fragment: Fragment, now: Instant): void {
    const texts = this.controls.write(fragment);
    if (texts !== null) return this.onAsked(texts, fragment.control.sequence, now);
    const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, true);
    let iin = this.problemIndication(problem);
    if (headers.length === 0 && problem === null) iin |= Iin.parameterError;
    for (const header of headers) iin |= this.writeObjects(header, fragment, now);
    this.answer(fragment.control.sequence, iin, now);
  }

  private writeObjects(header: ObjectHeader, fragment: Fragment, now: Instant): number {
    const { octets } = fragment;
    if (header.type?.what === 'indications') {
      for (const { index, at, bit } of header.items) {
        if (index !== 7 || (octets[at] >>> bit) & 1) return Iin.parameterError;
        this.restarted = false;
      }
      return 0;
    }
    if (header.type?.what === 'time' && header.items.length === 1) {
      const written = new ByteReader(octets, header.items[0].at).uint48();
      // Variation 3 is the time at the moment that was recorded.
      if (header.variation === 3 && this.recordedAt === null) return Iin.parameterError;
      const time = header.variation === 3 ? written + now - (this.recordedAt ?? now) : written;
      this.recordedAt = null;
      this.needsTime = false;
      this.effects.push({ type: 'timeWritten', time });
      return 0;
    }
    if (header.type?.what === 'deadband') {
      let iin = 0;
      for (const { index, value } of deadbandsOf(header, fragment)) {
        const point = this.points.get('analog', index);
        if (point === undefined || !(value >= 0)) iin |= Iin.parameterError;
        else Object.assign(point, { deadband: value, deadbandSet: true });
      }
      return iin;
    }
    return header.type?.what === 'time' ? Iin.parameterError : Iin.objectUnknown;
  }

  // ---- controls

  private onControl(fragment: Fragment, selection: Selection | null, now: Instant): void {
    this.onAsked(this.controls.ask(fragment, selection, now), fragment.control.sequence, now);
  }

  private onAsked(asked: Asked, sequence: number, now: Instant): void {
    switch (asked.what) {
      case 'refused': {
        const iin = asked.iin | this.problemIndication(asked.problem);
        if (asked.answer) this.answer(sequence, iin, now);
        break;
      }
      case 'decided':
        this.onControlResult(asked.token, [], now);
        break;
      case 'handedOut':
        this.effects.push({ type: 'control', token: asked.token, phase: asked.phase, items: asked.items });
        break;
      default:
        asked satisfies never;
    }
  }

  private onControlResult(token: number, results: readonly number[], now: Instant): void {
    const answer = this.controls.result(token, results, now);
    if (answer !== null) this.answer(answer.sequence, answer.iin, now, answer.objects);
  }
}

const FILE_GROUP = 70;
/** Octets of a fragment beside a text: headers of response and object, index. */
const TEXT_OVERHEAD = 4 + 7 + 2;
/** Octets of an answer with a block of a file, beside the block. */
const FILE_OVERHEAD = 4 + 6 + 8;
/** What makes sense for all outstations at once. */
const BROADCAST_FUNCTIONS: readonly number[] = [
  FunctionCode.write,
  FunctionCode.directOperateNoAck,
  FunctionCode.immediateFreezeNoAck,
  FunctionCode.freezeAndClearNoAck,
  FunctionCode.immediateFreeze,
  FunctionCode.freezeAndClear,
  FunctionCode.coldRestart,
  FunctionCode.warmRestart,
  FunctionCode.enableUnsolicited,
  FunctionCode.disableUnsolicited,
  FunctionCode.recordCurrentTime,
];
