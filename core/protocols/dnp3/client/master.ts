import type { Instant, Session } from '../../../session/index.ts';
import { Broadcast } from '../address.ts';
import type { DeviceAttribute } from '../attributes.ts';
import { CounterSet } from '../counters.ts';
import type { OrderAnswer } from '../order.ts';
import type { MasterSettings } from '../settings.ts';
import { encodeFragment, FunctionCode, Iin, iinWords, REFUSED, single } from '../wire/application.ts';
import { Endpoint, type ReceivedFragment } from '../wire/endpoint.ts';
import { AwaitedAnswer } from './awaited.ts';
import type { ListedPoint } from './intake/carried.ts';
import type { LinkEvent, LinkFrame } from '../wire/link.ts';
import { ClockKeeping } from './asking/clockkeeping.ts';
import { Confirms } from './intake/confirms.ts';
import { ControlQueue } from './asking/controlqueue.ts';
import { PresentRound } from './intake/presentround.ts';
import { Intake } from './intake/intake.ts';
import { isSelected, type ControlRequest, type MasterCommand, type MasterEffect } from './mastermessages.ts';
import { OrderQueue } from './asking/orderqueue.ts';
import { MAX_UNANSWERED, Reach } from './asking/reach.ts';
import { scopeOf } from './asking/readplan.ts';
import { Reads } from './asking/reads.ts';
import { ALL_EVENT_CLASSES } from './intake/replay.ts';
import { StartUp } from './asking/startup.ts';
import { Repetitions, type Repetition } from '../../polling/repetitions.ts';
import { Priority, type Party } from '../../../line/index.ts';
import { isSurvey, type Conversation, type Task, type TaskOf, type WaitingTask } from './task.ts';
import { rulesOf, urgentPriority, wordsOf } from './tasks/index.ts';

/*
 * The master's side of one DNP3 conversation.
 *
 * device      what happens                                   becomes     and then
 * ----------  ---------------------------------------------  ----------  -----------------------------------------------
 * unknown     a response, or an unsolicited one              answering   start-up goes on
 * unknown     all tries spent, or no link for as long        silent      start-up, controls and orders are given up
 * answering   all tries spent, or no link for as long        silent      the same; asked once in `silentPeriodMs`
 * silent      a response, or an unsolicited one              answering   start-up anew
 *
 * request     what happens                                   becomes     and then
 * ----------  ---------------------------------------------  ----------  -----------------------------------------------
 * none        something waits, and the line is this one's    awaited     it is sent (`plan` says what)
 * none        the same, and nothing is answered to it        none        its task ends (`unawaited`)
 * awaited     a fragment, to be confirmed, with readings     committing  they are handed out
 * awaited     a fragment, no more to come                    none        its task ends (`answered`)
 * awaited     a fragment, more to come                       awaited     the next sequence number is awaited
 * awaited     its time-out                                   none        again, over, or silent (`onDeadline`)
 * committing  the commit, then the confirm goes out          as awaited  the next fragment, or the end
 * committing  `commitWaitMs`                                 none        no events are asked for until it is there
 * any         the link is lost                               none        its task ends; nothing is sent twice
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
 *     When that takes longer than `commitWaitMs` the answer is given up, and no events are asked for until the commit is
 *     there, only present values at the polls' times; then an integrity poll settles what the device still holds.
 *  6. A control waits for the request in progress, is dropped at its expiry, and ends in exactly one of: operated,
 *     refused (with the device's status), failed (nothing was operated), unknown (sent, and no answer came).
 *  7. Events are asked for again at once only after an answer that brought new ones: when the device says that more wait,
 *     or when what came could be brought forth again and has to be told from a repetition (see `ReplayGuard`).
 *  8. What a device refuses is asked for in another way (`ReadPlan`), and remembered.
 *  9. An unsolicited response is taken at any time, also while an answer is awaited, which goes on being awaited; it is
 *     confirmed when its readings are committed. One that is repeated is confirmed again and not taken again.
 */

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

/** A restart that cannot be cleared is tried again so rarely. */
const CLEAR_PAUSE_MS = 60_000;
/** Octets of a request beside its objects: link header, transport and application header, checksum. */
const REQUEST_OVERHEAD = 15;

