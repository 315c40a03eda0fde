import type { Wish } from '../../../line/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { Client, ClientCommand, ClientNews, ClientOptions, ClientPoint } from '../../client.ts';
import type { ControlStep } from '../../control.ts';
import { CounterSet } from '../counters.ts';
import type { Order } from '../order.ts';
import type { ModbusAt } from '../points.ts';
import type { ClientSettings } from '../settings.ts';
import { Presence } from '../../polling/presence.ts';
import { Repetitions } from '../../polling/repetitions.ts';
import { encodeFrame, type FramingName, type WireEvent } from '../wire/frame.ts';
import { decodeAnswer, encodeRequest, ExceptionCode, exceptionWords, type Answer } from '../wire/pdu.ts';
import { blockWords } from './blocks.ts';
import { CarryingAnswer } from './readings.ts';
import { answerOctets, priorityOf, requestOf, settled, wordsOf, type Exchange, type Job } from './requests.ts';
import { Rounds, type RunningBlock } from './rounds.ts';
import { WriteQueue } from './writequeue.ts';

/*
 * Our side towards one Modbus server.
 *
 * server     what happens                                        becomes    and then
 * ---------  --------------------------------------------------  ---------  ------------------------------------------
 * unknown    an answer                                           answering  the rounds go on
 * unknown    its only block, or two in a row, without an answer  silent     what waits is given up
 * answering  the same, or no link for as long                    silent     the same; one read in `silentPeriodMs`
 * silent     an answer                                           answering  everything is read
 *
 * request    what happens                                        becomes    and then
 * ---------  --------------------------------------------------  ---------  ------------------------------------------
 * waits      the line is this one's, the window has room         under way  it is sent
 * under way  its answer                                          over       values, words, or the next step of a write
 * under way  no answer: a read with tries left                   waits      again, as a new transaction
 * under way  no answer: a read                                   over       its block is suspect, or the server silent
 * under way  no answer: a write                                  over       unknown: it is never sent again
 * under way  the link is lost                                    over       the same; a read is due again
 *
 * Rules:
 *  1. One request at a time; over TCP as many as the settings say, where only reads are under way.
 *  2. A read that is not answered is sent again, `retries` times, each time as a new transaction. A write never is: its
 *     outcome is unknown.
 *  3. Two reads that stay unanswered one after the other, or the only one there is, make the device silent; one among
 *     others that are answered is left alone for a while, and its points say so. A silent device is asked with one
 *     read, once, every `silentPeriodMs`.
 *  4. Over TCP an answer belongs to its transaction. Where there are none, an answer may be one to an earlier try: as
 *     long as one of those is owed nothing new is asked, for at most a response time-out.
 *  5. A block that is refused for an address or a value that the device does not have is asked for without its gaps,
 *     then by halves, until it is known which points cannot be read. They are asked for again now and then. The same goes
 *     for one that is refused for another reason, or not answered, twice in a row (three times, where the device says that
 *     it is busy); such a one is tried as a whole again when all its pieces can be read.
 *  6. What was written is read back at once.
 *  7. What has changed is handed out; what has not, every few seconds, or when somebody asked for it.
 *  8. A period of 0: read once when the connection is made.
 */

const MAX_WAITING = 32;
/** Requests of one turn, where several may be under way. */
const MOST_IN_TURN = 64;
/** So often in a row a block is unanswered, or refused for what may pass, before it is cut; or said to be too much for now. */
const MOST_FAILURES = 2;
const MOST_BUSY = 3;
/** How long octets of an answer may falter. */
const ARRIVAL_SLACK_MS = 100;
const MAX_EXTENSION = 4;
const EMPTY = new Uint8Array(0);

