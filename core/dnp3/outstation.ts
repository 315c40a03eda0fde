import { sameBytes } from '../bytes/index.ts';
import type { PointKind } from '../point/index.ts';
import type { Instant, Session } from '../session/index.ts';
import { encodeFragment, FunctionCode, Iin, IIN_CLASS_EVENTS, type Fragment } from './application.ts';
import { fillFragment, wantsOf, type Want } from './answer.ts';
import { ControlStatus, CONTROL_BLOCK_OCTETS, readControlBlock, type ControlBlock } from './control.ts';
import { CounterSet } from './counters.ts';
import { Endpoint, type ReceivedFragment } from './endpoint.ts';
import { EventBuffer, type BufferedEvent } from './eventbuffer.ts';
import { parseHeaders, Qualifier, writeCountHeader, type HeaderProblem, type ObjectHeader } from './header.ts';
import { ByteReader, ByteWriter } from '../bytes/index.ts';
import { Flag } from './objects.ts';
import { PointTable, type OutstationPoint, type PointState } from './pointtable.ts';
import type { OutstationSettings } from './settings.ts';

/*
 * The outstation's side of one DNP3 conversation.
 *
 * Rules:
 *  1. One answer at a time. A new request ends whatever went before it: events reported but not confirmed wait again,
 *     a control's result that is still awaited will not be sent.
 *  2. A request that repeats the one before, octet for octet, is not carried out again: its answer is sent again, or
 *     is still to come. A repeated read is read afresh.
 *  3. Events go out oldest first and stay in the buffer until their confirm. An answer of several fragments waits for
 *     the confirm of each one that carries events before the next is made.
 *  4. Controls are decided by the owner: select, operate and direct operate are handed out, and the answer is made
 *     when the owner says how each ended. An operate needs a select with the same octets, the sequence number before
 *     it, and no other request in between, within the select time-out.
 *  5. What is not known is answered with its indication: function code, object, parameter.
 */

export interface PointUpdate {
  kind: PointKind;
  index: number;
  value: number;
  flags: number;
  time: Instant;
  /** Makes an event of any change, however small against the deadband. */
  exact?: boolean;
}

export type OutstationCommand =
  /** `quiet` sets values without making events. */
  | { type: 'update'; updates: readonly PointUpdate[]; quiet?: boolean }
  | { type: 'controlResult'; token: number; statuses: readonly number[] }
  /** Takes over another list; points that stay keep their value and their events. */
  | { type: 'setPoints'; points: readonly OutstationPoint[] }
  | { type: 'setLocal'; local: boolean }
  | { type: 'restarted' }
  | { type: 'resetCounters' };

export interface ControlItem {
  index: number;
  block: ControlBlock;
}

export type OutstationEffect =
  | { type: 'send'; octets: Uint8Array }
  | { type: 'control'; token: number; phase: 'select' | 'operate' | 'direct'; items: ControlItem[] }
  | { type: 'reported'; events: BufferedEvent[] }
  | { type: 'delivered'; events: BufferedEvent[] }
  /** The master has read the present values of all points. */
  | { type: 'integrityAnswered' }
  | { type: 'event'; event: BufferedEvent }
  | { type: 'timeWritten'; time: Instant }
  | { type: 'heard' }
  | { type: 'diagnostic'; words: string };

interface PendingControl {
  token: number;
  sequence: number;
  phase: 'select' | 'operate' | 'direct';
  /** The objects of the request, to be returned with the statuses. */
  objects: Uint8Array;
  statusAt: number[];
  statuses: (number | null)[];
  answer: boolean;
}

const NO_OBJECTS = new Uint8Array(0);

export class Outstation implements Session<OutstationCommand, OutstationEffect> {
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
  private selection: { objects: Uint8Array; sequence: number; until: Instant } | null = null;
  private pendingControl: PendingControl | null = null;
  private token = 0;
  private connected = false;

  constructor(
    readonly settings: OutstationSettings,
    points: readonly OutstationPoint[],
    now: Instant,
  ) {
    this.counters = new CounterSet(now);
    this.points = new PointTable(points, Flag.restart);
    this.events = new EventBuffer(settings.eventsPerClass);
    this.needsTime = settings.takesTime;
    const { ourAddress, theirAddress, maxFragment } = settings;
    this.endpoint = new Endpoint({
      role: 'outstation',
      ourAddress,
      theirAddress,
      maxFragment,
      counters: this.counters,
    });
  }

  point(kind: PointKind, index: number): PointState | undefined {
    return this.points.get(kind, index);
  }

  ofKind(kind: PointKind): readonly PointState[] {
    return this.points.ofKind(kind);
  }

  start(_now: Instant): void {
    this.connected = true;
    this.endpoint.reset();
    this.forgetConversation();
  }

  stop(_now: Instant): void {
    this.connected = false;
    this.forgetConversation();
  }

  private forgetConversation(): void {
    this.lastRequest = null;
    this.lastAnswer = null;
    this.selection = null;
    this.pendingControl = null;
    this.dropAnswer();
  }

