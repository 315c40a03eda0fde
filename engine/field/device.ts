import { adopted, sameDocument, type DeviceConfig } from '@halvix/core/config';
import {
  type Client,
  type ClientCommand,
  type ClientNews,
  type ClientPoint,
  type ControlOrder,
  type DeviceAttribute,
  type FileOrder,
  type OrderAnswer,
  type Contact,
  type PointAt,
  type SurveyedPoint,
  deviceOf,
} from '@halvix/core/protocols';
import { clientSide } from '@halvix/core/protocols/sessions';
import { octetMs } from '@halvix/core/line';
import type { DetailState, DeviceState } from '@halvix/core/path';
import { clock } from '@halvix/wire';
import { Ingest, type IngestContext } from '../board/ingest.ts';
import { Plays } from './plays.ts';
import { detailStateOf } from '../told/details.ts';
import { conversationKey, type Conversations } from '../links/conversations.ts';
import { lineTiming, type DeviceLink } from '../links/link.ts';

export interface DeviceContext extends IngestContext {
  /** Progress of a control that was given to this device. */
  onControl: (progress: ClientNews & { type: 'control' }) => void;
  /** The state of a hop changed: publish it soon. */
  changed: () => void;
  /** Where its session may have a guest. */
  conversations: Conversations;
}

export interface SurveyAnswer {
  found: SurveyedPoint[];
  attributes: DeviceAttribute[];
  problem: string | null;
}

export interface FileAnswer {
  problem: string | null;
  answer: OrderAnswer;
}

interface AskedFile {
  progress: (octets: number) => void;
  done: (answer: FileAnswer) => void;
}

/** Events older than this when they come are a backlog that is worth a word. */
const BACKLOG_MS = 60_000;
/** A device's clock that is further off is worth a word. */
const CLOCK_OFF_MS = 1000;

/** Of a device whose link is not there. */
const NO_CONNECTION = 'no connection';

/** One device on its link: polls it, and passes on what comes. */
export class DeviceRunner {
  private readonly client: Client<PointAt, unknown, unknown>;
  private readonly ingest: Ingest;
  readonly plays: Plays;
  private state: Pick<DeviceState, 'state' | 'since' | 'words'>;
  private readonly surveys = new Map<string, (answer: SurveyAnswer) => void>();
  private lastGood: number | null = null;
  private roundTripMs: number | null = null;
  private clock: DeviceState['clock'] = null;
  private readonly clockPast: NonNullable<DeviceState['clock']>[] = [];
  private orders = 0;
  private hasEnded = false;
  private backlogNoted = 0;
  /** Points that cannot be had from it, or could not once, and since when that is as it is. */
  private readonly hadOrNot = new Map<number, { failed: boolean; since: number }>();
  /** Who answered in its place last. */
  private stranger: { address: number; destination: number; at: number } | null = null;
  /** Orders under way: who asked, or who waits for the answer. */
  private readonly asked = new Map<string, { words: string; by: string } | AskedFile>();

  constructor(
    public config: DeviceConfig,
    readonly link: DeviceLink,
    remembered: Uint8Array | null,
    private readonly context: DeviceContext,
    /** Why nobody speaks with it, although it is to be collected; null: somebody does. */
    readonly held: string | null = null,
  ) {
    this.ingest = new Ingest(config, context);
    this.plays = new Plays(config, {
      ...{ exchange: context.exchange, ingest: this.ingest, changed: () => context.changed() },
      refresh: () => this.showOwn(),
    });
    this.state = { state: 'unknown', since: clock.now(), words: 'not asked yet' };
    const { calls, framing } = link.config;
    const { unpolled } = deviceOf(config.protocol);
    // On demand, each call begins with an integrity poll, which brings everything.
    const settings = calls.when === 'onDemand' ? unpolled(config.settings) : config.settings;
    this.client = clientSide(config.protocol).make(settings, framing, clock.now(), {
      octetMs: octetMs(lineTiming(link.config)),
      remembered,
      points: this.listed(),
      phase: phaseOf(config.code),
      code: config.code,
      ...(calls.lateAfterMs > 0 ? { absenceMs: calls.lateAfterMs } : {}),
      ...(link.within ? { within: link.within(config.code) } : {}),
    });
  }

