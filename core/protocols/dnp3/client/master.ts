import { sameBytes } from '../../../bytes/index.ts';
import type { PointKind } from '../../../point/index.ts';
import type { Instant, Session } from '../../../session/index.ts';
import { Broadcast } from '../address.ts';
import type { DeviceAttribute } from '../attributes.ts';
import { CounterSet } from '../counters.ts';
import { FileJob } from '../files/filejob.ts';
import { isFileOrder, type Order, type OrderAnswer } from '../order.ts';
import type { MasterSettings } from '../settings.ts';
import {
  encodeFragment,
  FunctionCode,
  Iin,
  IIN_CLASS_EVENTS,
  iinWords,
  REFUSED,
  single,
  type Fragment,
} from '../wire/application.ts';
import { Endpoint, type ReceivedFragment } from '../wire/endpoint.ts';
import { CarryingFragment, PointNumbers, type ListedPoint } from './carried.ts';
import { MAX_FRAME, PrimaryFunction, type LinkEvent, type LinkFrame } from '../wire/link.ts';
import { measuredReadings, type MeasuredReading } from '../wire/measured.ts';
import { fragmentStart } from '../wire/transport.ts';
import { ClockKeeping } from './clockkeeping.ts';
import { ControlQueue } from './controlqueue.ts';
import { isSelected, type MasterCommand, type MasterEffect } from './mastermessages.ts';
import { scopeOf } from './readplan.ts';
import { Reads } from './reads.ts';
import { ALL_EVENT_CLASSES, ReplayGuard, type Carried } from './replay.ts';
import { Priority, type Party } from '../../../line/index.ts';
import { ALL_CLASSES, type Answer, type Conversation, type Task, type TaskOf, type Wanted } from './task.ts';
import { broadcastTask, rulesOf, urgentPriority, wordsOf } from './tasks/index.ts';

/*
 * The master's side of one DNP3 conversation.
 *
 * Rules:
 *  1. One request at a time. The order when several wait: confirms, controls, repetitions, start-up, orders, time,
 *     event polls, integrity poll. On a line that is shared (`lane`), the lane says when it is this master's turn.
 *  2. Start-up, on each connection: disable unsolicited, then an integrity poll (all classes), then enable unsolicited
 *     for the classes that are to come unasked. A restart that the device indicates is cleared, and followed by the same.
 *     An event buffer that overflowed is followed by an integrity poll.
 *  3. A request that is not answered in time is sent again with a new sequence number, `retries` times; then the
 *     device is silent. A silent device is asked once in `silentPeriodMs`, with the time-out `silentTimeoutMs`, until
 *     it answers. A control or an order is never sent again. Only octets of the awaited answer put its deadline off.
 *     What a device may do without (unsolicited reporting, its clock, the clearing of a restart) is asked once, then
 *     once more when it answers other requests; it does not make it silent.
 *  4. A link that stays away for as long as all tries would take makes the device silent too.
 *  5. An answer that asks for a confirm gets it when the owner says that its readings are committed, not before.
 *     When that takes longer than `commitWaitMs` the answer is given up, no events are asked for until the commit is
 *     there, and an integrity poll settles what the device still holds.
 *  6. A control waits for the request in progress, is dropped at its expiry, and ends in exactly one of: operated,
 *     refused (with the device's status), failed (nothing was operated), unknown (sent, and no answer came).
 *  7. Events are asked for again at once only after an answer that brought new ones: when the device says that more wait,
 *     or when what came could be brought forth again and has to be told from a repetition (see `ReplayGuard`).
 *  8. What a device refuses is asked for in another way (`ReadPlan`), and remembered.
 *  9. An unsolicited response is taken at any time, also while an answer is awaited, which goes on being awaited; it is
 *     confirmed when its readings are committed. One that is repeated is confirmed again and not taken again.
 */

interface Exchange extends Omit<Answer, 'fragment'> {
  task: Task;
  attempt: number;
  sequence: number;
  deadline: Instant;
  /** When frames of the answer that keep coming put the deadline off no more. */
  patienceEnds: Instant;
  /** When octets that may be of its next frame do so no more. */
  octetsUntil: Instant;
  fragments: number;
  /** Token of the commit that the confirm waits for. */
  commit: { token: number; final: boolean } | null;
}

/** Something a master would do now. */
interface Plan {
  priority: Priority;
  /** Since when it waits. */
  since: Instant;
  words: string;
  go: (now: Instant) => void;
}

export interface MasterOptions {
  /** The line is shared: nothing is sent but by `grant`. */
  lane?: boolean;
  /** What an octet takes on the line, milliseconds. */
  octetMs?: number;
  /** How long the link may be away before the device counts as silent; absent: as long as all tries take. */
  absenceMs?: number;
  /** What the last session of this device had to keep. */
  remembered?: Uint8Array | null;
  /** The device's list, with the numbers of its points. */
  points?: readonly ListedPoint[];
  /** Which part of a long period passes before its first poll (see `PollSchedule`); absent: all of it. */
  phase?: number;
}