export class ModbusClient implements Client<ModbusAt, Order, WireEvent> {
  readonly counters: CounterSet;
  readonly keep = EMPTY;
  readonly nextIntegrity = null;
  private effects: (ClientNews | { type: 'send'; octets: Uint8Array })[] = [];
  private up = false;
  private readonly presence: Presence;
  private readonly rounds: Rounds;
  private readonly outstanding = new Map<number, Exchange>();
  private transaction = 0;
  private sentInTurn = 0;
  /** Reads that were not answered and are sent again. */
  private readonly repetitions = new Repetitions<Job & { type: 'read' }>();
  /** Reads that were given up since the last answer, and why: the next one shows that it is there without them. */
  private suspects: { running: RunningBlock; words: string }[] = [];
  private readonly writes: WriteQueue;
  private orders: { id: string; order: Order; since: Instant; survey: boolean }[] = [];
  /** A block that a write touched, to be read before anything else. */
  private readBack: { running: RunningBlock; since: Instant }[] = [];
  /** Answers to earlier tries may still come until then; how many. */
  private owed = { until: 0, count: 0 };
  private freeAgainAt: Instant = 0;
  private probes = 0;
  /** Requests that were not answered since the last answer. */
  private unanswered = 0;
  /** Reads of different blocks that were not answered, since the last answer. */
  private unansweredBlocks = 0;
  private noted = '';

  private readonly settings: ClientSettings;

  constructor(
    settings: ClientSettings,
    private readonly framing: FramingName,
    now: Instant,
    private readonly options: ClientOptions<ModbusAt>,
  ) {
    // Its own: all its parts look at the same, and some of it changes while it runs.
    this.settings = { ...settings };
    this.counters = new CounterSet(now);
    this.writes = new WriteQueue(this.settings, {
      report: (id, step) => this.report(id, step),
      note: (type, words) => this.effects.push({ type, words }),
    });
    this.presence = new Presence(now, () => this.patienceMs);
    this.rounds = new Rounds(this.settings, framing, options);
    this.plan(options.points, now);
  }

  private get patienceMs(): number {
    return this.options.absenceMs ?? this.settings.responseTimeoutMs * (this.settings.retries + 1);
  }

  get share(): number {
    return this.settings.share;
  }

  get holdsLine(): boolean {
    return this.outstanding.size > 0;
  }

  get atRest(): boolean {
    const waits = this.writes.size + this.orders.length + this.readBack.length;
    return waits === 0 && this.repetitions.size === 0 && !this.holdsLine && this.rounds.isDone;
  }

  get indications(): string[] {
    return [];
  }

  get learned(): string | null {
    return this.rounds.learned;
  }

  // ---- what is to be read

  private plan(points: readonly ClientPoint<ModbusAt>[], now: Instant): void {
    this.rounds.plan(points, now);
    if (this.hasUnreadable) this.tellUnreadable('');
    this.readBack = [];
    this.repetitions.clear();
    this.suspects = [];
  }

  // ---- the line

  start(now: Instant): void {
    this.up = true;
    this.outstanding.clear();
    this.owed = { until: 0, count: 0 };
    this.rounds.connected(now);
  }

  stop(now: Instant): void {
    if (!this.up) return;
    this.up = false;
    this.presence.linkLost(now);
    for (const { job } of this.takeOutstanding()) {
      if (job.type === 'write') this.writes.lost(job.writing, 'the link was lost', now);
      if (job.type === 'order') this.endOrder(job, 'the link was lost before the device answered');
    }
    this.writes.linkLost(now);
    this.dropOrders('the link was lost before it was sent');
  }

  private takeOutstanding(): Exchange[] {
    const all = [...this.outstanding.values()];
    this.outstanding.clear();
    all.forEach(settled);
    return all;
  }

  wake(now: Instant): void {
    for (const exchange of [...this.outstanding.values()])
      if (now >= exchange.deadline && this.outstanding.delete(exchange.transaction)) {
        settled(exchange);
        this.onDeadline(exchange, now);
      }
    this.writes.expire(now);
    const { givenUpAt } = this.presence;
    if (givenUpAt !== null && now >= givenUpAt && !this.up) this.becomeSilent(now, 'no connection');
  }

  get deadline(): Instant | null {
    const times: Instant[] = [];
    for (const { deadline } of this.outstanding.values()) times.push(deadline);
    const { givenUpAt } = this.presence;
    if (givenUpAt !== null && !this.up) times.push(givenUpAt);
    times.push(this.writes.nextExpiry);
    if (this.up && !this.holdsLine) {
      const next = this.nextWish();
      if (next !== null) times.push(Math.max(next, this.freeAgainAt, this.owed.count > 0 ? this.owed.until : 0));
    }
    const earliest = Math.min(...times);
    return earliest === Infinity ? null : earliest;
  }

