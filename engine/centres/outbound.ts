import { adopted, isAllowed, sameDocument, type OutboundConfig } from '@halvix/core/config';
import { CENTRE_SILENT_MS, type DetailState, type OutboundState, type Trail } from '@halvix/core/path';
import { detailStateOf } from '../told/details.ts';
import type { SentPackets } from '../told/sentpackets.ts';
import {
  addressOf,
  definitionOf,
  outcome,
  type CentreOrder,
  type ConversationTerms,
  type ControlOutcome,
  type Message,
  type OwedRecord,
  type Contact,
  type Remembered,
  type Server,
  type ServerCommand,
  type ServerEffect,
  type ServerUpdate,
  type TargetPointAt,
  type UpdateManner,
  wayOut,
} from '@halvix/core/protocols';
import { serverSide } from '@halvix/core/protocols/sessions';
import { Quality, rawValue, scaledValue, type Reading } from '@halvix/core/point';
import type { StoredReading } from '@halvix/db';
import { clock, Driver } from '@halvix/wire';
import { InTurn } from '../controls/inturn.ts';
import type { CentreControl, GivenCommand } from '../controls/controls.ts';
import type { Change, Exchange, LivePoint } from '../board/exchange.ts';
import type { Journal } from '../journal.ts';
import { conversationKey, type Conversations } from '../links/conversations.ts';
import type { CentreLink, OutboundMember } from '../links/outboundlink.ts';
import { Targets, type Target } from './targets.ts';

export interface OutboundContext {
  exchange: Exchange;
  journal: Journal;
  /** Carries a control out at its device; resolves with what came of it, and never rejects. */
  control: (control: CentreControl) => Promise<ControlOutcome>;
  changed: () => void;
  /** Where it may have a guest. */
  conversations: Conversations;
  /** To be remembered; `all`: all that there is to remember. */
  keep: (octets: Uint8Array, all: () => Uint8Array, replaces: boolean) => void;
  /** To be stored with the readings that it comes from. */
  owe: (record: OwedRecord) => void;
  /** Where is written what went out in packets. */
  sent: Pick<SentPackets, 'out' | 'answered'>;
  settle: (settled: { queue: string; position: number; beyond: readonly number[] }) => void;
}

/** What an outbound hands to the session that goes on in its place. */
export interface HandedOver {
  remembered: Remembered;
  owed: readonly OwedRecord[];
}

/** A reading that is there when it begins. */
type Known = Pick<Change, 'point' | 'reading' | 'moved'>;

type Update = ServerUpdate<TargetPointAt>;

/** Of a span of history so much is looked through at a time, and so many values are handed on in one go. */
const SPAN_PART_MS = 600_000;
const SPAN_PIECE = 250;
const ROOM_LOOK_MS = 200;
const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
/** A connection that has lasted so long is one that lasts. */
const PROVEN_MS = 10_000;
/** An acknowledgement that is not there by then does not come. */
const MOST_REST_MS = 1000;

/** One outbound: our end for one centre, fed from the exchange through the mapping. */
export class OutboundRunner {
  private readonly server: Server<TargetPointAt>;
  private readonly driver: Driver<ServerCommand<TargetPointAt>, ServerEffect>;
  private readonly member: OutboundMember;
  private readonly targets: Targets;
  private stopListening: () => void = () => {};
  private since = clock.now();
  /** Who is connected: from where, and by which address. */
  private readonly peers = new Map<number, { from: string; address: string | null }>();
  private readonly several: boolean;
  private connectionSince: number | null = null;
  private lastHeard: number | null = null;
  private lastConfirmed: number | null = null;
  private refused = 0;
  /** The highest number that an event of it ever had. */
  private lastNumber: number;
  private lastProblem: OutboundState['lastProblem'] = null;