  /** The list as the exchange has it. */
  private listed(): ClientPoint<PointAt>[] {
    return this.context.exchange.ofDevice(this.config.code).map(({ id, config: { kind, at } }) => ({ id, kind, at }));
  }

  start(): void {
    const { code, settings } = this.config;
    if (this.held !== null) return this.onCommunication('silent', this.held);
    this.link.attach({ code, settings, client: this.client, onEffect: (effect) => this.onEffect(effect) });
    if (!this.link.isGuest) this.context.conversations.openHost(this.conversation, (guest) => this.command(guest));
  }

  /** Of its link, which a centre that is this device too may share. */
  private get conversation(): string {
    return conversationKey(this.link.config.code, this.config.code);
  }

  /** Ends the session; returns what whoever goes on with the device has to know. */
  stop(): Uint8Array {
    if (!this.link.isGuest) this.context.conversations.closeHost(this.conversation);
    this.plays.stopAll('the session of the device was ended');
    this.link.detach(this.config.code);
    this.hasEnded = true;
    for (const asked of this.asked.values())
      if ('done' in asked) asked.done({ problem: 'the session was ended before it was done', answer: {} });
    return this.client.keep;
  }

  /** A session that has ended is told nothing: what is stored late is no word for the one that goes on in its place. */
  private command(command: ClientCommand<PointAt, unknown>): void {
    if (this.hasEnded) return;
    if (this.held === null) this.link.command(this.config.code, command);
    else if (command.type === 'control')
      this.context.onControl({ type: 'control', id: command.id, step: 'failed', words: this.held });
    else if (command.type === 'survey')
      this.surveys.get(command.id)?.({ found: [], attributes: [], problem: this.held });
    else if (command.type === 'order')
      this.onOrdered({ type: 'ordered', id: command.id, problem: this.held, answer: {} });
  }

  /** Goes on with another point list, and with other settings as far as its session adopts them. */
  adopt(config: DeviceConfig): void {
    const before = this.config;
    this.config = config;
    this.ingest.adopt(config);
    this.plays.adopt(config);
    const settings = adopted(config.settings, deviceOf(config.protocol).adopts);
    if (!sameDocument(before.settings, config.settings)) this.command({ type: 'setSettings', settings });
    if (sameDocument(before.points, config.points)) return;
    this.command({ type: 'setPoints', points: this.listed() });
    this.pollNow();
  }

  /** Asks the device for the present value of all that it has; resolves with what came. */
  survey(id: string): Promise<SurveyAnswer> {
    return new Promise((resolve) => {
      this.surveys.set(id, resolve);
      this.command({ type: 'survey', id });
    });
  }

  control(request: ControlOrder<PointAt>): void {
    this.command(request);
  }

  /** What was made up gives way to what the device has; of one that does not answer it stays, and says so. */
  private showOwn(): void {
    if (this.state.state === 'silent') this.ingest.loseAll();
    else this.pollNow();
  }

  pollNow(): void {
    this.command({ type: 'pollNow' });
  }

  resetCounters(): void {
    this.command({ type: 'resetCounters' });
    this.context.changed();
  }

  /** Asks something of the device beyond its points; what came of it is written in the journal. */
  order(order: unknown, by: string): void {
    const { orders } = deviceOf(this.config.protocol);
    const read = orders.schema.safeParse(order);
    if (read.success) this.ask(read.data, { words: orders.words(read.data), by });
    else this.context.journal.note(this.config.code, 'warning', `it cannot be asked that by ${by}`);
  }

  /** Asks something for who waits; what changes the device is written in the journal too. */
  inquire(order: unknown, by: string): Promise<FileAnswer> {
    const { orders } = deviceOf(this.config.protocol);
    const read = orders.schema.safeParse(order);
    if (!read.success) return Promise.resolve({ problem: `${this.config.code} cannot be asked that`, answer: {} });
    return new Promise((resolve) => {
      const done = (answered: FileAnswer): void => {
        const { problem, answer } = answered;
        const words = `${orders.words(read.data)}, asked by ${by}: ${problem ?? answer.words ?? 'done'}`;
        if (orders.changes(read.data))
          this.context.journal.note(this.config.code, problem === null ? 'plain' : 'warning', words);
        resolve(answered);
      };
      this.ask(read.data, { progress: () => {}, done });
    });
  }