  /** When there is something to send; null: never by itself. */
  private nextWish(): Instant | null {
    if (this.repetitions.size + this.readBack.length > 0) return 0;
    if (this.presence.isSilent) return this.presence.nextProbe;
    const write = this.writes.nextDue;
    if (this.orders.length > 0) return 0;
    const next = Math.min(write, this.rounds.nextDue);
    return next === Infinity ? null : next;
  }

  wants(now: Instant): Wish | null {
    if (!this.up || this.holdsLine || now < this.freeAgainAt) return null;
    if (this.owed.count > 0 && now < this.owed.until) return null;
    const job = this.nextJob(now);
    return job === null ? null : { priority: priorityOf(job.job), since: job.since, words: wordsOf(job.job) };
  }

  /** What is next, without taking it. */
  private nextJob(now: Instant): { job: Job; since: Instant; attempt: number } | null {
    const write = this.presence.isSilent ? null : this.writes.next(now);
    if (write !== null) return { job: { type: 'write', writing: write.writing }, since: write.since, attempt: 0 };
    const [back] = this.readBack;
    if (back) return { job: { type: 'read', running: back.running }, since: back.since, attempt: 0 };
    const { first: again } = this.repetitions;
    if (again) return { job: again.request, since: again.since, attempt: again.attempt };
    if (this.presence.isSilent) {
      const { nextProbe } = this.presence;
      // Another one each time: it may be there and leave just one unanswered.
      const first = this.rounds.at(this.probes);
      if (now < nextProbe || first === undefined) return null;
      return { job: { type: 'read', running: first }, since: nextProbe, attempt: this.settings.retries };
    }
    const [order] = this.orders;
    const due = this.rounds.mostDue(now);
    if (order && (due === null || order.since < (due.due ?? now)))
      return { job: { type: 'order', ...order }, since: order.since, attempt: 0 };
    return due === null ? null : { job: { type: 'read', running: due }, since: due.due ?? now, attempt: 0 };
  }

  grant(now: Instant, begins: Instant): void {
    this.sentInTurn = 0;
    this.fill(now, begins);
  }

  /**
   * Sends as much as may be under way; a turn ends after so many requests, for others on the link. While more than half
   * of that is under way it waits: several requests that leave in one piece cost little more than one.
   */
  private fill(now: Instant, begins: Instant): void {
    const most = this.framing === 'tcp' ? this.settings.outstanding : 1;
    if (this.outstanding.size * 2 > most) return;
    while (this.outstanding.size < most && this.sentInTurn < MOST_IN_TURN) {
      const next = this.nextJob(now);
      if (next === null) return;
      const alone = next.job.type !== 'read' || this.presence.isSilent;
      if (alone && this.sentInTurn > 0) return;
      this.sentInTurn++;
      this.begin(next.job);
      this.send(next.job, next.attempt, now, begins);
      if (alone) {
        this.sentInTurn = MOST_IN_TURN;
        return;
      }
    }
  }

  /** It waits no longer. */
  private begin(job: Job): void {
    switch (job.type) {
      case 'write':
        this.writes.begin(job.writing);
        break;
      case 'order':
        this.orders = this.orders.filter(({ id }) => id !== job.id);
        break;
      case 'read':
        this.readBack = this.readBack.filter(({ running }) => running !== job.running);
        this.repetitions.take(({ running }) => running === job.running);
        job.running.underWay = true;
        break;
      default:
        job satisfies never;
    }
  }