  constructor(
    public config: OutboundConfig,
    /** Under which everything of it is kept. */
    readonly number: number,
    readonly link: CentreLink,
    private readonly context: OutboundContext,
    remembered: Remembered,
    /** Why nobody speaks with its centre; null: somebody does. */
    readonly held: string | null = null,
  ) {
    this.lastNumber = remembered.lastNumber;
    this.several = serverSide(config.protocol).peers(config.settings) !== null;
    this.targets = new Targets(context.exchange, config);
    this.server = serverSide(config.protocol).make(
      config.settings,
      link.timing,
      this.targets.offered(),
      clock.now(),
      remembered,
    );
    this.driver = new Driver(this.server, (effect) => this.onEffect(effect));
    this.member = {
      config,
      up: (peer, from, address, within) => this.onUp(peer, from, address, within),
      down: (peer) => this.onDown(peer),
      data: (peer, bytes) => this.onData(peer, bytes),
      refused: (words) => {
        this.refused++;
        this.problem(words);
      },
      carried: (packet, problem) =>
        this.driver.command(
          problem === null ? { type: 'carried', packet } : { type: 'notCarried', packet, words: problem },
        ),
      changed: () => this.onListening(),
    };
  }

  /**
   * Goes on with other mappings or point lists, or other settings that its session adopts: the centre's connection and its
   * waiting events stay. What is mapped anew is told as an event.
   */
  adopt(config: OutboundConfig, touched: ReadonlySet<string>): void {
    const before = new Set(this.config.mappings.map((mapping) => JSON.stringify(mapping)));
    const adopts = wayOut(config.protocol)?.adopts ?? [];
    if (!sameDocument(this.config.settings, config.settings))
      this.driver.command({ type: 'setSettings', settings: adopted(config.settings, adopts) });
    const operators = new Set([...this.peers.keys()].filter((peer) => this.operates(peer)));
    this.config = config;
    this.member.config = config;
    for (const peer of this.several ? this.peers.keys() : []) {
      const operates = this.operates(peer);
      if (operates !== operators.has(peer)) this.driver.command({ type: 'rights', peer, operates });
    }
    this.targets.adopt(config);
    this.driver.command({ type: 'setPoints', points: this.targets.offered() });
    const updates: Update[] = [];
    for (const mapping of config.mappings) {
      const isKnown = before.has(JSON.stringify(mapping));
      if (!touched.has(mapping.device) && isKnown) continue;
      const point = this.context.exchange.at(mapping.device, mapping.point);
      const target = this.targets.at(addressOf(mapping.target));
      if (target === undefined) continue;
      if (point === undefined || !point.passOn) {
        updates.push(this.withheld(target));
        continue;
      }
      // What it had before it is not told again, only what differs from that; of what is not known yet, nothing.
      const { reading } = point;
      if (reading !== null) updates.push({ ...this.updateOf(target, point, reading, false), always: false });
    }
    this.update(updates);
  }

  /** The source is not to be seen: the last value stays there, and says that it is not on line. */
  private withheld({ mapping: { target } }: Target): Update {
    const { kind, at } = target;
    const { value, text } = this.server.held(target);
    return { kind, at, value, text, quality: Quality.outOfService, time: clock.now() };
  }

  /** What earlier sessions told last, oldest first. */
  toldBefore(records: readonly OwedRecord[]): void {
    if (records.length > 0) this.driver.command({ type: 'toldBefore', records });
  }

  /** What earlier sessions still owe; `last`: that is all of it. */
  fill(records: readonly OwedRecord[], last: boolean): void {
    this.driver.command({ type: 'owed', records, last });
    this.context.changed();
  }
  /** Events that it owes are committed. */
  stored(numbers: readonly number[]): void {
    if (this.server.wantsStored) this.driver.command({ type: 'stored', numbers });
  }

  /** Resolves once it has everything that earlier sessions owed. */
  filled: Promise<void> = Promise.resolve();

