import type { Instant, Session } from '../session/index.ts';
import { deviceAttributes, type DeviceAttribute } from './attributes.ts';
import { encodeFragment, FunctionCode, Iin, IIN_CLASS_EVENTS, iinWords, single, type Fragment } from './application.ts';
import { ControlStatus, controlStatusWords } from './control.ts';
import { CounterSet } from './counters.ts';
import { Endpoint, type ReceivedFragment } from './endpoint.ts';
import { measuredReadings, type MeasuredReading } from './measured.ts';
import { ALL_CLASSES, controlEcho, oneWay, requestOf, type ControlRequest, type Task } from './request.ts';
import type { MasterSettings } from './settings.ts';

/*
 * The master's side of one DNP3 conversation.
 *
 * Rules:
 *  1. One request at a time. The order when several wait: controls, start-up, time, event polls, integrity poll.
 *  2. Start-up, on each connection: disable unsolicited, then an integrity poll (all classes). A restart that the
 *     device indicates is cleared, and followed by the same.
 *  3. A request that is not answered in time is sent again with a new sequence number, `retries` times; then the
 *     device is silent and is asked once in `silentPeriodMs` until it answers. A control is never sent again.
 *  4. A link that stays away for as long as all tries would take makes the device silent too.
 *  5. An answer that asks for a confirm gets it when the owner says that its readings are committed, not before.
 *     When that takes longer than `commitWaitMs` the answer is given up, no events are asked for until the commit is
 *     there, and an integrity poll settles what the device still holds.
 *  6. A control waits for the request in progress, is dropped at its expiry, and ends in exactly one of: operated,
 *     refused (with the device's status), failed (nothing was operated), unknown (sent, and no answer came).
 */

export type MasterCommand =
  | { type: 'committed'; token: number }
  | ControlRequest
  | { type: 'pollNow' }
  /** Reads the present value of all points once, for a survey. */
  | { type: 'survey'; id: string }
  | { type: 'resetCounters' };

export type ControlStep =
  | { step: 'selectSent' | 'selected' | 'operateSent' | 'operated' }
  | { step: 'refused'; status: number; words: string }
  | { step: 'expired' | 'failed' | 'unknown'; words: string };

export type MasterEffect =
  | { type: 'send'; octets: Uint8Array }
  /** With a token: confirm is due once these are committed. */
  | {
      type: 'readings';
      readings: MeasuredReading[];
      received: ReceivedFragment;
      token: number | null;
      /** Classes of the read that brought them, as bits: 1, 2 and 4 for the classes 1, 2 and 3. */
      classes: number;
      /** They begin an answer. */
      first: boolean;
      /** The survey that asked for them. */
      survey?: string;
    }
  /** A survey has come to its end; problem: why it has not everything. */
  | { type: 'surveyed'; id: string; problem: string | null; attributes: DeviceAttribute[] }
  /** A complete answer to a read of these classes was taken; of those in `waiting` the device holds more (bits). */
  | { type: 'settled'; classes: number; waiting: number }
  /** What the device still holds is in doubt: events may come again. */
  | { type: 'doubt' }
  | { type: 'communication'; state: 'answering' | 'silent'; words: string }
  | { type: 'answered'; roundTripMs: number }
  | ({ type: 'control'; id: string } & ControlStep)
  | { type: 'diagnostic'; words: string };

interface Exchange {
  task: Task;
  attempt: number;
  sequence: number;
  sentAt: Instant;
  deadline: Instant;
  fragments: number;
  /** Token of the commit that the confirm waits for. */
  commit: { token: number; final: boolean } | null;
}

const MAX_WAITING_CONTROLS = 32;
const TIME_SYNC_PAUSE_MS = 60_000;
type PollName = 'integrity' | 'class1' | 'class2' | 'class3';

export class Master implements Session<MasterCommand, MasterEffect> {
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
  private controls: ControlRequest[] = [];
  private due: Record<PollName, Instant | null>;
  private timeSyncAsked = false;
  private timeSyncNotBefore: Instant = 0;
  private token = 0;
  /** A commit that took too long; no events are asked for until it is there. */
  private lateCommit: number | null = null;
  private iinSeen = 0;

  constructor(
    readonly settings: MasterSettings,
    now: Instant,
  ) {
    this.counters = new CounterSet(now);
    const { ourAddress, theirAddress, maxFragment } = settings;
    this.endpoint = new Endpoint({ role: 'master', ourAddress, theirAddress, maxFragment, counters: this.counters });
    this.lossAt = now + this.patienceMs;
    this.due = this.firstDue(now);
  }