  /** Asks for a file; what came of it goes to whoever waits. */
  askFile(order: FileOrder, progress: (octets: number) => void): Promise<FileAnswer> {
    return new Promise((done) => this.ask(order, { progress, done }));
  }

  private ask(order: unknown, waiting: { words: string; by: string } | AskedFile): void {
    const id = `${this.config.code} ${++this.orders}`;
    this.asked.set(id, waiting);
    this.command({ type: 'order', id, order });
  }

  private onOrdered({ id, problem, answer }: ClientNews & { type: 'ordered' }): void {
    const asked = this.asked.get(id);
    this.asked.delete(id);
    if (asked === undefined) return;
    if ('done' in asked) {
      asked.done({ problem, answer });
      return;
    }
    const away = answer.awayMs === undefined ? '' : `; away for ${answer.awayMs} ms`;
    const said = answer.words ? `: ${answer.words}` : '';
    const words = `${asked.words}, asked by ${asked.by}: ${problem ?? `done${away}${said}`}`;
    this.context.journal.note(this.config.code, problem === null ? 'plain' : 'warning', words);
  }

  private onClock({ offsetMs, uncertaintyMs }: ClientNews & { type: 'clock' }): void {
    const isOff = (clock_: typeof this.clock): boolean =>
      clock_ !== null && Math.abs(clock_.offsetMs) > CLOCK_OFF_MS + clock_.uncertaintyMs;
    const before = this.clock;
    this.clock = { at: clock.now(), offsetMs, uncertaintyMs };
    this.clockPast.push(this.clock);
    if (this.clockPast.length > MAX_CLOCK_PAST) this.clockPast.shift();
    if (isOff(this.clock) && !isOff(before)) {
      const way = offsetMs > 0 ? 'ahead of' : 'behind';
      const words = `its clock is ${(Math.abs(offsetMs) / 1000).toFixed(1)} s ${way} ours`;
      this.context.journal.note(this.config.code, 'warning', words);
    } else if (isOff(before) && !isOff(this.clock))
      this.context.journal.note(this.config.code, 'plain', 'its clock is right again');
    this.context.changed();
  }

  /** Between calls a device is not lost. */
  private get isResting(): boolean {
    const { when, lateAfterMs } = this.link.config.calls;
    if (this.state.state !== 'answering' || (when === 'always' && lateAfterMs === 0)) return false;
    return !this.link.isUp(this.config.code);
  }

  private get shownState(): Pick<DeviceState, 'state' | 'since' | 'words'> {
    if (this.isResting) return { ...this.state, state: 'resting', words: 'between calls' };
    // What it was found silent for may be over, and it may be silent still.
    const isConnected = this.state.state === 'silent' && this.link.isUp(this.config.code);
    return isConnected && this.state.words === NO_CONNECTION
      ? { ...this.state, words: 'connected, and no answer yet' }
      : this.state;
  }

  private noteUnreadable(points: ReadonlySet<number>): void {
    const since = clock.now();
    for (const [id, { failed }] of this.hadOrNot)
      if (failed && !points.has(id)) this.hadOrNot.set(id, { failed: false, since });
    for (const id of points) if (!this.hadOrNot.get(id)?.failed) this.hadOrNot.set(id, { failed: true, since });
  }

  /** How the conversation with it stands. */
  standing(): Contact {
    const { state, since } = this.shownState;
    return { failed: state === 'unknown' ? null : state === 'silent', since };
  }

  /** The same of what is asked for one of its points; null: it has none there. */
  pointStanding(address: string): Contact | null {
    const point = this.context.exchange.at(this.config.code, address);
    if (point === undefined) return null;
    const whole = this.standing();
    if (whole.failed !== false) return whole;
    const { failed, since } = this.hadOrNot.get(point.id) ?? { failed: false, since: whole.since };
    return { failed, since: Math.max(since, whole.since) };
  }

  /** What of its state people act on. */
  essence(): string {
    const { state, since, words } = this.shownState;
    return `${state} ${since} ${words}`;
  }

  get hasDetails(): boolean {
    return this.client.details !== undefined;
  }