  /**
   * Begins with the values as they were known last: nobody is told of them anew. What is not known any more because its
   * device has not answered yet shows that, and is told once the device is found silent.
   */
  begin(): void {
    const sources = this.targets.sources();
    const changes = (of: (point: LivePoint) => Reading | null): Known[] =>
      sources.flatMap((point) => {
        const reading = of(point);
        return reading === null ? [] : [{ point, reading, moved: false }];
      });
    this.pass(
      changes(({ reading, recalled }) => recalled ?? reading),
      'quiet',
    );
    this.pass(
      changes(({ reading, recalled }) => (recalled === null ? null : reading)),
      'shown',
    );
    this.stopListening = this.context.exchange.listen('handOn', (all) => this.pass(all, 'told'));
  }

  /** Lets its centre come. */
  open(): void {
    if (this.held !== null) return this.problem(this.held);
    this.link.add(this.member);
    if (this.conversation !== null)
      this.context.conversations.openHost(this.conversation, (guest) => this.driver.command(guest));
  }

  /** In which the device that the centre is may be a guest; null: it is none. */
  private get conversation(): string | null {
    const { partner } = this.config;
    const outbound = wayOut(this.config.protocol);
    const { config } = this.link;
    return partner !== '' && config !== null && outbound?.shares && outbound.links.includes(config.type)
      ? conversationKey(config.code, partner)
      : null;
  }

  /** Nothing new goes out; resolves once what has gone out is acknowledged, or that has taken too long. */
  async rest(): Promise<void> {
    this.driver.command({ type: 'rest' });
    const until = clock.now() + MOST_REST_MS;
    while (this.server.awaits && clock.now() < until) await new Promise((resolve) => setTimeout(resolve, 5));
  }

  /** Its centre is gone, and does not come back to this session; what is to be handed on waits all the same. */
  close(): void {
    if (this.conversation !== null) this.context.conversations.closeHost(this.conversation);
    this.link.remove(this.member);
  }

  private isOver = false;
  /** Ends the session; returns what whoever goes on in its place has to know. */
  stop(): HandedOver {
    this.close();
    this.isOver = true;
    this.stopListening();
    this.driver.close();
    const owed = this.server.owed ?? [];
    const { lastNumber } = this;
    const pieces = this.server.keep === undefined ? [] : [this.server.keep];
    return { remembered: { pieces, lastNumber, owes: owed.length > 0 }, owed };
  }

  /** Why its centre cannot get to it; null: it can. */
  private get wayProblem(): string | null {
    return this.held ?? this.link.problem;
  }

  /** What of its state people act on. */
  essence(): string {
    return [this.wayProblem, this.since, this.connectedFrom, this.lastProblem?.time].join(' ');
  }

  state(): OutboundState {
    return {
      state: this.wayProblem === null ? 'listening' : 'failed',
      since: this.since,
      problem: this.wayProblem,
      connectedFrom: this.connectedFrom,
      connectionSince: this.connectionSince,
      lastHeard: this.lastHeard,
      lastConfirmed: this.lastConfirmed,
      isQuiet: this.isQuiet,
      pushes: definitionOf(this.config.protocol).publishes !== null,
      eventsWaiting: this.server.eventsWaiting,
      connectionsRefused: this.refused,
      lastProblem: this.lastProblem,
      counters: this.server.counters.values,
      countersSince: this.server.counters.since,
    };
  }

  private get isQuiet(): boolean {
    return wayOut(this.config.protocol)?.quiet ?? false;
  }

  /** How the conversation with its centre stands. */
  standing(): Contact {
    const { connectionSince, lastHeard, since } = this;
    if (this.wayProblem !== null || this.peers.size === 0) {
      // Who has only just begun to listen cannot know yet.
      const isNew = connectionSince === null && clock.now() - since < CENTRE_SILENT_MS;
      return { failed: isNew && this.wayProblem === null ? null : true, since: connectionSince ?? since };
    }
    const heard = lastHeard ?? connectionSince ?? since;
    return !this.isQuiet && clock.now() - heard > CENTRE_SILENT_MS
      ? { failed: true, since: heard + CENTRE_SILENT_MS }
      : { failed: false, since: connectionSince ?? since };
  }