  private dropAnswer(): void {
    if (this.confirmDue !== null) this.events.unmark();
    this.confirmDue = null;
    this.answering = null;
  }

  receive(bytes: Uint8Array, now: Instant): void {
    const heard = (): void => void (this.effects.at(-1)?.type === 'heard' || this.effects.push({ type: 'heard' }));
    for (const received of this.endpoint.receive(bytes, heard)) this.onFragment(received, now);
  }

  command(command: OutstationCommand, now: Instant): void {
    switch (command.type) {
      case 'update':
        for (const update of command.updates) this.update(update, command.quiet ?? false);
        break;
      case 'controlResult':
        this.onControlResult(command.token, command.statuses, now);
        break;
      case 'setPoints':
        this.points.replace(command.points);
        this.events.keepOnly((event) => this.points.get(event.kind, event.index) !== undefined);
        break;
      case 'setLocal':
        this.local = command.local;
        break;
      case 'restarted':
        this.restarted = true;
        this.needsTime = this.settings.takesTime;
        break;
      case 'resetCounters':
        this.counters.reset(now);
        break;
      default:
        command satisfies never;
    }
  }

  wake(now: Instant): void {
    if (this.confirmDue === null || now < this.confirmDue.deadline) return;
    this.counters.add('timeouts');
    this.dropAnswer();
  }

  get deadline(): Instant | null {
    return this.confirmDue?.deadline ?? null;
  }

  take(): OutstationEffect[] {
    const octets = this.endpoint.takeOutput();
    if (octets !== null && this.connected) this.effects.push({ type: 'send', octets });
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  // ---- values

  private update({ kind, index, value, flags, time, exact }: PointUpdate, quiet: boolean): void {
    const point = this.points.get(kind, index);
    if (point === undefined) return;
    point.value = value;
    point.flags = flags;
    point.time = time;
    const change = Math.abs(value - point.reportedValue);
    const matters = flags !== point.reportedFlags || (change > 0 && (exact || change >= point.deadband));
    if (!matters) return;
    point.reportedValue = value;
    point.reportedFlags = flags;
    if (quiet || point.class === 0) return;
    const dropped = this.events.dropped;
    const event = this.events.add({
      kind,
      index,
      class: point.class,
      value,
      flags,
      time,
      variation: point.eventVariation,
    });
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
    return iin;
  }

  // ---- requests

  private onFragment({ fragment }: ReceivedFragment, now: Instant): void {
    const { control, functionCode } = fragment;
    if (fragment.iin !== null || control.unsolicited) {
      this.counters.add('unexpectedFragments');
      return;
    }
    if (functionCode === FunctionCode.confirm) {
      this.onConfirm(control.sequence, now);
      return;
    }
    if (!control.first || !control.final) {
      this.counters.add('malformedFragments');
      return;
    }
    this.counters.add('requests');
    const repeated = this.lastRequest !== null && sameBytes(this.lastRequest, fragment.octets);
    if (repeated && functionCode !== FunctionCode.read) {
      this.counters.add('repeatedRequests');
      if (this.lastAnswer !== null) this.endpoint.sendFragment(this.lastAnswer);
      return;
    }
    this.lastRequest = fragment.octets;
    this.lastAnswer = null;
    this.pendingControl = null;
    this.dropAnswer();
    const { selection } = this;
    this.selection = null;
    this.onRequest(fragment, selection, now);
  }

  private onRequest(fragment: Fragment, selection: Outstation['selection'], now: Instant): void {
    switch (fragment.functionCode) {
      case FunctionCode.read:
        return this.onRead(fragment, now);
      case FunctionCode.write:
        return this.onWrite(fragment);
      case FunctionCode.select:
        return this.onControl(fragment, 'select', now);
      case FunctionCode.operate:
        return this.onOperate(fragment, selection, now);
      case FunctionCode.directOperate:
      case FunctionCode.directOperateNoAck:
        return this.onControl(fragment, 'direct', now);
      case FunctionCode.disableUnsolicited:
        return this.answer(fragment.control.sequence, 0);
      case FunctionCode.delayMeasurement: {
        const out = new ByteWriter();
        writeCountHeader(out, 52, 2, 1);
        return this.answer(fragment.control.sequence, 0, out.uint16(0).finish());
      }
      default:
        this.counters.add('unsupported');
        this.effects.push({ type: 'diagnostic', words: `function code ${fragment.functionCode} is not supported` });
        this.answer(fragment.control.sequence, Iin.functionNotSupported);
    }
  }

  private answer(sequence: number, iin: number, objects: Uint8Array = NO_OBJECTS): void {
    const control = { first: true, final: true, confirm: false, unsolicited: false, sequence };
    const octets = encodeFragment(control, FunctionCode.response, this.indications() | iin, objects);
    this.lastAnswer = octets;
    this.counters.add('responses');
    this.endpoint.sendFragment(octets);
  }

  private onRead(fragment: Fragment, now: Instant): void {
    const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, false);
    const { wants, iin } = wantsOf(headers, this.points, () => this.indications(), this.settings.attributes, now);
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
      const numbers = new Set(events);
      const reported = [...this.events.waiting((event) => numbers.has(event.number))];
      this.events.markReported(numbers);
      const final = wants.length === 0;
      const confirm = events.length > 0 || !final;
      const control = { first: isFirst, final, confirm, unsolicited: false, sequence };
      this.endpoint.sendFragment(encodeFragment(control, FunctionCode.response, this.indications() | iin, objects));
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
    const events = this.events.confirm();
    if (events.length > 0) this.effects.push({ type: 'delivered', events });
    this.sendNextFragment(false, now);
  }