  detailState(): DetailState {
    return detailStateOf(this.client.details ?? []);
  }

  deviceState(): DeviceState {
    const { state, since, words } = this.shownState;
    return {
      state,
      since,
      words,
      clock: this.clock,
      clockPast: this.clockPast,
      lastGood: this.lastGood,
      roundTripMs: this.roundTripMs,
      lastCommit: this.ingest.lastCommit,
      nextIntegrity: this.client.nextIntegrity,
      indications: this.client.indications,
      learned: this.client.learned,
      stranger: this.stranger,
      unlisted: this.ingest.unlisted.size,
      unlistedPoints: [...this.ingest.unlisted.values()].slice(0, MOST_UNLISTED),
      playing: this.plays.shown,
      counters: this.client.counters.values,
      countersSince: this.client.counters.since,
    };
  }

  private onEffect(effect: ClientNews): void {
    switch (effect.type) {
      case 'readings':
        this.onReadings(effect);
        break;
      case 'keep':
        this.ingest.keep(effect.keep);
        break;
      case 'stranger':
        this.stranger = { address: effect.address, destination: effect.destination, at: clock.now() };
        break;
      case 'communication':
        this.onCommunication(effect.state, effect.words);
        break;
      case 'answered':
        this.lastGood = clock.now();
        this.roundTripMs = effect.roundTripMs;
        break;
      case 'surveyed': {
        const done = this.surveys.get(effect.id);
        this.surveys.delete(effect.id);
        done?.(effect);
        break;
      }
      case 'control':
        this.context.onControl(effect);
        break;
      case 'clock':
        this.onClock(effect);
        break;
      case 'ordered':
        this.onOrdered(effect);
        break;
      case 'fileProgress': {
        const asked = this.asked.get(effect.id);
        if (asked && 'progress' in asked) asked.progress(effect.octets);
        break;
      }
      case 'noted':
        this.context.journal.note(this.config.code, 'plain', effect.words);
        break;
      case 'unreadable':
        this.noteUnreadable(new Set(effect.points));
        this.ingest.cannotRead(effect.points);
        if (effect.words !== '') this.context.journal.note(this.config.code, 'warning', effect.words);
        break;
      case 'diagnostic':
        this.context.journal.note(this.config.code, 'warning', effect.words);
        break;
      case 'guest':
        this.context.conversations.tell(this.conversation, effect);
        break;
      case 'hangUp':
        // The link sees to it.
        break;
      default:
        effect satisfies never;
    }
  }

  private onReadings(effect: ClientNews & { type: 'readings' }): void {
    const { readings, carried, token, keep } = effect;
    const now = clock.now();
    const late = readings.filter(({ event, time }) => event && time !== null && now - time > BACKLOG_MS);
    if (late.length > 0) {
      const first = late.reduce((least, { time }) => Math.min(least, time ?? now), now);
      if (now - this.backlogNoted > BACKLOG_MS)
        this.context.journal.note(
          this.config.code,
          'plain',
          `hands over what it kept since ${new Date(first).toISOString().slice(0, 19)}Z`,
        );
      this.backlogNoted = now;
    }
    const committed = token === null ? null : () => this.command({ type: 'committed', token });
    const commit = keep === null ? null : { keep, committed };
    this.ingest.take(readings, carried, commit);
  }

  private onCommunication(state: 'answering' | 'silent', words: string): void {
    const { journal, changed } = this.context;
    const first = this.state.state === 'unknown';
    this.state = { state, since: clock.now(), words };
    if (state === 'silent') {
      this.ingest.loseAll();
      journal.note(this.config.code, 'lost', `no communication: ${words}`);
    } else if (!first) journal.note(this.config.code, 'plain', 'answers again');
    changed();
  }
}

/** Where in its long periods a device is polled: spread over the devices, and the same each time. */
function phaseOf(code: string): number {
  let hash = 0;
  for (let at = 0; at < code.length; at++) hash = (Math.imul(hash, 31) + code.charCodeAt(at)) >>> 0;
  return ((hash % 997) + 100) / 1097;
}

const MAX_CLOCK_PAST = 120;
/** Named in the state of a device; the others follow once these are taken. */
const MOST_UNLISTED = 500;