  /** Has its session do what it can be asked for; what came of it is written down. */
  order({ order, text, by }: { order: string; text: string; by: string }): void {
    const known = wayOut(this.config.protocol)?.orders?.[order];
    if (known === undefined) return;
    this.ordering = `${known.words}${text === '' ? '' : ` (${text})`}, asked by ${by}`;
    this.driver.command({ type: 'order', order, text });
  }
  private ordering = '';

  /** Has a packet go once more, as it went. */
  sendPacket(packet: number, messages: readonly Message[], by: string): void {
    this.context.journal.note(this.config.code, 'plain', `packet ${packet} is to go once more, asked by ${by}`);
    this.driver.command({ type: 'again', packet, messages });
  }

  private isSending = false;
  /** Has what history knows of a span go once more, as new values, piece by piece as there is room. */
  async sendSpan(
    { from, to, by }: { from: number; to: number; by: string },
    read: (points: readonly number[], after: number, to: number) => Promise<readonly StoredReading[]>,
  ): Promise<void> {
    const { code } = this.config;
    const { journal } = this.context;
    if (definitionOf(this.config.protocol).publishes === null) return;
    const span = `what history has from ${new Date(from).toISOString()} to ${new Date(to).toISOString()}`;
    if (this.isSending)
      return journal.note(code, 'warning', `${span} is not sent once more: another span is being sent`);
    this.isSending = true;
    journal.note(code, 'plain', `${span} is to go once more, asked by ${by}`);
    let sent = 0;
    try {
      for (let after = from - 1; after < to;) {
        const points = new Map(this.targets.sources().map((point) => [point.id, point]));
        const until = Math.min(to, after + SPAN_PART_MS);
        const readings = await read([...points.keys()], after, until);
        const updates = readings.flatMap((reading) => {
          const point = points.get(reading.pointId);
          if (point === undefined) return [];
          return this.targets.of(point).map((target) => this.targets.past(target, point.config, reading));
        });
        for (let at = 0; at < updates.length; at += SPAN_PIECE) {
          // Nothing that is owed gives way for it.
          while (this.server.isCrowded && !this.isOver) await pause(ROOM_LOOK_MS);
          if (this.isOver) throw new Error('the outbound was changed meanwhile');
          this.update(updates.slice(at, at + SPAN_PIECE), 'past');
          sent += Math.min(SPAN_PIECE, updates.length - at);
        }
        after = readings.at(-1)?.time ?? until;
      }
      journal.note(code, 'plain', `${span} goes once more: ${sent} values`);
    } catch (error) {
      const why = error instanceof Error ? error.message : String(error);
      journal.note(code, 'warning', `${span} was not sent to its end, ${sent} values were: ${why}`);
    } finally {
      this.isSending = false;
    }
  }

  get hasDetails(): boolean {
    return this.server.details !== undefined;
  }
  detailState(): DetailState {
    return detailStateOf(this.server.details ?? []);
  }

  resetCounters(): void {
    this.refused = 0;
    this.lastProblem = null;
    this.driver.command({ type: 'resetCounters' });
    this.context.changed();
  }

  /** What became of a point's latest change, for its trail. */
  deliveriesOf(point: LivePoint): Omit<Trail['outbounds'][number], 'code'>[] {
    return this.targets.deliveriesOf(point, (kind, quality) => this.server.said(kind, quality));
  }

  /** Hands readings on to where they are mapped to, in one piece. */
  private pass(changes: readonly (Change | Known)[], manner: UpdateManner): void {
    const updates: Update[] = [];
    for (const change of changes) {
      const { point, reading, moved } = change;
      if (!point.passOn || ('what' in change && change.what === 'level')) continue;
      for (const target of this.targets.of(point)) updates.push(this.updateOf(target, point, reading, moved));
    }
    this.update(updates, manner);
  }

  private update(updates: Update[], manner: UpdateManner = 'told'): void {
    if (updates.length > 0) this.driver.command({ type: 'update', updates, manner });
  }