  /** How long it takes until all tries of a request are spent. */
  private get patienceMs(): number {
    return this.settings.responseTimeoutMs * (this.settings.retries + 1);
  }

  private periodOf(poll: PollName): number {
    return this.settings[`${poll}PeriodMs`];
  }

  private firstDue(now: Instant): Record<PollName, Instant | null> {
    const at = (poll: PollName): Instant | null => (this.periodOf(poll) > 0 ? now + this.periodOf(poll) : null);
    return { integrity: at('integrity'), class1: at('class1'), class2: at('class2'), class3: at('class3') };
  }

  /** When the next integrity poll is due; null when there is none. */
  get nextIntegrity(): Instant | null {
    return this.due.integrity;
  }

  /** Internal indications of the last answer. */
  get indications(): number {
    return this.iinSeen;
  }

  start(now: Instant): void {
    this.up = true;
    this.endpoint.reset();
    this.exchange = null;
    this.effects.push({ type: 'doubt' });
    this.due = this.firstDue(now);
    this.timeSyncNotBefore = now;
    this.queueStartup();
    this.run(now);
  }

  stop(now: Instant): void {
    if (!this.up) return;
    this.up = false;
    this.lossAt ??= now + this.patienceMs;
    const { exchange } = this;
    this.exchange = null;
    this.lateCommit = null;
    this.dropStartup('the link was lost');
    const { task } = exchange ?? {};
    if ((task?.type === 'read' || task?.type === 'attributes') && task.survey !== undefined)
      this.endSurvey(task.survey, 'the link was lost');
    if (exchange?.task.type === 'control') this.controlUnanswered(exchange.task, 'the link was lost');
    this.failWaitingControls('the link was lost before it was sent');
  }

  private queueStartup(): void {
    const surveys = this.startup.filter(
      (task) => (task.type === 'read' || task.type === 'attributes') && task.survey !== undefined,
    );
    this.startup = this.settings.disableUnsolicited ? [{ type: 'disableUnsolicited' }] : [];
    this.startup.push({ type: 'read', classes: ALL_CLASSES }, ...surveys);
  }

  private dropStartup(words: string): void {
    for (const task of this.startup.splice(0))
      if ((task.type === 'read' || task.type === 'attributes') && task.survey !== undefined)
        this.endSurvey(task.survey, words);
  }

  /** The present values are there: what the device says of itself comes last. */
  private goOnWithSurvey(id: string, problem: string | null): void {
    if (problem !== null) this.endSurvey(id, problem);
    else this.startup.unshift({ type: 'attributes', survey: id });
  }

  private endSurvey(id: string, problem: string | null, attributes: DeviceAttribute[] = []): void {
    this.effects.push({ type: 'surveyed', id, problem, attributes });
  }

  private failWaitingControls(words: string): void {
    for (const { id } of this.controls.splice(0)) this.effects.push({ type: 'control', id, step: 'failed', words });
  }

  receive(bytes: Uint8Array, now: Instant): void {
    if (!this.up) return;
    for (const received of this.endpoint.receive(bytes)) this.onFragment(received, now);
    this.run(now);
  }