const MAX_WAITING_ORDERS = 16;
/** How long polls that are due keep the next step of an order from its turn. */
const STEP_PATIENCE_MS = 1000;
/** A restart that cannot be cleared is tried again so rarely. */
const CLEAR_PAUSE_MS = 60_000;
/** While its octets come, a fragment may take so many time-outs, beside its line time. */
const MAX_EXTENSION = 8;
/** No device gives up waiting for a confirm so soon. */
const PROMPT_MS = 500;

export class Master
  implements
    Session<MasterCommand, MasterEffect>,
    Party<MasterCommand, Exclude<MasterEffect, { type: 'send' }>, LinkEvent>,
    Conversation
{
  readonly counters: CounterSet;
  private readonly endpoint: Endpoint;
  private effects: MasterEffect[] = [];
  private up = false;
  private state: 'unknown' | 'answering' | 'silent' = 'unknown';
  /** When a missing link makes the device silent. */
  private lossAt: Instant | null;
  private nextProbe: Instant = 0;
  private sequence = 0;
  private exchange: Exchange | null = null;
  private startup: Task[] = [];
  readonly controls = new ControlQueue((id, step) => this.report({ type: 'control', id, ...step }));
  readonly reads: Reads;
  readonly clock: ClockKeeping;
  private orders: { id: string; order: Order; since: Instant }[] = [];
  /** Orders under way that take several requests: the next one of each. */
  private steps: TaskOf<'file' | 'broadcast'>[] = [];
  private stepSince: Instant = 0;
  /** A request that was not answered and is to be sent again. */
  private repetition: { task: Task; attempt: number; since: Instant } | null = null;
  /** Confirms whose readings are committed. */
  private confirms: { sequence: number; unsolicited: boolean; since: Instant }[] = [];
  /** The last unsolicited response, and the commit that its confirm waits for. */
  private unsolicited: {
    octets: Uint8Array;
    token: number | null;
    ambiguous: boolean;
    arrived: Instant;
    confirmed: boolean;
  } | null = null;
  private lastHeard: Instant = 0;
  private startupSince: Instant = 0;
  private lineBegins: Instant = 0;
  private fileRequests = 0;
  private token = 0;
  /** A commit that took too long; no events are asked for until it is there. */
  private lateCommit: number | null = null;
  private iinSeen = 0;
  private readonly guard: ReplayGuard;
  private numbers: PointNumbers;
  private readonly numberOf = (kind: PointKind, index: number): number | null => this.numbers.of(kind, index);
  /** What was kept last has events that may be brought forth again. */
  private keptAmbiguous = false;
  /** How often a request that a device may do without was not answered. */
  private readonly unanswered = new Map<Task['type'], number>();
  /** Requests that were not answered since the last answer. */
  private triesSpent = 0;
  private probes = 0;
  private confirmedAt: Instant = 0;
  private clearNotBefore: Instant = 0;
  private freeAgainAt: Instant = 0;
  /** Whether the segments that come belong to the awaited answer. */
  private answerComes = false;

  constructor(
    readonly settings: MasterSettings,
    now: Instant,
    private readonly options: MasterOptions = {},
  ) {
    this.counters = new CounterSet(now);
    const { ourAddress, theirAddress, maxFragment, linkConfirm, linkTimeoutMs, linkRetries } = settings;
    this.endpoint = new Endpoint({
      role: 'master',
      ourAddress,
      theirAddress,
      maxFragment,
      counters: this.counters,
      ...(linkConfirm ? { linkService: { timeoutMs: linkTimeoutMs, retries: linkRetries } } : {}),
    });
    this.guard = new ReplayGuard(options.remembered ?? null);
    this.numbers = new PointNumbers(options.points);
    this.reads = new Reads(
      settings,
      now,
      (words) => this.report({ type: 'diagnostic', words }),
      () => this.learned,
      options.phase,
    );
    this.clock = new ClockKeeping(settings, now);
    this.lossAt = now + this.patienceMs;
  }

  /** How long it takes until all tries of a request are spent. */
  private get patienceMs(): number {
    return this.options.absenceMs ?? this.settings.responseTimeoutMs * (this.settings.retries + 1);
  }

  private get octetMs(): number {
    return this.options.octetMs ?? 0;
  }

  /** When the next integrity poll is due; null when there is none. */
  get nextIntegrity(): Instant | null {
    return this.reads.polls.at('integrity');
  }

  /** What whoever goes on with this device has to know. */
  get keep(): Uint8Array {
    return this.guard.remembered();
  }

  /** How the device has to be asked, where that is not as the settings say; null: as they say. */
  get learned(): string | null {
    const declined = [...this.unanswered].filter(([, times]) => times >= MAX_UNANSWERED).map(([type]) => type);
    const words = declined.map((type) => `it does not answer: ${rulesOf({ type } as Task).dispensable ?? type}`);
    const learned = [this.reads.plan.words, ...words].filter((one) => one !== null);
    return learned.length > 0 ? learned.join('; ') : null;
  }

  /** Internal indications of the last answer. */
  get indications(): number {
    return this.iinSeen;
  }

  start(now: Instant): void {
    this.up = true;
    this.endpoint.reset();
    this.exchange = null;
    this.forgetTurns();
    this.lastHeard = now;
    this.answerComes = false;
    this.triesSpent = 0;
    this.guard.doubt();
    this.reads.polls.restart(now);
    this.clock.begin(now);
    this.queueStartup(now);
    this.run(now);
  }

  private forgetTurns(): void {
    this.repetition = null;
    this.confirms = [];
    this.unsolicited = null;
    this.reads.forget();
  }

  stop(now: Instant): void {
    if (!this.up) return;
    this.up = false;
    this.lossAt ??= now + this.patienceMs;
    const { exchange } = this;
    this.exchange = null;
    this.lateCommit = null;
    this.dropStartup('the link was lost');
    for (const task of [exchange?.task, this.repetition?.task]) {
      if (task) this.giveUpSurvey(task, 'the link was lost');
      if (task?.type === 'order' || task?.type === 'file')
        this.endOrder(task.id, 'the link was lost before the device answered');
    }
    for (const { id } of this.steps.splice(0)) this.endOrder(id, 'the link was lost before it was done');
    this.forgetTurns();
    if (exchange?.task.type === 'control') this.controls.unanswered(exchange.task, 'the link was lost');
    this.failWaiting('the link was lost before it was sent');
  }

  private queueStartup(now: Instant): void {
    const surveys = this.startup.filter(isSurvey);
    const { disableUnsolicited, unsolicitedClasses } = this.settings;
    this.startupSince = now;
    this.startup = disableUnsolicited && !this.isDeclined('disableUnsolicited') ? [{ type: 'disableUnsolicited' }] : [];
    this.startup.push(...this.reads.plan.parts(ALL_CLASSES));
    if (unsolicitedClasses.length > 0 && !this.isDeclined('enableUnsolicited'))
      this.startup.push({ type: 'enableUnsolicited', classes: unsolicitedClasses });
    this.startup.push(...surveys);
  }

  private isDeclined(type: Task['type']): boolean {
    return (this.unanswered.get(type) ?? 0) >= MAX_UNANSWERED;
  }

  /** Everything is to be read, before the polls go on. */
  private readAll(now: Instant): void {
    if (this.startup.some((task) => task.type === 'read' && task.survey === undefined)) return;
    if (this.startup.length === 0) this.startupSince = now;
    this.startup.push(...this.reads.plan.parts(ALL_CLASSES));
  }

  private dropStartup(words: string): void {
    for (const task of this.startup.splice(0)) this.giveUpSurvey(task, words);
  }

  private giveUpSurvey(task: Task, words: string): void {
    if (isSurvey(task)) this.endSurvey(task.survey, words);
  }

  endSurvey(id: string, problem: string | null, attributes: DeviceAttribute[] = []): void {
    this.report({ type: 'surveyed', id, problem, attributes });
  }

  endOrder(id: string, problem: string | null, answer: OrderAnswer = {}): void {
    this.report({ type: 'ordered', id, problem, answer });
  }

  report(effect: MasterEffect): void {
    this.effects.push(effect);
  }

  sendNow(task: Task, now: Instant): void {
    this.send(task, 0, now);
  }

  doFirst(task: Task): void {
    this.startup.unshift(task);
  }

  doNext(task: TaskOf<'file' | 'broadcast'>, now: Instant): void {
    this.steps.push(task);
    this.stepSince = now;
  }

  private failWaiting(words: string): void {
    this.controls.failAll(words);
    for (const { id } of [...this.orders.splice(0), ...this.steps.splice(0)]) this.endOrder(id, words);
  }

  receive(bytes: Uint8Array, now: Instant): void {
    if (!this.up) return;
    for (const received of this.endpoint.receive(bytes, now, (frame) => this.heard(frame, now)))
      this.onFragment(received, now);
    this.run(now);
  }

  /** What a lane's parser found on the line, for this device. */
  receiveEvent(event: LinkEvent, now: Instant): void {
    if (!this.up) return;
    if (event.type === 'frame') this.counters.add('octetsReceived', event.octets.length);
    const received = this.endpoint.take(event, now, (frame) => this.heard(frame, now));
    if (received !== null) this.onFragment(received, now);
    this.run(now);
  }

  /** A good frame of the device: one that carries a part of the awaited answer puts its deadline off. */
  private heard(frame: LinkFrame, now: Instant): void {
    this.lastHeard = now;
    const { exchange } = this;
    if (exchange === null || exchange.commit !== null || !carriesUserData(frame)) return;
    const start = fragmentStart(frame.data);
    if (start !== null)
      this.answerComes = start.functionCode === FunctionCode.response && start.sequence === exchange.sequence;
    if (!this.answerComes) return;
    exchange.deadline = Math.min(
      exchange.patienceEnds,
      Math.max(exchange.deadline, now + this.settings.responseTimeoutMs),
    );
    exchange.octetsUntil = exchange.deadline + this.octetMs * MAX_FRAME + ARRIVAL_SLACK_MS;
  }

  /** Octets come in while this master waits for its answer: perhaps they are its next frame. */
  octetsArrive(now: Instant): void {
    const { exchange } = this;
    if (exchange === null || exchange.commit !== null) return;
    const frameEnds = now + this.octetMs * MAX_FRAME + ARRIVAL_SLACK_MS;
    exchange.deadline = Math.max(exchange.deadline, Math.min(exchange.octetsUntil, frameEnds));
  }

  get share(): number {
    return this.settings.share;
  }

  owns(event: LinkEvent): boolean {
    if (event.type !== 'frame' || event.frame.fromMaster) return false;
    const { source, destination } = event.frame;
    return source === this.settings.theirAddress && destination === this.settings.ourAddress;
  }

  /** While this master waits for its answer, somebody else sends as if asked. */
  strangerHeard(event: LinkEvent): void {
    if (event.type !== 'frame' || event.frame.fromMaster) return;
    const { source: address, destination } = event.frame;
    this.counters.add(destination === this.settings.ourAddress ? 'otherSource' : 'otherDestination');
    this.report({ type: 'stranger', address, destination });
  }

  command(command: MasterCommand, now: Instant): void {
    switch (command.type) {
      case 'committed':
        this.onCommitted(command.token, now);
        break;
      case 'control':
        this.controls.add(command, this.hindrance);
        break;
      case 'setPoints':
        this.numbers = new PointNumbers(command.points);
        break;
      case 'pollNow':
        if (this.up) this.readAll(now);
        break;
      case 'survey':
        if (!this.up || this.state === 'silent') this.endSurvey(command.id, 'the device does not answer');
        else this.startup.push(this.reads.plan.survey(command.id));
        break;
      case 'order':
        if (!this.up || this.state === 'silent') this.endOrder(command.id, 'the device does not answer');
        else if (this.orders.length >= MAX_WAITING_ORDERS)
          this.endOrder(command.id, `${MAX_WAITING_ORDERS} orders wait already`);
        else this.orders.push({ id: command.id, order: command.order, since: now });
        break;
      case 'resetCounters':
        this.counters.reset(now);
        break;
      default:
        command satisfies never;
    }
    this.run(now);
  }

  wake(now: Instant): void {
    this.run(now);
  }

  take(): MasterEffect[] {
    const octets = this.endpoint.takeOutput();
    if (octets !== null) this.report({ type: 'send', octets });
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  get deadline(): Instant | null {
    const times: Instant[] = [];
    if (!this.up && this.lossAt !== null && this.state !== 'silent') times.push(this.lossAt);
    if (this.endpoint.deadline !== null) times.push(this.endpoint.deadline);
    if (this.exchange !== null) times.push(this.exchange.deadline);
    else if (this.up) {
      if (this.state === 'silent' && this.startup.length === 0) times.push(this.nextProbe);
      if (this.state !== 'silent') {
        const { earliest } = this.reads.polls;
        if (this.lateCommit === null && earliest !== null) times.push(Math.max(earliest, this.freeAgainAt));
        if (this.lateCommit === null && this.reads.underWay) times.push(this.freeAgainAt);
        times.push(this.clock.deadline);
        if (this.settings.keepAliveMs > 0) times.push(this.lastHeard + this.settings.keepAliveMs);
      }
    }
    const earliest = Math.min(...times);
    return earliest === Infinity ? null : earliest;
  }

  // ---- what to do next

  private run(now: Instant): void {
    if (!this.up && this.lossAt !== null && now >= this.lossAt && this.state !== 'silent')
      this.becomeSilent(now, 'no connection');
    this.endpoint.wake(now);
    if (this.exchange !== null && now >= this.exchange.deadline) this.onDeadline(this.exchange, now);
    if (this.options.lane) return;
    for (let plan = this.plan(now); plan !== null; plan = this.plan(now)) plan.go(now);
  }

  /** Whether the line is taken: an answer is awaited. */
  get holdsLine(): boolean {
    return this.exchange !== null && this.exchange.commit === null;
  }

  /** Nothing is under way, and nothing waits but polls that are due later. */
  get atRest(): boolean {
    return (
      this.exchange === null &&
      this.startup.length + this.controls.size + this.orders.length + this.steps.length + this.confirms.length === 0 &&
      !this.reads.underWay &&
      this.repetition === null &&
      this.unsolicited?.token == null &&
      this.lateCommit === null &&
      !this.clock.asked
    );
  }

  /** What it would do with the line now, and since when that waits; null: nothing. */
  wants(now: Instant): { priority: Priority; since: Instant; words: string } | null {
    return this.plan(now);
  }

  /** It is this master's turn; what it sends begins to go over the line at that time. */
  grant(now: Instant, begins: Instant): void {
    this.lineBegins = begins;
    this.plan(now)?.go(now);
  }

  private plan(now: Instant): Plan | null {
    if (!this.up) return null;
    const control = this.controls.next(now);
    const [confirm] = this.confirms;
    if (confirm !== undefined)
      return { priority: Priority.confirm, since: confirm.since, words: 'confirm', go: (at) => this.sendConfirm(at) };
    if (this.exchange !== null) return null;
    if (control !== undefined) {
      const phase = isSelected(control.mode) ? 'select' : 'operate';
      return this.planOf({
        task: { type: 'control', request: control, phase },
        priority: Priority.control,
        since: now,
        taken: () => this.controls.shift(),
      });
    }
    const { repetition } = this;
    if (repetition !== null) {
      const { task, attempt, since } = repetition;
      return {
        priority: urgentPriority(task),
        since,
        words: `${wordsOf(task)}, try ${attempt + 1}`,
        go: (at) => {
          this.repetition = null;
          this.send(task, attempt, at);
        },
      };
    }
    const first = this.startup[0];
    if (first !== undefined && (this.lateCommit === null || first.type !== 'read'))
      return this.planOf({
        task: first,
        priority: urgentPriority(first),
        since: this.startupSince,
        taken: () => this.startup.shift(),
      });
    if (this.state === 'silent') return this.planProbe(now);
    if (now < this.freeAgainAt) return null;
    const shared = this.options.lane === true;
    const poll = this.lateCommit === null ? this.reads.next(now, shared, this.lastHeard) : null;
    const [step] = this.steps;
    // Polls that are due go first; where some always are, a step takes the place of one now and then.
    if (step !== undefined && (poll === null || now - this.stepSince >= STEP_PATIENCE_MS))
      return this.planOf({
        task: step,
        priority: poll?.priority ?? Priority.background,
        since: this.stepSince,
        taken: () => this.steps.shift(),
      });
    const [ordered] = this.orders;
    if (ordered !== undefined) return this.planOrder(ordered);
    const wanted = this.clock.setting(now) ?? poll;
    if (wanted !== null) return this.planOf(wanted);
    return this.lateCommit === null ? this.planBackground(now) : null;
  }

  private planOf({ task, priority, since, taken }: Wanted): Plan {
    return {
      priority,
      since,
      words: wordsOf(task),
      go: (at) => {
        taken(at);
        const spent = task.type === 'read' ? Math.min(this.triesSpent, this.settings.retries) : 0;
        this.send(task, spent, at);
      },
    };
  }

  /** A silent device is asked by the first request of a new start-up. */
  private planProbe(now: Instant): Plan | null {
    if (now < this.nextProbe) return null;
    return {
      priority: Priority.events,
      since: this.nextProbe,
      words: 'is it back?',
      go: (at) => {
        this.queueStartup(at);
        // Perhaps it does not know the first request of the start-up: every other time it is asked for its data.
        if (this.probes++ % 2 === 1 && (this.unanswered.get('disableUnsolicited') ?? 0) > 0)
          this.startup = this.startup.filter(({ type }) => type !== 'disableUnsolicited');
        const task = this.startup.shift();
        if (task) this.send(task, 0, at);
      },
    };
  }

  private planOrder({ id, order, since }: Master['orders'][number]): Plan {
    const task = this.taskOf(id, order);
    const taken = (): void => {
      this.orders.shift();
      if (order.what === 'synchronise') this.endOrder(id, null);
    };
    return this.planOf({ task, priority: Priority.background, since, taken });
  }

  private taskOf(id: string, order: Order): Task {
    if (order.what === 'synchronise') return this.clock.task;
    if (order.what === 'broadcast') return broadcastTask(id, order.job);
    if (!isFileOrder(order)) return { type: 'order', id, order };
    this.fileRequests = (this.fileRequests + 1) & 0xffff;
    return { type: 'file', id, job: new FileJob(order, this.settings.maxFragment - FILE_OVERHEAD, this.fileRequests) };
  }

  private planBackground(now: Instant): Plan | null {
    const clock = this.clock.reading(now);
    if (clock !== null) return this.planOf(clock);
    const { keepAliveMs } = this.settings;
    if (keepAliveMs > 0 && now >= this.lastHeard + keepAliveMs)
      return {
        priority: Priority.background,
        since: now,
        words: 'keep alive',
        go: (at) => {
          this.lastHeard = at;
          this.endpoint.requestLinkStatus();
        },
      };
    return null;
  }

  private send(task: Task, attempt: number, now: Instant): void {
    this.sequence = (this.sequence + 1) & 0x0f;
    const rules = rulesOf(task);
    const [functionCode, objects] = rules.request(task, now);
    const request = encodeFragment(single(this.sequence), functionCode, null, objects);
    this.endpoint.sendFragment(request, now, task.type === 'broadcast' ? Broadcast.noConfirm : undefined);
    this.counters.add('requests');
    if (attempt > 0) this.counters.add('retries');
    const begins = Math.max(now, this.lineBegins);
    if (task.type === 'control') this.controls.sent(task);
    const unawaited = rules.unawaited?.(task);
    if (unawaited) {
      unawaited(this, begins);
      return;
    }
    const { responseTimeoutMs, silentTimeoutMs } = this.settings;
    const waitMs = this.state === 'silent' ? Math.min(silentTimeoutMs, responseTimeoutMs) : responseTimeoutMs;
    const sent = begins + this.octetMs * (objects.length + REQUEST_OVERHEAD);
    this.exchange = {
      task,
      attempt,
      sequence: this.sequence,
      sentAt: begins,
      deadline: sent + waitMs,
      ...this.patienceFrom(sent, waitMs),
      fragments: 0,
      fresh: 0,
      ambiguous: false,
      repeated: false,
      unreadable: false,
      objects: false,
      commit: null,
    };
    this.answerComes = false;
  }

  /** How far the octets of a fragment may put its deadline off. */
  private patienceFrom(sent: Instant, waitMs: number): Pick<Exchange, 'patienceEnds' | 'octetsUntil'> {
    const { responseTimeoutMs, maxFragment } = this.settings;
    return {
      patienceEnds: sent + responseTimeoutMs * MAX_EXTENSION + 1.5 * this.octetMs * maxFragment,
      octetsUntil: sent + waitMs + this.octetMs * MAX_FRAME + ARRIVAL_SLACK_MS,
    };
  }

  // ---- when nothing comes

  private onDeadline(exchange: Exchange, now: Instant): void {
    this.exchange = null;
    if (exchange.commit !== null && this.confirms.some(({ unsolicited }) => !unsolicited)) {
      // Committed in time, but the line was not free for so long: the device may have given up.
      this.confirms = this.confirms.filter(({ unsolicited }) => unsolicited);
      this.readAll(now);
      return;
    }
    if (exchange.commit !== null) {
      this.lateCommit = exchange.commit.token;
      this.report({ type: 'diagnostic', words: 'the commit took too long; confirm withheld' });
      return;
    }
    this.counters.add('timeouts');
    const { task, attempt } = exchange;
    const rules = rulesOf(task);
    const verdict = rules.unanswered?.(task, attempt, this, now);
    if (verdict === 'over') return;
    if (rules.dispensable !== undefined) {
      this.unanswered.set(task.type, (this.unanswered.get(task.type) ?? 0) + 1);
      if (this.state !== 'silent') {
        this.onDeclined(task, rules.dispensable, attempt, now);
        return;
      }
    }
    if (verdict === 'again' || (attempt < this.settings.retries && this.state !== 'silent')) {
      this.repetition = { task, attempt: attempt + 1, since: now };
      return;
    }
    this.giveUpSurvey(task, 'the device does not answer');
    this.becomeSilent(now, `no answer to ${attempt + 1} requests`);
  }

  /** A device may do without this: the rest goes on, with the tries that are left. */
  private onDeclined(task: Task, name: string, attempt: number, now: Instant): void {
    const times = this.unanswered.get(task.type) ?? 0;
    this.triesSpent = attempt + 1;
    if (task.type === 'measureDelay' || task.type === 'recordTime') this.clock.declined(now, times >= MAX_UNANSWERED);
    if (times === MAX_UNANSWERED)
      this.report({ type: 'diagnostic', words: `does not answer: ${name}; it is polled all the same` });
    // Nothing is left that would find out whether it is there at all.
    const others = this.startup.some((one) => one.type === 'read') || this.reads.polls.earliest !== null;
    if (!others && this.state === 'unknown') this.becomeSilent(now, `no answer to ${attempt + 1} requests`);
  }

  private becomeSilent(now: Instant, words: string): void {
    if (this.state !== 'silent') this.report({ type: 'communication', state: 'silent', words });
    this.state = 'silent';
    this.dropStartup('the device does not answer');
    this.nextProbe = now + this.settings.silentPeriodMs;
    this.reads.drop();
    this.triesSpent = 0;
    this.failWaiting('the device does not answer; nothing was sent');
  }

  /** Why nothing can be sent to the device at all; null when it can. */
  private get hindrance(): string | null {
    if (!this.up) return 'no connection to the device';
    return this.state === 'silent' ? 'the device does not answer' : null;
  }

  // ---- when something comes

  private onFragment(received: ReceivedFragment, now: Instant): void {
    const { fragment } = received;
    const { exchange } = this;
    if (fragment.functionCode === FunctionCode.unsolicitedResponse) {
      this.onUnsolicited(received, now);
      return;
    }
    if (
      fragment.functionCode !== FunctionCode.response ||
      exchange === null ||
      exchange.commit !== null ||
      fragment.control.sequence !== exchange.sequence ||
      fragment.control.first !== (exchange.fragments === 0)
    ) {
      this.counters.add('unexpectedFragments');
      return;
    }
    this.counters.add('responses');
    exchange.fragments++;
    this.onAnswer(now);
    this.report({ type: 'answered', roundTripMs: now - exchange.sentAt });
    this.onIndications(fragment.iin ?? 0, exchange.task, now);

    const { task } = exchange;
    const { readings, problem } = task.type === 'file' ? NOTHING : this.takeObjects(fragment);
    exchange.objects ||= readings.length > 0;
    exchange.unreadable ||= problem !== null;
    // Asked for by single objects already, there is no way left to come by what stands behind.
    const lastResort = task.type === 'read' && task.groups !== undefined;
    const confirm = fragment.control.confirm && (problem === null || lastResort);
    const final = fragment.control.final || problem !== null;
    if (readings.length > 0) {
      const scope = task.type === 'read' ? scopeOf(task) : ALL_EVENT_CLASSES;
      const carried = { scope, first: exchange.fragments === 1, final, unsolicited: false };
      const { fresh, ambiguous, repeated } = this.passOn(readings, received, confirm, carried, surveyOf(task));
      exchange.repeated ||= repeated && confirm;
      exchange.fresh += fresh;
      exchange.ambiguous ||= ambiguous;
      if (confirm) {
        exchange.commit = { token: this.token, final };
        exchange.deadline = now + this.settings.commitWaitMs;
      }
    } else if (confirm) this.confirms.push({ sequence: exchange.sequence, unsolicited: false, since: now });
    if (final && problem === null && task.type === 'read') {
      const scope = task.closes ? ALL_EVENT_CLASSES : scopeOf(task);
      if (scope !== 0) this.settle(scope, fragment);
    }
    if (final) rulesOf(task).answered(task, { ...exchange, fragment }, this, now);
    if (exchange.commit === null) this.goOn(exchange, final, now);
  }

  /** Hands out present values and the events that are new; with `confirm` they have to be committed. */
  private passOn(
    readings: readonly MeasuredReading[],
    received: ReceivedFragment,
    confirm: boolean,
    carried: Omit<Carried, 'overflow' | 'waiting'>,
    survey: { survey?: string },
  ): { fresh: number; ambiguous: boolean; repeated: boolean } {
    const events = readings.filter(({ event }) => event);
    const iin = received.fragment.iin ?? 0;
    const overflow = (iin & Iin.eventBufferOverflow) !== 0;
    const waiting = (iin & IIN_EVENTS) >>> 1;
    const { fresh, ambiguous, repeated } = this.guard.admit(events, { ...carried, overflow, waiting });
    const freshEvents = fresh.filter(Boolean).length;
    let at = 0;
    // Nearly always nothing comes again.
    const taken = freshEvents === events.length ? readings : readings.filter(({ event }) => !event || fresh[at++]);
    const token = confirm ? ++this.token : null;
    const keep = token === null ? null : this.guard.remembered();
    if (token !== null) this.keptAmbiguous = this.guard.hasAmbiguous;
    const carrying = new CarryingFragment(received.fragment.octets, received.frames);
    this.report({ type: 'readings', readings: taken, carried: carrying, token, keep, ...survey });
    return { fresh: freshEvents, ambiguous, repeated };
  }

  private settle(scope: number, { iin }: Fragment): void {
    this.guard.settle(scope, ((iin ?? 0) & IIN_EVENTS) >>> 1);
    if (!this.keptAmbiguous || this.guard.hasAmbiguous) return;
    this.keptAmbiguous = false;
    this.report({ type: 'keep', keep: this.guard.remembered() });
  }

  /** What a response carries besides its answer to the request. */
  private takeObjects(fragment: Fragment): ReturnType<typeof measuredReadings> {
    const taken = measuredReadings(fragment, this.numberOf);
    const { readings, commands, problem } = taken;
    if (problem !== null) {
      this.counters.add('malformedFragments');
      this.report({ type: 'diagnostic', words: `answer not understood from here on: ${problem.words}` });
    }
    this.counters.add('events', readings.filter((reading) => reading.event).length);
    if (commands.length > 0) this.report({ type: 'commandsReported', commands });
    return taken;
  }

  private onUnsolicited(received: ReceivedFragment, now: Instant): void {
    const { fragment } = received;
    const { sequence, confirm, final } = fragment.control;
    this.counters.add('unsolicited');
    const last = this.unsolicited;
    if (
      last !== null &&
      sameBytes(last.octets.subarray(4), fragment.octets.subarray(4)) &&
      last.octets[0] === fragment.octets[0]
    ) {
      if (last.token === null && confirm) this.confirms.push({ sequence, unsolicited: true, since: now });
      last.arrived = now;
      last.confirmed = false;
      return;
    }
    this.onAnswer(now);
    this.onIndications(fragment.iin ?? 0, null, now);
    const { readings, problem } = this.takeObjects(fragment);
    const wanted = confirm && problem === null;
    const soon = last?.confirmed === true && now - last.arrived < PROMPT_MS;
    this.unsolicited = { octets: fragment.octets, token: null, ambiguous: false, arrived: now, confirmed: false };
    if (readings.length > 0) {
      const promptly = now - this.confirmedAt < PROMPT_MS;
      const carried = { scope: ALL_EVENT_CLASSES, first: true, final, unsolicited: true, promptly, soon };
      const { ambiguous } = this.passOn(readings, received, wanted, carried, {});
      if (wanted) this.unsolicited.token = this.token;
      this.unsolicited.ambiguous = wanted && ambiguous;
    } else if (wanted) this.confirms.push({ sequence, unsolicited: true, since: now });
    // What cannot be read unasked is asked for in a way that can.
    if (problem !== null && this.state === 'answering') this.readAll(now);
  }

  private onAnswer(now: Instant): void {
    this.lossAt = null;
    this.triesSpent = 0;
    if (this.state === 'answering') return;
    const wasSilent = this.state === 'silent';
    this.state = 'answering';
    this.reads.polls.restart(now);
    this.report({ type: 'communication', state: 'answering', words: 'answers' });
    // It answers, but not what it was asked first: perhaps that got lost.
    for (const type of ['disableUnsolicited', 'enableUnsolicited'] as const)
      if (this.unanswered.get(type) === 1 && !wasSilent && !this.startup.some((task) => task.type === type))
        this.startup.push(
          type === 'disableUnsolicited' ? { type } : { type, classes: this.settings.unsolicitedClasses },
        );
    if (wasSilent && this.startup.length === 0) this.queueStartup(now);
  }

  /** `task` is null for what the device says unasked. */
  private onIndications(iin: number, task: Task | null, now: Instant): void {
    const news = iin & ~this.iinSeen & (Iin.eventBufferOverflow | Iin.deviceTrouble | Iin.configurationCorrupt);
    if (news) this.report({ type: 'diagnostic', words: `device says: ${iinWords(news).join(', ')}` });
    // What it had to drop shows in the present values.
    if (news & Iin.eventBufferOverflow) this.readAll(now);
    if (
      iin & Iin.deviceRestart &&
      task?.type !== 'clearRestart' &&
      (now >= this.clearNotBefore || !(this.iinSeen & Iin.deviceRestart)) &&
      !this.startup.some((t) => t.type === 'clearRestart')
    ) {
      this.clearNotBefore = now + CLEAR_PAUSE_MS;
      if (!(this.iinSeen & Iin.deviceRestart)) {
        this.report({ type: 'diagnostic', words: 'device says: restarted' });
        this.queueStartup(now);
        this.clock.restarted();
      }
      this.startup.unshift({ type: 'clearRestart' });
    }
    this.clock.indicated((iin & Iin.needTime) !== 0);
    const refusal = iin & REFUSED;
    if (refusal && task !== null && !rulesOf(task).mayBeRefused && task.type !== 'read')
      this.report({ type: 'diagnostic', words: `request refused: ${iinWords(refusal).join(', ')}` });
    this.iinSeen = iin;
  }

  /** Sends the oldest confirm that is due. */
  private sendConfirm(now: Instant): void {
    const confirm = this.confirms.shift();
    if (confirm === undefined) return;
    const { sequence, unsolicited } = confirm;
    this.endpoint.sendFragment(encodeFragment({ ...single(sequence), unsolicited }, FunctionCode.confirm, null), now);
    this.counters.add('confirmsSent');
    if (!unsolicited) this.confirmedAt = now;
    if (unsolicited && this.unsolicited !== null && (this.unsolicited.octets[0] & 0x0f) === sequence)
      this.unsolicited.confirmed = true;
    if (unsolicited && this.unsolicited?.ambiguous && this.settings.pollAgain) {
      this.unsolicited.ambiguous = false;
      this.reads.askAgain([1, 2, 3], now);
    }
    const { exchange } = this;
    if (unsolicited || exchange?.commit == null || exchange.sequence !== sequence) return;
    const { final } = exchange.commit;
    exchange.commit = null;
    this.goOn(exchange, final, now);
  }

  private onCommitted(token: number, now: Instant): void {
    if (token === this.lateCommit) {
      this.lateCommit = null;
      this.readAll(now);
      return;
    }
    if (this.unsolicited?.token === token) {
      this.unsolicited.token = null;
      const sequence = this.unsolicited.octets[0] & 0x0f;
      this.confirms.push({ sequence, unsolicited: true, since: now });
      return;
    }
    const { exchange } = this;
    if (exchange === null || exchange.commit?.token !== token) return;
    // The confirm may have to wait for the line.
    exchange.deadline = now + this.settings.commitWaitMs;
    this.confirms.push({ sequence: exchange.sequence, unsolicited: false, since: now });
  }

  /** After a fragment is dealt with: the next one of the same answer, or the end of the exchange. */
  private goOn(exchange: Exchange, final: boolean, now: Instant): void {
    if (this.exchange !== exchange) return;
    if (final) {
      this.exchange = null;
      if (exchange.task.type === 'read') this.freeAgainAt = now + this.settings.minimumGapMs;
      return;
    }
    exchange.sequence = (exchange.sequence + 1) & 0x0f;
    this.sequence = exchange.sequence;
    exchange.deadline = now + this.settings.responseTimeoutMs;
    Object.assign(exchange, this.patienceFrom(now, this.settings.responseTimeoutMs));
    this.answerComes = false;
  }
}

const isSurvey = (task: Task): task is Task & { survey: string } =>
  (task.type === 'read' || task.type === 'attributes') && task.survey !== undefined;

/** File objects are for the one who reads the file. */
const NOTHING = { readings: [], problem: null };

/** Octets of an answer with a block of a file, beside the block. */
const FILE_OVERHEAD = 4 + 6 + 8;

const surveyOf = (task: Task): { survey?: string } =>
  task.type === 'read' && task.survey !== undefined ? { survey: task.survey } : {};

/** After so many a device counts as not knowing such a request. */
const MAX_UNANSWERED = 2;

const carriesUserData = ({ primary, functionCode }: LinkFrame): boolean =>
  primary &&
  (functionCode === PrimaryFunction.unconfirmedUserData || functionCode === PrimaryFunction.confirmedUserData);

/** IIN1.1 to IIN1.3: events of the classes 1 to 3 wait. */
const IIN_EVENTS = IIN_CLASS_EVENTS[1] | IIN_CLASS_EVENTS[2] | IIN_CLASS_EVENTS[3];
/** Octets of a request beside its objects: link header, transport and application header, checksum. */
const REQUEST_OVERHEAD = 15;
/** How long the octets of one frame may falter. */
const ARRIVAL_SLACK_MS = 100;