  private updateOf(target: Target, point: LivePoint, reading: Reading, hasMoved: boolean): Update {
    return this.targets.update(target, point, reading, hasMoved, this.server.form(target.mapping.target));
  }

  private get connectedFrom(): string | null {
    const from = [...this.peers.values()].map((peer) => peer.from);
    return from.length > 0 ? from.join(', ') : null;
  }

  private onUp(peer: number, from: string, address: string | null, within?: ConversationTerms): void {
    this.peers.set(peer, { from, address });
    this.connectionSince = clock.now();
    const operates = this.operates(peer);
    if (this.several)
      this.driver.command({ type: 'came', peer, from: address ?? from, operates, ...(within ? { within } : {}) });
    else this.driver.start();
    if (this.link.config !== null)
      this.context.journal.note(this.config.code, 'plain', `${this.config.centre} connected from ${from}`);
    this.context.changed();
  }

  private onDown(peer: number): void {
    const gone = this.peers.get(peer);
    this.peers.delete(peer);
    this.connectionSince = clock.now();
    if (this.several) this.driver.command({ type: 'went', peer });
    else this.driver.stop();
    const words =
      this.peers.size > 0
        ? `its connection from ${gone?.from} has ended`
        : `${this.config.centre} is not connected any more`;
    if (this.link.config !== null)
      this.context.journal.note(this.config.code, this.peers.size > 0 ? 'plain' : 'lost', words);
    this.context.changed();
  }

  private onData(peer: number, octets: Uint8Array): void {
    if (this.several) this.driver.command({ type: 'octets', peer, octets, alone: this.link.isSole ?? false });
    else this.driver.receive(octets);
  }

  private onListening(): void {
    this.since = clock.now();
    if (this.wayProblem !== null) this.problem(this.notThere(this.wayProblem));
    this.context.changed();
  }

  private notThere(problem: string): string {
    return this.link.config === null
      ? `${this.link.where}: ${problem}`
      : `nobody gets to ${this.link.where}: ${problem}`;
  }

  private problem(words: string): void {
    if (this.lastProblem?.words !== words) this.context.journal.note(this.config.code, 'warning', words);
    this.lastProblem = { time: clock.now(), words };
    this.context.changed();
  }

  private onEffect(effect: ServerEffect): void {
    switch (effect.type) {
      case 'send':
        this.link.send(this.member, effect.octets, effect.peer);
        break;
      case 'carry':
        this.link.carry?.(effect.packet, effect.messages);
        break;
      case 'packetOut':
        this.context.sent.out(this.number, effect);
        break;
      case 'packetAnswered':
        this.context.sent.answered(this.number, effect.packet, effect.problem);
        break;
      case 'read':
        this.lastConfirmed = clock.now();
        this.targets.read(effect.addresses);
        break;
      case 'heard':
        this.lastHeard = clock.now();
        // Whoever lets us in only to end it again is not called ever more often.
        if (clock.now() - (this.connectionSince ?? 0) >= PROVEN_MS) this.link.useful?.();
        break;
      case 'event':
        this.targets.event(effect);
        break;
      case 'reported':
        this.targets.reported(effect.events);
        break;
      case 'delivered':
        this.lastConfirmed = clock.now();
        this.targets.confirmed(effect.events);
        break;
      case 'ordered':
        this.context.journal.note(this.config.code, 'plain', `${this.ordering}: ${effect.words}`);
        break;
      case 'integrityAnswered':
        this.targets.integrityRead();
        break;
      case 'control':
        void this.onControl(effect);
        break;
      case 'diagnostic':
        this.problem(effect.words);
        break;
      case 'noted':
        this.context.journal.note(this.config.code, 'plain', effect.words);
        break;
      case 'owes':
        this.lastNumber = Math.max(this.lastNumber, effect.number);
        this.context.owe(effect);
        break;
      case 'settled':
        this.context.settle(effect);
        break;
      case 'keep':
        this.context.keep(effect.octets, () => this.server.keep ?? new Uint8Array(), effect.replaces ?? false);
        break;
      case 'guest':
        if (this.conversation !== null) this.context.conversations.tell(this.conversation, effect);
        break;
      case 'hangUp':
        this.link.hangUp(this.member, effect.peer, effect.words);
        break;
      default:
        effect satisfies never;
    }
  }