  command(command: MasterCommand, now: Instant): void {
    switch (command.type) {
      case 'committed':
        this.onCommitted(command.token, now);
        break;
      case 'control':
        this.onControl(command);
        break;
      case 'pollNow':
        if (this.up && !this.startup.some((task) => task.type === 'read' && task.survey === undefined))
          this.startup.push({ type: 'read', classes: ALL_CLASSES });
        break;
      case 'survey':
        if (!this.up || this.state === 'silent') this.endSurvey(command.id, 'the device does not answer');
        else this.startup.push({ type: 'read', classes: [0], survey: command.id });
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
    if (octets !== null) this.effects.push({ type: 'send', octets });
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  get deadline(): Instant | null {
    const times: Instant[] = [];
    if (this.lossAt !== null && this.state !== 'silent') times.push(this.lossAt);
    if (this.exchange !== null) times.push(this.exchange.deadline);
    else if (this.up) {
      if (this.state === 'silent' && this.startup.length === 0) times.push(this.nextProbe);
      if (this.state !== 'silent') {
        if (this.lateCommit === null) for (const at of Object.values(this.due)) if (at !== null) times.push(at);
        if (this.timeSyncAsked) times.push(this.timeSyncNotBefore);
      }
    }
    return times.length > 0 ? Math.min(...times) : null;
  }

  // ---- what to do next

  private run(now: Instant): void {
    if (this.lossAt !== null && now >= this.lossAt && this.state !== 'silent') this.becomeSilent(now, 'no connection');
    if (this.exchange !== null && now >= this.exchange.deadline) this.onDeadline(this.exchange, now);
    if (!this.up || this.exchange !== null) return;
    const task = this.nextTask(now);
    if (task !== null) this.send(task, 0, now);
  }

  private nextTask(now: Instant): Task | null {
    for (let request = this.controls.shift(); request !== undefined; request = this.controls.shift()) {
      if (now < request.expiresAt) {
        return { type: 'control', request, phase: request.mode === 'direct' ? 'operate' : 'select' };
      }
      this.effects.push({
        type: 'control',
        id: request.id,
        step: 'expired',
        words: 'it had expired before it was sent',
      });
    }
    const first = this.startup[0];
    if (first !== undefined && (this.lateCommit === null || first.type !== 'read')) {
      this.startup.shift();
      return first;
    }
    if (this.state === 'silent') {
      if (now < this.nextProbe) return null;
      return { type: 'read', classes: ALL_CLASSES };
    }
    if (this.timeSyncAsked && now >= this.timeSyncNotBefore) {
      this.timeSyncNotBefore = now + TIME_SYNC_PAUSE_MS;
      return { type: 'measureDelay' };
    }
    if (this.lateCommit !== null) return null;
    const isDue = (poll: PollName): boolean => {
      const at = this.due[poll];
      return at !== null && now >= at;
    };
    const classes = ([1, 2, 3] as const).filter((n) => isDue(`class${n}`));
    for (const n of classes) this.advance(`class${n}`, now);
    if (isDue('integrity')) {
      this.advance('integrity', now);
      return { type: 'read', classes: ALL_CLASSES };
    }
    return classes.length > 0 ? { type: 'read', classes } : null;
  }

  /** The next time of a poll, kept on its own grid; rounds that were missed are left out. */
  private advance(poll: PollName, now: Instant): void {
    const at = this.due[poll];
    const period = this.periodOf(poll);
    if (at === null) return;
    this.due[poll] = at + period * Math.max(1, Math.ceil((now - at + 1) / period));
  }

  private send(task: Task, attempt: number, now: Instant): void {
    this.sequence = (this.sequence + 1) & 0x0f;
    const [functionCode, objects] = requestOf(task, now);
    this.endpoint.sendFragment(encodeFragment(single(this.sequence), functionCode, null, objects));
    this.counters.add('requests');
    if (attempt > 0) this.counters.add('retries');
    const deadline = now + this.settings.responseTimeoutMs;
    this.exchange = { task, attempt, sequence: this.sequence, sentAt: now, deadline, fragments: 0, commit: null };
    if (task.type === 'control')
      this.effects.push({
        type: 'control',
        id: task.request.id,
        step: task.phase === 'select' ? 'selectSent' : 'operateSent',
      });
  }

  // ---- when nothing comes

  private onDeadline(exchange: Exchange, now: Instant): void {
    this.exchange = null;
    if (exchange.commit !== null) {
      this.lateCommit = exchange.commit.token;
      this.effects.push({ type: 'doubt' }, { type: 'diagnostic', words: 'the commit took too long; confirm withheld' });
      return;
    }
    this.counters.add('timeouts');
    const { task, attempt } = exchange;
    if (task.type === 'control') {
      this.controlUnanswered(task, `no answer in ${this.settings.responseTimeoutMs} ms`);
      return;
    }
    // A device may not answer what it does not know: that says nothing of the rest.
    if (task.type === 'attributes') {
      this.endSurvey(task.survey, null);
      return;
    }
    // Perhaps it was our confirm that got lost, and the device waits for it.
    if (exchange.fragments > 0) this.effects.push({ type: 'doubt' });
    if (attempt < this.settings.retries && this.state !== 'silent') {
      this.send(task, attempt + 1, now);
      return;
    }
    if (task.type === 'read' && task.survey !== undefined) this.endSurvey(task.survey, 'the device does not answer');
    this.becomeSilent(now, `no answer to ${attempt + 1} requests`);
  }

  private becomeSilent(now: Instant, words: string): void {
    if (this.state !== 'silent') this.effects.push({ type: 'communication', state: 'silent', words });
    this.state = 'silent';
    this.dropStartup('the device does not answer');
    this.nextProbe = now + this.settings.silentPeriodMs;
    this.failWaitingControls('the device does not answer; nothing was sent');
  }

  private controlUnanswered(task: Task & { type: 'control' }, words: string): void {
    const { id } = task.request;
    if (task.phase === 'select')
      this.effects.push({ type: 'control', id, step: 'failed', words: `select: ${words}; nothing was operated` });
    else this.effects.push({ type: 'control', id, step: 'unknown', words: `operate was sent, but ${words}` });
  }

  private onControl(request: ControlRequest): void {
    const fail = (words: string): void =>
      void this.effects.push({ type: 'control', id: request.id, step: 'failed', words });
    if (!this.up) fail('no connection to the device; nothing was sent');
    else if (this.state === 'silent') fail('the device does not answer; nothing was sent');
    else if (this.controls.length >= MAX_WAITING_CONTROLS)
      fail(`${MAX_WAITING_CONTROLS} controls wait already; nothing was sent`);
    else this.controls.push(request);
  }

  // ---- when something comes

  private onFragment(received: ReceivedFragment, now: Instant): void {
    const { fragment } = received;
    const { exchange } = this;
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
    this.effects.push({ type: 'answered', roundTripMs: now - exchange.sentAt });
    this.onIndications(fragment.iin ?? 0, exchange.task);

    const { readings, problem } = measuredReadings(fragment);
    if (problem !== null) {
      this.counters.add('malformedFragments');
      this.effects.push({ type: 'diagnostic', words: `answer not understood from here on: ${problem.words}` });
    }
    const confirm = fragment.control.confirm && problem === null;
    const final = fragment.control.final || problem !== null;
    this.counters.add('events', readings.filter((reading) => reading.event).length);
    if (readings.length > 0) {
      const token = confirm ? ++this.token : null;
      const { task, fragments } = exchange;
      const from = { classes: classBits(task), first: fragments === 1 };
      this.effects.push({ type: 'readings', readings, received, token, ...from, ...surveyOf(task) });
      if (token !== null) {
        exchange.commit = { token, final };
        exchange.deadline = now + this.settings.commitWaitMs;
      }
    } else if (confirm) this.confirm(exchange.sequence);
    const classes = classBits(exchange.task);
    const waiting = ((fragment.iin ?? 0) & IIN_EVENTS) >>> 1;
    if (final && problem === null && classes !== 0) this.effects.push({ type: 'settled', classes, waiting });
    if (final) this.finish(exchange, fragment, now);
    if (exchange.commit === null) this.goOn(exchange, final, now);
  }

  private onAnswer(now: Instant): void {
    this.lossAt = null;
    if (this.state === 'answering') return;
    const wasSilent = this.state === 'silent';
    this.state = 'answering';
    this.due = this.firstDue(now);
    this.effects.push({ type: 'communication', state: 'answering', words: 'answers' });
    if (wasSilent && this.startup.length === 0) this.queueStartup();
  }

  private onIndications(iin: number, task: Task): void {
    const news = iin & ~this.iinSeen & (Iin.eventBufferOverflow | Iin.deviceTrouble | Iin.configurationCorrupt);
    if (news) this.effects.push({ type: 'diagnostic', words: `device says: ${iinWords(news).join(', ')}` });
    if (
      iin & Iin.deviceRestart &&
      task.type !== 'clearRestart' &&
      !this.startup.some((t) => t.type === 'clearRestart')
    ) {
      if (!(this.iinSeen & Iin.deviceRestart)) {
        this.effects.push({ type: 'diagnostic', words: 'device says: restarted' });
        this.queueStartup();
        this.timeSyncNotBefore = 0;
      }
      this.startup.unshift({ type: 'clearRestart' });
    }
    if (iin & Iin.needTime && this.settings.timeSync === 'whenAsked') this.timeSyncAsked = true;
    if (!(iin & Iin.needTime)) this.timeSyncAsked = false;
    const refusal = iin & (Iin.functionNotSupported | Iin.objectUnknown | Iin.parameterError);
    if (refusal && task.type !== 'disableUnsolicited' && task.type !== 'measureDelay' && task.type !== 'attributes')
      this.effects.push({ type: 'diagnostic', words: `request refused: ${iinWords(refusal).join(', ')}` });
    this.iinSeen = iin;
  }

  /** What the last fragment of an answer means for its task. */
  private finish(exchange: Exchange, fragment: Fragment, now: Instant): void {
    const { task } = exchange;
    switch (task.type) {
      case 'control':
        this.onControlAnswer(task, fragment, now);
        break;
      case 'measureDelay':
        this.startup.unshift({ type: 'writeTime', oneWayMs: oneWay(fragment, now - exchange.sentAt) });
        break;
      case 'read':
        if (task.survey !== undefined) this.goOnWithSurvey(task.survey, surveyRefusal(fragment));
        else this.pollAgainWhenEventsWait(task.classes, fragment);
        break;
      case 'attributes':
        this.endSurvey(task.survey, null, deviceAttributes(fragment));
        break;
      case 'disableUnsolicited':
      case 'clearRestart':
      case 'writeTime':
        break;
      default:
        task satisfies never;
    }
  }

  /** More events than one answer holds: ask on, as long as answers bring some. */
  private pollAgainWhenEventsWait(classes: readonly number[], fragment: Fragment): void {
    const iin = fragment.iin ?? 0;
    if (!fragment.control.confirm) return;
    const waiting = classes.filter((n) => n > 0 && iin & (1 << n));
    if (waiting.length > 0 && !this.startup.some((task) => task.type === 'read'))
      this.startup.push({ type: 'read', classes: waiting });
  }

  private onControlAnswer(task: Task & { type: 'control' }, fragment: Fragment, now: Instant): void {
    const { request, phase } = task;
    const { id } = request;
    const answer = controlEcho(fragment, request);
    if (typeof answer === 'string') {
      if (phase === 'select') this.effects.push({ type: 'control', id, step: 'failed', words: `select: ${answer}` });
      else this.effects.push({ type: 'control', id, step: 'unknown', words: `operate: ${answer}` });
      return;
    }
    if (answer !== ControlStatus.success) {
      const words = controlStatusWords(answer);
      this.effects.push({ type: 'control', id, step: 'refused', status: answer, words });
      return;
    }
    if (phase === 'operate') {
      this.effects.push({ type: 'control', id, step: 'operated' });
      return;
    }
    this.effects.push({ type: 'control', id, step: 'selected' });
    if (request.mode === 'selectOnly') return;
    if (now < request.expiresAt) this.send({ type: 'control', request, phase: 'operate' }, 0, now);
    else this.effects.push({ type: 'control', id, step: 'expired', words: 'it expired after the select' });
  }

  private confirm(sequence: number): void {
    this.endpoint.sendFragment(encodeFragment(single(sequence), FunctionCode.confirm, null));
    this.counters.add('confirmsSent');
  }

  private onCommitted(token: number, now: Instant): void {
    if (token === this.lateCommit) {
      this.lateCommit = null;
      this.startup.push({ type: 'read', classes: ALL_CLASSES });
      return;
    }
    const { exchange } = this;
    if (exchange === null || exchange.commit?.token !== token) return;
    const { final } = exchange.commit;
    exchange.commit = null;
    this.confirm(exchange.sequence);
    this.goOn(exchange, final, now);
  }

  /** After a fragment is dealt with: the next one of the same answer, or the end of the exchange. */
  private goOn(exchange: Exchange, final: boolean, now: Instant): void {
    if (this.exchange !== exchange) return;
    if (final) {
      this.exchange = null;
      return;
    }
    exchange.sequence = (exchange.sequence + 1) & 0x0f;
    this.sequence = exchange.sequence;
    exchange.deadline = now + this.settings.responseTimeoutMs;
  }
}

const surveyOf = (task: Task): { survey?: string } =>
  task.type === 'read' && task.survey !== undefined ? { survey: task.survey } : {};

/** Why an answer to a survey is not all there is. */
function surveyRefusal({ iin }: Fragment): string | null {
  const refusal = (iin ?? 0) & (Iin.functionNotSupported | Iin.objectUnknown | Iin.parameterError);
  return refusal ? `the device refused the request: ${iinWords(refusal).join(', ')}` : null;
}

/** IIN1.1 to IIN1.3: events of the classes 1 to 3 wait. */
const IIN_EVENTS = IIN_CLASS_EVENTS[1] | IIN_CLASS_EVENTS[2] | IIN_CLASS_EVENTS[3];

/** The event classes that a task reads, as bits. */
const classBits = (task: Task): number =>
  task.type === 'read' ? task.classes.reduce((bits, n) => (n > 0 ? bits | (1 << (n - 1)) : bits), 0) : 0;