  private onWrite(fragment: Fragment): void {
    const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, true);
    let iin = this.problemIndication(problem);
    if (headers.length === 0 && problem === null) iin |= Iin.parameterError;
    for (const header of headers) iin |= this.writeObjects(header, fragment.octets);
    this.answer(fragment.control.sequence, iin);
  }

  private writeObjects(header: ObjectHeader, octets: Uint8Array): number {
    if (header.type?.what === 'indications') {
      for (const { index, at, bit } of header.items) {
        if (index !== 7 || (octets[at] >>> bit) & 1) return Iin.parameterError;
        this.restarted = false;
      }
      return 0;
    }
    if (header.type?.what === 'time' && header.items.length === 1) {
      const time = new ByteReader(octets, header.items[0].at).uint48();
      this.needsTime = false;
      this.effects.push({ type: 'timeWritten', time });
      return 0;
    }
    return header.type?.what === 'time' ? Iin.parameterError : Iin.objectUnknown;
  }

  // ---- controls

  private onOperate(fragment: Fragment, selection: Outstation['selection'], now: Instant): void {
    const objects = fragment.octets.subarray(fragment.objectsAt);
    const matches =
      selection !== null &&
      sameBytes(selection.objects, objects) &&
      fragment.control.sequence === ((selection.sequence + 1) & 0x0f);
    if (matches && now <= selection.until) this.onControl(fragment, 'operate', now);
    else this.onControl(fragment, 'operate', now, matches ? ControlStatus.timeout : ControlStatus.noSelect);
  }

  /** With `refusal` all items get that status and nothing is handed out. */
  private onControl(fragment: Fragment, phase: PendingControl['phase'], now: Instant, refusal?: number): void {
    const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, true);
    const answer = fragment.functionCode !== FunctionCode.directOperateNoAck;
    const { sequence } = fragment.control;
    const indexed = (h: ObjectHeader): boolean =>
      h.qualifier === Qualifier.count8Index8 || h.qualifier === Qualifier.count16Index16;
    let iin = this.problemIndication(problem);
    if (headers.some((h) => h.type?.what !== 'control')) iin |= Iin.objectUnknown;
    else if (headers.length === 0 || headers.some((h) => !indexed(h))) iin |= Iin.parameterError;
    if (iin !== 0) {
      if (answer) this.answer(sequence, iin);
      return;
    }
    const items = headers.flatMap((header) => header.items);
    const statuses = items.map((item, i): number | null => {
      if (refusal !== undefined) return refusal;
      if (i >= this.settings.maxControls) return ControlStatus.tooManyObjects;
      return this.points.get('output', item.index) === undefined ? ControlStatus.notSupported : null;
    });
    const pending: PendingControl = {
      token: ++this.token,
      sequence,
      phase,
      objects: fragment.octets.slice(fragment.objectsAt),
      statusAt: items.map((item) => item.at - fragment.objectsAt + CONTROL_BLOCK_OCTETS - 1),
      statuses,
      answer,
    };
    this.pendingControl = pending;
    const open = items.filter((_, i) => statuses[i] === null);
    if (open.length === 0) {
      this.onControlResult(pending.token, [], now);
      return;
    }
    this.effects.push({
      type: 'control',
      token: pending.token,
      phase,
      items: open.map((item) => ({ index: item.index, block: readControlBlock(fragment.octets, item.at) })),
    });
  }

  /** The statuses are those of the items handed out, in order. */
  private onControlResult(token: number, results: readonly number[], now: Instant): void {
    const pending = this.pendingControl;
    if (pending === null || pending.token !== token) return;
    this.pendingControl = null;
    let next = 0;
    const statuses = pending.statuses.map((status) => status ?? results[next++] ?? ControlStatus.undefined);
    const objects = pending.objects.slice();
    statuses.forEach((status, i) => (objects[pending.statusAt[i]] = status & 0x7f));
    if (pending.phase === 'select' && statuses.every((status) => status === ControlStatus.success)) {
      const until = now + this.settings.selectTimeoutMs;
      this.selection = { objects: pending.objects, sequence: pending.sequence, until };
    }
    if (pending.answer) this.answer(pending.sequence, 0, objects);
  }
}