  private async onControl({
    token,
    phase,
    items,
    peer,
    own = false,
  }: ServerEffect & { type: 'control' }): Promise<void> {
    // What two requests want of one device is done in the order in which they came, whatever else they want.
    const placed = items.map((item) => ({ item, inTurn: this.turns.place(this.deviceOf(item)) }));
    const outcomes: ControlOutcome[] = [];
    for (const { item, inTurn } of placed)
      // One that breaks leaves its place, and those behind it get theirs.
      outcomes.push(
        await inTurn(async () =>
          own || this.mayOperate(peer) ? await this.passControl(phase, item) : this.notFrom(item, peer),
        ).catch((error: unknown) => {
          this.problem(`a control of ${item.address} broke: ${error instanceof Error ? error.message : String(error)}`);
          return outcome('failed');
        }),
      );
    this.driver.command({ type: 'controlResult', token, outcomes });
  }

  /** Whether it may operate anything here at all. */
  private operates(peer: number): boolean {
    return this.config.controls && this.mayOperate(peer);
  }

  private readonly turns = new InTurn();
  private readonly deviceOf = ({ address }: CentreOrder): string => this.targets.at(address)?.mapping.device ?? '';

  /** Whether whoever asks may operate anything, by where it is; on a way without addresses there is only one place. */
  private mayOperate(peer: number | undefined): boolean {
    const who = peer === undefined ? [...this.peers.values()].at(-1) : this.peers.get(peer);
    return who !== undefined && (who.address === null || isAllowed(who.address, this.config.controlsFrom));
  }

  private notFrom({ address }: CentreOrder, peer: number | undefined): ControlOutcome {
    const from = (peer === undefined ? [...this.peers.values()].at(-1) : this.peers.get(peer))?.from ?? 'nowhere';
    this.problem(`a control of ${address} from ${from} was refused: nothing may be operated from there`);
    return outcome('notAuthorized');
  }

  /** Tells the centre of a command that one of its points was given, where it wants to know. */
  commandGiven({ device, address, kind, value, outcome: result }: GivenCommand): void {
    const point = this.context.exchange.at(device, address);
    if (point === undefined || !point.passOn) return;
    for (const { mapping } of this.targets.of(point)) {
      const { at, kind: offered, value: which } = mapping.target;
      if (offered !== kind) continue;
      const shown = kind === 'setpoint' && which === 'engineering' ? scaledValue(value, point.config) : value;
      this.driver.command({ type: 'commandGiven', kind, at, value: shown, outcome: result, time: clock.now() });
    }
  }

  /** A centre's control at its device; the outcome is the device's own, or says why it did not get there. */
  private async passControl(phase: CentreControl['phase'], order: CentreOrder): Promise<ControlOutcome> {
    const { kind, address: there, counts } = order;
    const target = this.targets.at(there);
    // What is only shown as a setpoint or a control there is no such thing here.
    const { device, point: address } = target?.mapping ?? { device: '', point: '' };
    const point = this.context.exchange.at(device, address);
    if (target === undefined || (point !== undefined && point.config.kind !== kind)) return outcome('notSupported');
    if (!this.config.controls || !target.mapping.target.mayControl) {
      this.problem(`a control of ${this.config.centre} was refused: it may not operate ${there} here`);
      return outcome('notAuthorized');
    }
    if (point === undefined || !point.passOn) return outcome('blocked');
    // The centre speaks in what the mapping hands it, the device in counts.
    const inUnits = counts !== null && target.mapping.target.value === 'engineering';
    const own = inUnits ? { ...order, counts: rawValue(counts, point.config) } : order;
    return this.context.control({ outbound: this.config.code, device, address, phase, order: own });
  }
}