  private send(job: Job, attempt: number, now: Instant, begins: Instant): void {
    const request = requestOf(job);
    const pdu = encodeRequest(request);
    this.transaction = this.framing === 'tcp' ? (this.transaction + 1) & 0xffff : 0;
    const octets = encodeFrame(this.framing, this.transaction, this.settings.unitId, pdu);
    const { octetMs } = this.options;
    const lineMs = octetMs === 0 ? 0 : (octets.length + answerOctets(request, this.framing)) * octetMs;
    const waitMs = this.presence.isSilent ? this.settings.silentTimeoutMs : this.settings.responseTimeoutMs;
    this.outstanding.set(this.transaction, {
      job,
      request,
      attempt,
      transaction: this.transaction,
      sentAt: now,
      deadline: begins + lineMs + waitMs,
      patienceEnds: begins + lineMs + waitMs * MAX_EXTENSION,
    });
    this.counters.add('requests');
    this.counters.add('framesSent');
    this.counters.add('octetsSent', octets.length);
    if (attempt > 0 && !this.presence.isSilent) this.counters.add('retries');
    if (job.type === 'write') {
      this.counters.add('writes');
      this.writes.sent(job.writing, now);
    }
    this.effects.push({ type: 'send', octets });
  }

  octetsArrive(now: Instant): void {
    const { octetMs } = this.options;
    for (const exchange of this.outstanding.values()) {
      const lineMs = octetMs === 0 ? 0 : answerOctets(exchange.request, this.framing) * octetMs;
      const comes = now + lineMs + ARRIVAL_SLACK_MS;
      if (exchange.deadline < comes)
        exchange.deadline = Math.max(exchange.deadline, Math.min(comes, exchange.patienceEnds));
    }
  }