export class Master
  implements
    Session<MasterCommand, MasterEffect>,
    Party<MasterCommand, Exclude<MasterEffect, { type: 'send' }>, LinkEvent>,
    Conversation
{
  readonly settings: MasterSettings;
  readonly counters: CounterSet;
  private readonly endpoint: Endpoint;
  private effects: MasterEffect[] = [];
  private up = false;
  private readonly reach: Reach;
  private sequence = 0;
  private exchange: AwaitedAnswer | null = null;
  private readonly startup: StartUp;
  readonly controls = new ControlQueue((id, step) => this.report({ type: 'control', id, ...step }));
  readonly reads: Reads;
  private readonly round: PresentRound;
  readonly clock: ClockKeeping;
  private readonly orders: OrderQueue;
  private readonly confirms = new Confirms();
  private readonly intake: Intake;
  /** A request that was not answered and is to be sent again. */
  private readonly repetitions = new Repetitions<Task>();
  private lastHeard: Instant = 0;
  private lineBegins: Instant = 0;
  private readonly lane: boolean;
  private readonly octetMs: number;
  private readonly absenceMs: number | undefined;
  private iinSeen = 0;
  private clearNotBefore: Instant = 0;
  private freeAgainAt: Instant = 0;

  constructor(settings: MasterSettings, now: Instant, options: MasterOptions = {}) {
    this.lane = options.lane ?? false;
    this.octetMs = options.octetMs ?? 0;
    this.absenceMs = options.absenceMs;
    // Its own: all its parts look at the same, and some of it changes while it runs.
    this.settings = { ...settings };
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
    this.intake = new Intake(options, this.counters, (effect) => this.report(effect));
    this.orders = new OrderQueue(maxFragment, (id, problem) => this.endOrder(id, problem));
    this.round = new PresentRound(options.points ?? [], (points, words) =>
      this.report({ type: 'unreadable', points, words }),
    );
    this.reads = new Reads(
      this.settings,
      now,
      (words) => this.report({ type: 'diagnostic', words }),
      () => this.learned,
      options.phase,
      this.round,
      () => this.startup.hasRead,
    );
    this.startup = new StartUp(
      this.settings,
      this.reads.plan,
      (type) => this.reach.isDeclined(type),
      (task, words) => this.giveUpSurvey(task, words),
    );
    this.clock = new ClockKeeping(this.settings, now);
    this.reach = new Reach(now, () => this.patienceMs);
  }

  /** How long it takes until all tries of a request are spent. */
  private get patienceMs(): number {
    return this.absenceMs ?? this.settings.responseTimeoutMs * (this.settings.retries + 1);
  }

  /** When the next integrity poll is due; null when there is none. */
  get nextIntegrity(): Instant | null {
    return this.reads.polls.at('integrity');
  }

  /** What whoever goes on with this device has to know. */
  get keep(): Uint8Array {
    return this.intake.keep;
  }

  /** How the device has to be asked, where that is not as the settings say; null: as they say. */
  get learned(): string | null {
    const learned = [this.reads.plan.words, ...this.reach.declined].filter((one) => one !== null);
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
    this.reach.triesSpent = 0;
    this.intake.doubt();
    this.reads.polls.restart(now);
    this.clock.begin(now);
    this.startup.begin(now);
    this.run(now);
  }

  private forgetTurns(): void {
    this.repetitions.clear();
    this.confirms.forget();
    this.reads.forget();
  }

  stop(now: Instant): void {
    if (!this.up) return;
    this.up = false;
    this.reach.linkLost(now);
    const { exchange } = this;
    this.exchange = null;
    this.confirms.late = null;
    this.startup.drop('the link was lost');
    for (const task of [exchange?.task, this.repetitions.first?.request]) {
      if (task) this.giveUpSurvey(task, 'the link was lost');
      if (task?.type === 'order' || task?.type === 'file')
        this.endOrder(task.id, 'the link was lost before the device answered');
    }
    this.orders.failSteps('the link was lost before it was done');
    this.forgetTurns();
    if (exchange?.task.type === 'control') this.controls.unanswered(exchange.task, 'the link was lost');
    const dispensable = exchange && rulesOf(exchange.task).dispensable;
    if (exchange && dispensable && this.reach.closedAt(exchange.task.type))
      this.report({ type: 'diagnostic', words: `closes the connection at: ${dispensable}; it is polled without` });
    this.orders.failAll('the link was lost before it was sent');
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
    this.startup.doFirst(task);
  }

  doNext(task: TaskOf<'file' | 'broadcast'>, now: Instant): void {
    this.orders.doNext(task, now);
  }

  private failWaiting(words: string): void {
    this.controls.failAll(words);
    this.orders.failAll(words);
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

  private heard(frame: LinkFrame, now: Instant): void {
    this.lastHeard = now;
    this.exchange?.heard(frame, now);
  }

  /** Octets come in while this master waits for its answer: perhaps they are its next frame. */
  octetsArrive(now: Instant): void {
    this.exchange?.octetsArrive(now);
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
        this.controls.add(command, this.reach.refuses, now);
        break;
      case 'setPoints':
        this.intake.setPoints(command.points);
        this.round.setPoints(command.points);
        break;
      case 'setSettings':
        Object.assign(this.settings, command.settings);
        break;
      case 'pollNow':
        if (this.up) this.startup.readAll(now);
        break;
      case 'survey':
        if (this.hindrance !== null) this.endSurvey(command.id, 'the device does not answer');
        else this.startup.survey(command.id);
        break;
      case 'order':
        if (this.hindrance !== null) this.endOrder(command.id, 'the device does not answer');
        else this.orders.add({ id: command.id, order: command.order, since: now });
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
    if (effects.length === 0) return NO_EFFECTS;
    this.effects = [];
    return effects;
  }

  /** Asked for after each octet that comes: without lists. */
  get deadline(): Instant | null {
    let earliest = this.endpoint.deadline ?? Infinity;
    if (!this.up) earliest = Math.min(earliest, this.reach.givenUpAt ?? Infinity, this.controls.nextExpiry);
    if (this.exchange !== null) earliest = Math.min(earliest, this.exchange.deadline);
    else if (this.up) earliest = Math.min(earliest, this.nextDue);
    return earliest === Infinity ? null : earliest;
  }

  /** When something is to be asked of its own accord, while nothing is under way. */
  private get nextDue(): Instant {
    const { reach, reads, settings } = this;
    if (reach.isSilent) return this.startup.length === 0 ? reach.nextProbe : Infinity;
    const { late } = this.confirms;
    const notBefore = Math.max(this.freeAgainAt, late === null ? 0 : reads.presentNotBefore);
    let due = Math.min(Math.max(reads.polls.earliest ?? Infinity, notBefore), this.clock.deadline);
    if (late === null && reads.underWay) due = Math.min(due, this.freeAgainAt);
    if (settings.keepAliveMs > 0) due = Math.min(due, this.lastHeard + settings.keepAliveMs);
    return due;
  }

  // ---- what to do next

  private run(now: Instant): void {
    const { givenUpAt } = this.reach;
    if (!this.up && givenUpAt !== null && now >= givenUpAt) this.becomeSilent(now, 'no connection');
    this.endpoint.wake(now);
    if (!this.up) this.controls.expire(now);
    if (this.exchange !== null && now >= this.exchange.deadline) this.onDeadline(this.exchange, now);
    if (this.lane) return;
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
      this.startup.length + this.controls.size + this.orders.size === 0 &&
      !this.reads.underWay &&
      this.repetitions.size === 0 &&
      !this.confirms.waits &&
      this.confirms.late === null &&
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
    const { first: confirm, late } = this.confirms;
    if (confirm !== undefined)
      return { priority: Priority.confirm, since: confirm.since, words: 'confirm', go: this.goConfirm };
    if (this.exchange !== null) return null;
    if (control !== undefined) return this.planControl(control, now);
    const { first: repetition } = this.repetitions;
    if (repetition !== undefined) return this.planRepetition(repetition);
    const { first } = this.startup;
    if (first !== undefined && (late === null || first.type !== 'read'))
      return this.planOf({
        task: first,
        priority: urgentPriority(first),
        since: this.startup.since,
        taken: () => this.startup.shift(),
      });
    if (this.reach.isSilent) return this.planProbe(now);
    if (now < this.freeAgainAt) return null;
    const shared = this.lane;
    const poll = late === null ? this.reads.next(now, shared) : this.reads.presentOnly(now);
    const order = this.orders.size > 0 ? this.orders.next(poll, () => this.clock.task, now) : null;
    const wanted = order ?? this.clock.setting(now) ?? poll;
    if (wanted !== null) return this.planOf(wanted);
    return late === null ? this.planBackground(now) : null;
  }

  private readonly goConfirm = (at: Instant): void => this.sendConfirm(at);

  private planControl(control: ControlRequest, now: Instant): Plan {
    const phase = isSelected(control.mode) ? 'select' : 'operate';
    return this.planOf({
      task: { type: 'control', request: control, phase },
      priority: Priority.control,
      since: now,
      taken: () => this.controls.take(control),
    });
  }

  private planRepetition({ request: task, attempt, since }: Repetition<Task>): Plan {
    return {
      priority: urgentPriority(task),
      since,
      words: `${wordsOf(task)}, try ${attempt + 1}`,
      go: (at) => {
        this.repetitions.take((one) => one === task);
        this.send(task, attempt, at);
      },
    };
  }

  private planOf({ task, priority, since, taken }: WaitingTask): Plan {
    return {
      priority,
      since,
      words: wordsOf(task),
      go: (at) => {
        taken(at);
        const spent = task.type === 'read' ? Math.min(this.reach.triesSpent, this.settings.retries) : 0;
        this.send(task, spent, at);
      },
    };
  }

  /** A silent device is asked by the first request of a new start-up. */
  private planProbe(now: Instant): Plan | null {
    const { nextProbe } = this.reach;
    if (now < nextProbe) return null;
    return {
      priority: Priority.events,
      since: nextProbe,
      words: 'is it back?',
      go: (at) => {
        this.startup.begin(at);
        if (this.reach.probe() === 'withoutFirst') this.startup.leaveOut('disableUnsolicited');
        const task = this.startup.shift();
        if (task) this.send(task, 0, at);
      },
    };
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
    const waitMs = this.reach.isSilent ? Math.min(silentTimeoutMs, responseTimeoutMs) : responseTimeoutMs;
    const ends = begins + this.octetMs * (objects.length + REQUEST_OVERHEAD);
    const sending = { task, attempt, sequence: this.sequence, begins, ends, waitMs };
    this.exchange = new AwaitedAnswer(sending, this.settings, this.octetMs);
  }

  // ---- when nothing comes

  private onDeadline(exchange: AwaitedAnswer, now: Instant): void {
    this.exchange = null;
    if (exchange.commit !== null) {
      if (this.confirms.dropAnswer()) {
        // Committed in time, but the line was not free for so long: the device may have given up.
        this.startup.readAll(now);
        return;
      }
      this.confirms.late = exchange.commit.token;
      this.intake.unheard.over();
      this.report({ type: 'diagnostic', words: 'the commit took too long; confirm withheld' });
      return;
    }
    this.counters.add('timeouts');
    const { task, attempt } = exchange;
    const rules = rulesOf(task);
    const verdict = rules.unanswered?.(task, attempt, this, now);
    if (verdict === 'over') return;
    if (rules.dispensable !== undefined) {
      this.reach.note(task.type);
      if (!this.reach.isSilent) {
        this.onDeclined(task, rules.dispensable, attempt, now);
        return;
      }
    }
    // What is to be asked in another way is asked once more, whatever the tries.
    const tries = verdict === 'again' ? Infinity : this.reach.isSilent ? 0 : this.settings.retries;
    if (this.repetitions.again(task, attempt, tries, now)) return;
    this.giveUpSurvey(task, 'the device does not answer');
    this.becomeSilent(now, `no answer to ${attempt + 1} requests`);
  }

  /** A device may do without this: the rest goes on, with the tries that are left. */
  private onDeclined(task: Task, name: string, attempt: number, now: Instant): void {
    const times = this.reach.times(task.type);
    this.reach.triesSpent = attempt + 1;
    if (task.type === 'measureDelay' || task.type === 'recordTime') this.clock.declined(now, times >= MAX_UNANSWERED);
    if (times === MAX_UNANSWERED)
      this.report({ type: 'diagnostic', words: `does not answer: ${name}; it is polled all the same` });
    // Nothing is left that would find out whether it is there at all.
    const others = this.startup.hasRead || this.reads.polls.earliest !== null;
    if (!others && this.reach.state === 'unknown') this.becomeSilent(now, `no answer to ${attempt + 1} requests`);
  }

  private becomeSilent(now: Instant, words: string): void {
    const { reach } = this;
    const { linkTrouble } = this.endpoint;
    const why = linkTrouble === null ? words : `${words}: ${linkTrouble}`;
    if (reach.giveUp(now, this.settings.silentPeriodMs))
      this.report({ type: 'communication', state: 'silent', words: why });
    this.startup.drop('the device does not answer');
    this.reads.drop();
    reach.triesSpent = 0;
    this.failWaiting('the device does not answer; nothing was sent');
  }

  /** Why nothing can be sent to the device at all; null when it can. */
  private get hindrance(): string | null {
    return this.reach.hindrance(this.up);
  }

  // ---- when something comes

  private onFragment(received: ReceivedFragment, now: Instant): void {
    const { fragment } = received;
    const { exchange } = this;
    if (fragment.functionCode === FunctionCode.unsolicitedResponse) {
      this.onUnsolicited(received, now);
      return;
    }
    if (exchange === null || !exchange.isNext(fragment)) {
      this.counters.add('unexpectedFragments');
      return;
    }
    this.counters.add('responses');
    exchange.fragments++;
    this.onAnswer(now);
    this.report({ type: 'answered', roundTripMs: now - exchange.sentAt });
    this.onIndications(fragment.iin ?? 0, exchange.task, now);

    const { task } = exchange;
    const { readings, problem } = task.type === 'file' ? NOTHING : this.intake.read(fragment);
    this.round.saw(readings);
    exchange.objects ||= readings.length > 0;
    for (const { event, group } of readings) if (event) exchange.groups.add(group);
    exchange.unreadable ||= problem !== null;
    // Where there is no way left to come by what stands behind, it is let go.
    const lastResort = task.type === 'read' && this.reads.plan.isLastResort(task, problem?.kind === 'truncated');
    const confirm = fragment.control.confirm && (problem === null || lastResort);
    const final = fragment.control.final || problem !== null;
    if (readings.length > 0) {
      const scope = task.type === 'read' ? scopeOf(task) : ALL_EVENT_CLASSES;
      const carried = { scope, first: exchange.fragments === 1, final, unsolicited: false };
      const { fresh, ambiguous, repeated } = this.intake.passOn(readings, received, confirm, carried, surveyOf(task));
      exchange.repeated ||= repeated && confirm;
      exchange.fresh += fresh;
      exchange.ambiguous ||= ambiguous;
      if (confirm) {
        exchange.commit = { token: this.intake.token, final };
        exchange.deadline = now + this.settings.commitWaitMs;
      }
    } else if (confirm) this.confirms.want(exchange.sequence, false, now);
    if (final && problem === null && task.type === 'read') {
      const scope = task.closes ? ALL_EVENT_CLASSES : scopeOf(task);
      if (scope !== 0) this.intake.settle(scope, fragment);
    }
    if (final) this.reach.bore(task.type);
    if (final) rulesOf(task).answered(task, exchange.with(fragment), this, now);
    if (exchange.commit === null) this.goOn(exchange, final, now);
  }

  private onUnsolicited(received: ReceivedFragment, now: Instant): void {
    const { fragment } = received;
    const { sequence, confirm, final } = fragment.control;
    this.counters.add('unsolicited');
    const wasConfirmed = this.confirms.lastIsConfirmed;
    if (this.confirms.isRepeated(fragment, now)) {
      if (wasConfirmed) this.intake.unheard.again();
      return;
    }
    this.onAnswer(now);
    this.onIndications(fragment.iin ?? 0, null, now);
    const { readings, problem } = this.intake.read(fragment);
    const wanted = confirm && problem === null;
    const timing = this.confirms.took(fragment, now);
    if (readings.length > 0) {
      const carried = { scope: ALL_EVENT_CLASSES, first: true, final, unsolicited: true, ...timing };
      const { ambiguous } = this.intake.passOn(readings, received, wanted, carried, {});
      if (wanted) this.confirms.await(this.intake.token, ambiguous);
    } else if (wanted) this.confirms.want(sequence, true, now);
    // What cannot be read unasked is asked for in a way that can.
    if (problem !== null && this.reach.state === 'answering') this.startup.readAll(now);
  }

  private onAnswer(now: Instant): void {
    const { reach } = this;
    const before = reach.answered();
    reach.triesSpent = 0;
    if (before === 'answering') return;
    const wasSilent = before === 'silent';
    this.reads.polls.restart(now);
    this.report({ type: 'communication', state: 'answering', words: 'answers' });
    for (const type of ['disableUnsolicited', 'enableUnsolicited'] as const)
      if (reach.times(type) === 1 && !wasSilent && !this.startup.has(type)) this.startup.add(type);
    if (wasSilent && this.startup.length === 0) this.startup.begin(now);
  }

  /** `task` is null for what the device says unasked. */
  private onIndications(iin: number, task: Task | null, now: Instant): void {
    const news = iin & ~this.iinSeen & (Iin.eventBufferOverflow | Iin.deviceTrouble | Iin.configurationCorrupt);
    if (news) this.report({ type: 'diagnostic', words: `device says: ${iinWords(news).join(', ')}` });
    // What it had to drop shows in the present values.
    if (news & Iin.eventBufferOverflow) this.startup.readAll(now);
    if (
      iin & Iin.deviceRestart &&
      task?.type !== 'clearRestart' &&
      (now >= this.clearNotBefore || !(this.iinSeen & Iin.deviceRestart)) &&
      !this.startup.has('clearRestart')
    ) {
      this.clearNotBefore = now + CLEAR_PAUSE_MS;
      if (!(this.iinSeen & Iin.deviceRestart)) {
        this.report({ type: 'diagnostic', words: 'device says: restarted' });
        this.startup.begin(now);
        this.clock.restarted();
      }
      this.startup.doFirst({ type: 'clearRestart' });
    }
    this.clock.indicated((iin & Iin.needTime) !== 0);
    const refusal = iin & REFUSED;
    if (refusal && task !== null && !rulesOf(task).mayBeRefused && task.type !== 'read')
      this.report({ type: 'diagnostic', words: `request refused: ${iinWords(refusal).join(', ')}` });
    this.iinSeen = iin;
  }

  /** Sends the oldest confirm that is due. */
  private sendConfirm(now: Instant): void {
    const confirm = this.confirms.send(now);
    if (confirm === null) return;
    const { sequence, unsolicited, askAgain } = confirm;
    this.endpoint.sendFragment(encodeFragment(single(sequence, false, unsolicited), FunctionCode.confirm, null), now);
    this.counters.add('confirmsSent');
    if (askAgain && this.settings.pollAgain) {
      this.confirms.askedAgain();
      this.reads.askAgain([1, 2, 3], now);
    }
    const { exchange } = this;
    if (unsolicited || exchange?.commit == null || exchange.sequence !== sequence) return;
    const { final } = exchange.commit;
    exchange.commit = null;
    this.goOn(exchange, final, now);
  }

  private onCommitted(token: number, now: Instant): void {
    if (token === this.confirms.late) {
      this.confirms.late = null;
      this.startup.readAll(now);
      return;
    }
    if (this.confirms.committed(token, now)) return;
    const { exchange } = this;
    if (exchange === null || exchange.commit?.token !== token) return;
    // The confirm may have to wait for the line.
    exchange.deadline = now + this.settings.commitWaitMs;
    this.confirms.want(exchange.sequence, false, now);
  }

  /** After a fragment is dealt with: the next one of the same answer, or the end of the exchange. */
  private goOn(exchange: AwaitedAnswer, final: boolean, now: Instant): void {
    if (this.exchange !== exchange) return;
    if (final) {
      this.exchange = null;
      if (exchange.task.type === 'read') this.freeAgainAt = now + this.settings.minimumGapMs;
      return;
    }
    exchange.goOn(now);
    this.sequence = exchange.sequence;
  }
}

/** File objects are for the one who reads the file. */
const NOTHING = { readings: [], problem: null };
const NO_EFFECTS = Object.freeze<MasterEffect[]>([]) as MasterEffect[];

const surveyOf = (task: Task): { survey?: string } =>
  task.type === 'read' && task.survey !== undefined ? { survey: task.survey } : {};