  take(): (ClientNews | { type: 'send'; octets: Uint8Array })[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  // ---- what people and the engine want

  command(command: ClientCommand<ModbusAt, Order>, now: Instant): void {
    switch (command.type) {
      case 'committed':
        break;
      case 'setPoints':
        this.plan(command.points, now);
        break;
      case 'control':
        this.writes.add(command, this.presence.refuses, now);
        break;
      case 'setSettings':
        Object.assign(this.settings, command.settings);
        break;
      case 'pollNow':
        this.rounds.all(now);
        break;
      case 'survey':
        this.ask(command.id, { what: 'identify' }, true, now);
        break;
      case 'order':
        if (command.order.what === 'identify' || command.order.what === 'echo' || command.order.what === 'restart')
          this.ask(command.id, command.order, false, now);
        else this.endOrder({ id: command.id, survey: false }, 'it has no files to give');
        break;
      case 'resetCounters':
        this.counters.reset(now);
        break;
      case 'guest':
        // Its conversations are for itself.
        break;
      default:
        command satisfies never;
    }
  }

  private get hindrance(): string | null {
    return this.presence.hindrance(this.up);
  }

  private ask(id: string, order: Order, survey: boolean, now: Instant): void {
    const full = this.orders.length >= MAX_WAITING ? `${MAX_WAITING} orders wait already` : null;
    const problem = this.hindrance ?? full;
    if (problem !== null) this.endOrder({ id, survey }, problem);
    else this.orders.push({ id, order, since: now, survey });
  }

  private report(id: string, step: ControlStep): void {
    this.effects.push({ type: 'control', id, ...step });
  }

  private endOrder(
    { id, survey }: { id: string; survey: boolean },
    problem: string | null,
    said: { name: string; text: string }[] = [],
    words = '',
  ): void {
    if (survey) this.effects.push({ type: 'surveyed', id, problem, found: this.rounds.found(), attributes: said });
    else this.effects.push({ type: 'ordered', id, problem, answer: words === '' ? {} : { words } });
  }

  // ---- when something comes

  owns(event: WireEvent): boolean {
    return event.type === 'frame' && event.unit === this.settings.unitId;
  }

  strangerHeard(event: WireEvent): void {
    if (event.type !== 'frame') return;
    this.counters.add('otherUnit');
    this.effects.push({ type: 'stranger', address: event.unit, destination: this.settings.unitId });
  }

  receiveEvent(event: WireEvent, now: Instant): void {
    if (!this.up) return;
    this.counters.add('octetsReceived', event.octets.length);
    if (event.type !== 'frame') {
      if (event.type === 'noise') this.counters.add('noiseOctets', event.octets.length);
      else this.counters.add(event.type === 'checksum' ? 'checksums' : 'shortFrames');
      return;
    }
    this.counters.add('framesReceived');
    const exchange = this.outstanding.get(event.transaction ?? 0);
    if (exchange === undefined) {
      this.counters.add(this.owed.count > 0 || event.transaction !== null ? 'lateAnswers' : 'unexpected');
      this.owed.count = Math.max(0, this.owed.count - 1);
      return;
    }
    const answer = decodeAnswer(event.pdu, exchange.request);
    if (typeof answer === 'string') {
      this.counters.add('unexpected');
      this.note(`not understood: ${answer}`);
      return;
    }
    this.outstanding.delete(exchange.transaction);
    settled(exchange);
    // Where answers cannot be told apart, one to each earlier try may still come.
    if (this.framing !== 'tcp' && exchange.attempt > 0 && !this.presence.isSilent)
      this.owed = { until: now + this.settings.responseTimeoutMs, count: exchange.attempt };
    this.counters.add('responses');
    if (!answer.ok) {
      this.counters.add('exceptions');
      if (answer.exception === ExceptionCode.gatewaySilent || answer.exception === ExceptionCode.noGatewayPath) {
        this.note(exceptionWords(answer.exception));
        this.onUnanswered(exchange, exceptionWords(answer.exception), now);
        return;
      }
    }
    this.onAnswer(exchange, now);
    this.onResult(exchange, answer, event, now);
    this.freeAgainAt = now + this.settings.minimumGapMs;
    // The line is still held for the others that are under way.
    if (this.holdsLine && this.settings.minimumGapMs === 0) this.fill(now, now);
  }

  /** The same is said once, until something else is. */
  private note(words: string): void {
    if (this.noted === words) return;
    this.noted = words;
    this.effects.push({ type: 'diagnostic', words });
  }

  private onAnswer({ sentAt }: Exchange, now: Instant): void {
    this.unansweredBlocks = 0;
    this.unanswered = 0;
    const suspects = this.suspects.splice(0);
    for (const { running, words } of suspects) this.onFailed(running, words, now, MOST_FAILURES);
    this.effects.push({ type: 'answered', roundTripMs: now - sentAt });
    const before = this.presence.answered();
    if (before === 'answering') return;
    this.effects.push({ type: 'communication', state: 'answering', words: 'answers' });
    if (before === 'silent') this.rounds.all(now);
  }

  private onResult({ job }: Exchange, answer: Answer, frame: WireEvent & { type: 'frame' }, now: Instant): void {
    switch (job.type) {
      case 'read':
        if (answer.ok && 'data' in answer.response) this.onRead(job.running, answer.response.data, frame, now);
        else if (!answer.ok) this.onRefused(job.running, answer.exception, now);
        break;
      case 'write':
        this.onWritten(job, answer, now);
        break;
      case 'order':
        this.onOrdered(job, answer);
        break;
      default:
        job satisfies never;
    }
  }

  private onRead(running: RunningBlock, data: Uint8Array, frame: WireEvent & { type: 'frame' }, now: Instant): void {
    const { block } = running;
    const wasRefused = running.refused !== null;
    const readings = this.rounds.read(running, data, now);
    if (wasRefused && running.refused === null) {
      this.effects.push({ type: 'noted', words: `${blockWords(block)} can be read again` });
      this.tellUnreadable('');
    }
    if (readings.length === 0) return;
    const carried = new CarryingAnswer(frame, block);
    this.effects.push({ type: 'readings', readings, carried, token: null, keep: null });
  }

  private onRefused(running: RunningBlock, exception: number, now: Instant): void {
    const { illegalAddress, illegalValue, busy } = ExceptionCode;
    const isSure = exception === illegalAddress || exception === illegalValue;
    this.onFailed(running, exceptionWords(exception), now, isSure ? 1 : exception === busy ? MOST_BUSY : MOST_FAILURES);
  }

  /** What fails so often in a row is asked for in pieces: one of them may be all that fails. */
  private onFailed(running: RunningBlock, words: string, now: Instant, most: number): void {
    if (!this.rounds.has(running)) return;
    if (running.refused === null && this.rounds.failed(running, now) < most) return;
    if (!this.rounds.cut(running, now, most === 1)) this.cannotRead(running, words, now);
  }

  private cannotRead(running: RunningBlock, words: string, now: Instant): void {
    if (!this.rounds.has(running)) return;
    const isNews = this.rounds.refuse(running, words, now);
    this.tellUnreadable(isNews ? `${blockWords(running.block)} cannot be read: ${words}` : '');
  }

  /** What cannot be read is told as a whole. */
  private tellUnreadable(words: string): void {
    const points = this.rounds.unreadable;
    this.hasUnreadable = points.length > 0;
    this.effects.push({ type: 'unreadable', points, words });
  }
  private hasUnreadable = false;

  private onWritten({ writing }: Job & { type: 'write' }, answer: Answer, now: Instant): void {
    const written = this.writes.answered(writing, answer, now);
    if (written !== null) this.lookAgain(written, now);
  }

  private lookAgain(at: ModbusAt, now: Instant): void {
    for (const running of this.rounds.touching(at)) {
      running.data = null;
      if (!running.underWay) this.readBack.push({ running, since: now });
    }
  }

  private onOrdered(job: Job & { type: 'order' }, answer: Answer): void {
    if (!answer.ok) {
      // A survey goes without what the device does not say of itself.
      this.endOrder(job, job.survey ? null : exceptionWords(answer.exception));
      return;
    }
    const { response } = answer;
    if (response.code === 0x2b) {
      const said = response.objects.map(({ id, text }) => ({ name: OBJECT_NAMES[id] ?? `object ${id}`, text }));
      this.endOrder(job, null, said, said.map(({ name, text }) => `${name} ${text}`).join(', '));
    } else this.endOrder(job, null);
  }

  // ---- when nothing comes

  private onDeadline(exchange: Exchange, now: Instant): void {
    this.counters.add('timeouts');
    this.onUnanswered(exchange, 'no answer', now);
  }

  private onUnanswered({ job, attempt }: Exchange, words: string, now: Instant): void {
    switch (job.type) {
      case 'write':
        this.writes.lost(job.writing, words, now);
        // A late answer to it would pass for one to the next request.
        if (this.framing !== 'tcp') this.owed = { until: now + this.settings.responseTimeoutMs, count: 1 };
        return;
      case 'order':
        this.endOrder(job, job.survey ? null : words);
        return;
      case 'read':
        break;
      default:
        job satisfies never;
    }
    if (this.settings.dropsRound && this.presence.state === 'answering') this.rounds.drop(now);
    this.unanswered++;
    const tries = this.unansweredBlocks > 0 || this.presence.isSilent ? 0 : this.settings.retries;
    if (this.repetitions.again(job, attempt, tries, now)) return;
    this.unansweredBlocks++;
    if (!this.presence.isSilent && this.unansweredBlocks < 2) {
      // Whether it is there at all the next one shows, or a piece of the only one.
      const other = this.rounds.other(job.running);
      const piece = other ? null : this.rounds.pieceOf(job.running, now);
      if (other || piece) {
        this.suspects = [{ running: job.running, words }];
        job.running.due = now + this.patienceMs;
        if (other) other.due = now;
        else if (piece) this.readBack.push({ running: piece, since: now });
        return;
      }
    }
    job.running.due = now;
    // Should it be there after all, these two are what it did not answer.
    if (!this.presence.isSilent) this.suspects.push({ running: job.running, words });
    this.becomeSilent(now, `${words} to ${this.unanswered === 1 ? '1 request' : `${this.unanswered} requests`}`);
  }

  private becomeSilent(now: Instant, words: string): void {
    if (this.presence.giveUp(now, this.settings.silentPeriodMs))
      this.effects.push({ type: 'communication', state: 'silent', words });
    this.probes++;
    this.readBack = [];
    this.writes.failAll('the device does not answer; nothing was sent', now);
    this.dropOrders('the device does not answer; nothing was sent');
  }

  private dropOrders(words: string): void {
    for (const order of this.orders.splice(0)) this.endOrder(order, words);
    this.repetitions.clear();
    this.rounds.release();
  }
}

/** Objects of an identification (Modbus Application Protocol V1.1b3, 6.21, table of object ids). */
const OBJECT_NAMES: Record<number, string> = {
  0: 'vendor',
  1: 'product code',
  2: 'revision',
  3: 'vendor URL',
  4: 'product',
  5: 'model',
  6: 'application',
};
