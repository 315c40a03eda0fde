import type { PointKind } from '../../../point/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { DetailTable } from '../../client.ts';
import type { CentreOrder, ControlOutcome } from '../../control.ts';
import type { ConversationTerms, GuestCommand } from '../../conversation.ts';
import { MmsServer, type MmsServerEffect } from '../../mms/server.ts';
import { MessageLog } from '../../mms/messagelog.ts';
import { agreedOn, calledSettings } from '../../mms/settings.ts';
import { Within } from '../../mms/within.ts';
import type { AccessResult, Data } from '../../mms/wire/data.ts';
import { nameWords } from '../../mms/wire/names.ts';
import type { Variable } from '../../mms/wire/services.ts';
import {
  NOTHING_REMEMBERED,
  type OwedRecord,
  type Remembered,
  type Server,
  type ServerCommand,
  type ServerEffect,
  type ServerPoint,
  type ServerUpdate,
  type UpdateManner,
} from '../../server.ts';
import { encodeBlock } from '../blocks.ts';
import { CounterSet } from '../counters.ts';
import { printAt, type TaseTargetAt } from '../points.ts';
import { flagsOf, flagWords } from '../quality.ts';
import type { ServerSettings } from '../settings.ts';
import { tagWords } from '../tags.ts';
import { ACKNOWLEDGEMENTS, conditionBits, nameData, nameOf, SPECIAL, type Condition } from '../transfer.ts';
import { Controls } from './controls.ts';
import { CriticalChanges } from './critical.ts';
import { dataOf, HeldPoints } from './held.ts';
import { AgreedObjects } from './objects.ts';
import { Telling } from './telling.ts';
import { TransferSet, type TransferReport } from './transferset.ts';

/*
 * Our side towards one TASE.2 peer: what its agreement names, and nothing else. What is not in it does not exist for the
 * peer: no service tells that there is more.
 *
 * Rules:
 *  1. A value is told when it has moved by its deadband, when its quality changes, and when its device reported it.
 *  2. A report has no confirmation of its own, unless it is critical: it counts as handed over when it is sent.
 *  3. What has to be selected is selected by reading NAME_SBO; its device is asked with the value, when it is operated.
 */

interface Peer {
  server: MmsServer;
  from: string;
  operates: boolean;
}

/** The one peer of a way that is there by itself. */
const ONLY = 0;
/** Of the table of transfer sets: the column of the state. */
const STATE_AT = 6;
const WRONG_PASSWORD = 13;
const whole = (value: number): Data => ({ type: 'integer', value });

export class TaseServer implements Server<TaseTargetAt> {
  readonly counters: CounterSet;
  private effects: ServerEffect[] = [];
  private readonly points: HeldPoints;
  private readonly objects: AgreedObjects;
  private readonly sets: TransferSet[];
  private readonly peers = new Map<number, Peer>();
  private readonly controls: Controls;
  private readonly critical: CriticalChanges;
  private readonly telling: Telling;
  private readonly log = new MessageLog();
  private readonly waiting = new Map<number, (outcome: ControlOutcome | undefined) => void>();
  private token = 0;
  /** Of each data set: what is of the protocol's own, and the others by their names. Another list makes them anew. */
  private places = new WeakMap<
    readonly Variable[],
    { special: readonly Variable[]; byName: ReadonlyMap<string, Variable> }
  >();
  private now: Instant;
  /** A client of ours: whether there is one, and the peer in whose association it is. */
  private guest: { peer: number | null } | null = null;

  constructor(
    private readonly settings: ServerSettings,
    points: readonly ServerPoint<TaseTargetAt>[],
    now: Instant,
    remembered: Remembered = NOTHING_REMEMBERED,
  ) {
    this.counters = new CounterSet(now);
    this.now = now;
    this.points = new HeldPoints(settings.domain);
    const lines = remembered.pieces.flatMap((piece) => new TextDecoder().decode(piece).split('\n'));
    this.critical = new CriticalChanges((effect) => this.effects.push(effect), lines, remembered);
    this.sets = Array.from({ length: settings.transferSets }, (_, at) => {
      const item = `DSTransferSet${String(at + 1).padStart(2, '0')}`;
      return new TransferSet(
        { scope: 'domain', domain: settings.domain, item },
        {
          members: (dataSet, peer) => this.objects.list(dataSet, peer)?.map(({ name }) => nameWords(name)) ?? null,
          send: (set, report) => this.sendReport(set, report),
          values: (dataSet, peer) =>
            new Map(
              (this.objects.list(dataSet, peer) ?? []).map(({ name }) => [nameWords(name), this.objects.valueOf(name)]),
            ),
          packs: settings.blocked,
          critical: this.critical,
        },
      );
    });
    this.controls = new Controls(
      settings.selectMs,
      {
        order: (order, phase, peer, done) => this.sendOrder(order, phase, peer, done),
        note: (words) => this.effects.push({ type: 'noted', words }),
        keep: (octets) => this.effects.push({ type: 'keep', octets }),
      },
      lines,
    );
    this.telling = new Telling(settings.domain);
    this.points.adopt(points);
    this.objects = new AgreedObjects({
      ...{ settings, held: this.points, sets: this.sets, controls: this.controls, telling: this.telling },
      now: () => this.now,
      peer: (peer) => this.peers.get(peer),
      onRead: (address) => this.effects.push({ type: 'read', addresses: [address] }),
      onControl: () => this.counters.add('controls'),
    });
  }

  get keep(): Uint8Array {
    return new TextEncoder().encode(this.controls.kept + this.critical.kept);
  }
  get owed(): OwedRecord[] {
    return this.critical.owed;
  }
  get awaits(): boolean {
    return this.sets.some((set) => set.awaits);
  }

  private sendOrder(
    order: CentreOrder,
    phase: 'operate' | 'direct',
    peer: number,
    done: (outcome: ControlOutcome | undefined) => void,
  ): void {
    const token = ++this.token;
    this.waiting.set(token, (outcome) => {
      done(outcome);
      this.collect(peer);
    });
    this.effects.push({ type: 'control', token, phase, items: [order], peer });
  }

  get eventsWaiting(): number {
    return this.sets.reduce((sum, { pending }) => sum + pending, this.critical.waiting);
  }

  get deadline(): Instant | null {
    let earliest = Infinity;
    for (const set of this.sets) earliest = Math.min(earliest, set.deadline);
    for (const { server } of this.peers.values()) earliest = Math.min(earliest, server.deadline ?? Infinity);
    return earliest === Infinity ? null : earliest;
  }

  start(now: Instant): void {
    this.came({ peer: ONLY }, now);
  }
  stop(now: Instant): void {
    this.went(ONLY, now);
  }
  receive(octets: Uint8Array, now: Instant): void {
    this.octets(ONLY, octets, now);
  }
  wake(now: Instant): void {
    this.now = now;
    for (const [peer, { server }] of this.peers) {
      server.wake(now);
      this.collect(peer);
    }
    for (const set of this.sets) set.wake(now);
  }

  command(command: ServerCommand<TaseTargetAt>, now: Instant): void {
    this.now = now;
    switch (command.type) {
      case 'update':
        for (const update of command.updates) this.update(update, command.manner ?? 'told', now);
        for (const set of this.sets) if (now >= set.deadline) set.wake(now);
        break;
      case 'controlResult': {
        const answer = this.waiting.get(command.token);
        this.waiting.delete(command.token);
        answer?.(command.outcomes[0]);
        break;
      }
      case 'came':
        this.came(command, now);
        break;
      case 'went':
        this.went(command.peer, now);
        break;
      case 'octets':
        this.octets(command.peer, command.octets, now);
        break;
      case 'owed':
        this.critical.fill(command.records, command.last);
        break;
      case 'rights': {
        const peer = this.peers.get(command.peer);
        if (peer !== undefined) peer.operates = command.operates;
        break;
      }
      case 'toldBefore':
      case 'setSettings':
        break;
      case 'rest':
        for (const set of this.sets) set.rest();
        break;
      case 'setPoints':
        this.points.adopt(command.points);
        this.places = new WeakMap();
        break;
      case 'commandGiven':
      case 'stored':
      case 'carried':
      case 'notCarried':
      case 'again':
        break;
      case 'guest':
        this.onGuest(command);
        break;
      case 'order':
        this.order(command.order, command.text ?? '', now);
        break;
      case 'resetCounters':
        this.counters.reset(now);
        break;
      default:
        command satisfies never;
    }
  }

  take(): ServerEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  // ---- associations

  private came(
    {
      peer,
      from = '',
      within,
      operates = true,
    }: { peer: number; from?: string; within?: ConversationTerms; operates?: boolean },
    now: Instant,
  ): void {
    this.now = now;
    const association = within === undefined ? [] : [new Within(within)];
    const server = new MmsServer(calledSettings(this.settings), this.objects.forPeer(peer), ...association);
    server.log = this.log.of(from || 'them');
    if (within !== undefined) this.counters.add('associations');
    this.peers.set(peer, { server, from, operates });
    server.start(now);
    this.collect(peer);
  }

  private went(peer: number, now: Instant): void {
    this.now = now;
    if (!this.peers.delete(peer)) return;
    if (this.guest?.peer === peer) {
      this.effects.push({ type: 'guest', what: 'ends' });
      this.guest.peer = null;
      this.invite();
    }
    for (const set of this.sets) set.left(peer);
    this.controls.left(peer);
    this.telling.want(peer, false);
    this.objects.left(peer);
  }

  private octets(peer: number, octets: Uint8Array, now: Instant): void {
    this.counters.add('octetsReceived', octets.length);
    this.effects.push({ type: 'heard' });
    this.peers.get(peer)?.server.receive(octets, now);
    this.collect(peer);
    for (const set of this.sets) if (now >= set.deadline) set.wake(now);
  }

  private collect(peer: number): void {
    const one = this.peers.get(peer);
    if (one === undefined) return;
    for (const effect of one.server.take()) {
      switch (effect.type) {
        case 'send':
          this.counters.add('octetsSent', effect.octets.length);
          this.effects.push({ ...effect, peer });
          break;
        case 'asked': {
          const { password } = calledSettings(this.settings);
          if (password !== null && effect.caller.password !== password) {
            const words = effect.caller.password === null ? 'without the password' : 'with a wrong password';
            this.counters.add('refusedClients');
            this.effects.push({ type: 'diagnostic', words: `an association was refused: ${words}` });
            one.server.refuse(WRONG_PASSWORD, words);
          } else {
            this.counters.add('associations');
            one.server.accept(agreedOn(effect.caller.agreement, calledSettings(this.settings).agreement));
          }
          this.collect(peer);
          break;
        }
        case 'request':
          this.counters.add('requests');
          break;
        case 'told':
          this.onTold(peer, effect);
          break;
        case 'guest':
          this.effects.push({ type: 'guest', what: 'hears', octets: effect.octets });
          break;
        case 'odd':
          this.counters.add('odd');
          this.effects.push({ type: 'diagnostic', words: effect.words });
          break;
        case 'closed':
          this.effects.push({ type: 'hangUp', peer });
          break;
        case 'open':
          this.invite();
          break;
        default:
          effect satisfies never;
      }
    }
  }

  // ---- what people here want

  private order(order: string, text: string, now: Instant): void {
    const done = (words: string): void => void this.effects.push({ type: 'ordered', order, words });
    const reporting = (condition: Condition): void => {
      const some = this.sets.filter((set) => set.request(condition, now)).length;
      done(some === 0 ? `no transfer set asked for that` : `${some} transfer ${some === 1 ? 'set' : 'sets'} told it`);
    };
    switch (order) {
      case 'operatorRequest':
        return reporting('operator request');
      case 'externalEvent':
        return reporting('other external event');
      case 'localReset': {
        const count = this.controls.takeBack(now);
        return done(count === 0 ? 'nothing was selected' : `${count} taken back`);
      }
      case 'message': {
        const { words, told } = this.telling.tell(text, (peer) => this.peers.get(peer)?.server);
        this.counters.add('messages', told.length);
        for (const peer of told) this.collect(peer);
        return done(words);
      }
      case 'takeTagsOff': {
        const count = this.controls.takeTagsOff();
        return done(count === 0 ? 'there were none' : `${count} taken off`);
      }
      default:
        return done('that is not known');
    }
  }

  get details(): readonly DetailTable[] {
    return [
      {
        ...{ key: 'transferSets', title: 'Transfer sets' },
        columns: [
          'Transfer set',
          'Peer',
          'Data set',
          'Conditions',
          'Buffer',
          'Integrity',
          'State',
          'Reports',
          'Waiting',
        ],
        rows: this.sets.map((set) => {
          const { wanted, peer, state, reports, lastAt, repeats } = set.standing;
          const seconds = (value: number): string => (value === 0 ? '' : `${value} s`);
          const cells =
            peer === null
              ? [set.name.item, '', '', '', '', '', state, '', '']
              : [
                  ...[set.name.item, this.peers.get(peer)?.from ?? '', nameWords(wanted.dataSet)],
                  `${wanted.conditions.join(', ')}${wanted.critical ? '; critical' : ''}`,
                  ...[seconds(wanted.buffer), seconds(wanted.integrity), state],
                  `${reports}${repeats > 0 ? `, ${repeats} of them again` : ''}`,
                  String(set.pending),
                ];
          return { key: set.name.item, cells, time: lastAt, odd: repeats > 0 ? [STATE_AT] : [] };
        }),
      },
      ...(this.controls.tagged.size === 0
        ? []
        : [
            {
              ...{ key: 'tags', title: 'Tags' },
              columns: ['Object', 'Tag'],
              rows: [...this.controls.tagged].map(([address, tag]) => ({
                key: address,
                cells: [address, tagWords(tag)],
              })),
            },
          ]),
      this.log.table,
    ];
  }

  // ---- a guest

  private onGuest(command: GuestCommand): void {
    const { guest } = this;
    if (command.what === 'comes') {
      this.guest ??= { peer: null };
      return this.invite();
    }
    const peer = guest?.peer ?? null;
    const server = peer === null ? undefined : this.peers.get(peer)?.server;
    if (command.what === 'says') server?.pass(command.octets);
    else {
      if (server) server.hasGuest = false;
      this.guest = null;
    }
    if (peer !== null) this.collect(peer);
  }

  /** Into the first association that stands, where it is in none. */
  private invite(): void {
    if (this.guest === null || this.guest.peer !== null) return;
    for (const [peer, { server }] of this.peers) {
      if (!server.isOpen) continue;
      server.hasGuest = true;
      this.guest.peer = peer;
      this.effects.push({ type: 'guest', what: 'begins', terms: { octets: server.size, requests: server.parallel } });
      return;
    }
  }

  /**
   * The only thing that a client tells unasked is that it has a critical report; what is told besides is for a client of
   * ours.
   */
  private onTold(peer: number, { variables, results, octets }: MmsServerEffect & { type: 'told' }): void {
    const { names = [] } = variables;
    const at = names.findIndex(({ name }) => ACKNOWLEDGEMENTS.includes(name.item) || name.item === SPECIAL.refuse);
    if (at < 0 && this.guest?.peer === peer) return void this.effects.push({ type: 'guest', what: 'hears', octets });
    const data = results[at];
    const [name, time] = data?.type === 'structure' ? data.items : [];
    const set = nameOf(name);
    const seconds = time?.type === 'integer' || time?.type === 'unsigned' ? Number(time.value) : NaN;
    const found = set && this.sets.find((one) => nameWords(one.name) === nameWords(set));
    if (found && names[at].name.item === SPECIAL.refuse) found.refused(peer, seconds, this.now);
    else if (found) found.acknowledged(peer, seconds, this.now);
    else this.counters.add('odd');
  }

  // ---- values

  private update(update: ServerUpdate<TaseTargetAt>, manner: UpdateManner, now: Instant): void {
    const held = this.points.update(update, manner);
    if (held === null) return;
    this.effects.push({ type: 'event', address: held.address, number: held.event ?? 0, form: this.form(held.point) });
    const name = nameWords(held.name);
    const data = dataOf(held);
    for (const set of this.sets) set.changed(name, data, now);
    this.critical.changed(name, data, now);
  }

  form({ at }: { kind: PointKind; at: TaseTargetAt }): string {
    return at.type;
  }
  said(_kind: PointKind, quality: number): string {
    return flagWords(flagsOf(quality, true));
  }
  held(point: { kind: PointKind; at: TaseTargetAt }): { value: number; text: string } {
    return { value: this.points.at(printAt(point.at))?.value ?? 0, text: '' };
  }

  // ---- reports

  private sendReport(
    set: TransferSet,
    { peer, dataSet, conditions, changed, all, byException, packed, seconds, eventCode }: TransferReport,
  ): void {
    const one = this.peers.get(peer);
    const members = this.objects.list(dataSet, peer);
    if (one === undefined || members === null) return;
    const result = ({ name }: Variable): AccessResult => {
      if (name.item === SPECIAL.setName) return nameData(set.name);
      if (name.item === SPECIAL.conditions) return conditionBits(...conditions);
      if (name.item === SPECIAL.time) return whole(seconds);
      if (name.item === SPECIAL.event) return whole(eventCode);
      return (changed ?? all)?.get(nameWords(name)) ?? this.objects.valueOf(name);
    };
    // By exception the objects are named that are in it; otherwise the data set says which they are.
    const some = changed === null ? members : this.changedOf(members, changed);
    const variables = !packed && byException && changed !== null ? { names: some } : { list: dataSet };
    const block = packed ? this.packed(members, some, result, byException) : null;
    if (
      !one.server.report(variables, block === null ? some.map(result) : [{ type: 'octets', octets: block }], this.now)
    )
      this.effects.push({ type: 'diagnostic', words: `${set.words}: a report is longer than agreed on` });
    this.counters.add('reports');
    this.counters.add('reportedValues', some.length);
    const told = some.flatMap(({ name }) => {
      const held = this.points.named(name);
      return held === undefined || held.event === null ? [] : [{ address: held.address, number: held.event }];
    });
    if (told.length > 0) this.effects.push({ type: 'reported', events: told }, { type: 'delivered', events: told });
    this.collect(peer);
  }

  /** What a report by exception names: what is of the protocol's own, and what has changed. */
  private changedOf(members: readonly Variable[], changed: ReadonlyMap<string, AccessResult>): Variable[] {
    let known = this.places.get(members);
    if (known === undefined) {
      const isSpecial = ({ name }: Variable): boolean => this.points.named(name) === undefined;
      known = {
        special: members.filter(isSpecial),
        byName: new Map(members.map((one) => [nameWords(one.name), one] as const)),
      };
      this.places.set(members, known);
    }
    const { special, byName } = known;
    return [...special, ...[...changed.keys()].flatMap((name) => byName.get(name) ?? [])];
  }

  /** A report as one octet string; null: something of it cannot be packed, and it goes as it is. */
  private packed(
    members: readonly Variable[],
    some: readonly Variable[],
    result: (variable: Variable) => AccessResult,
    byException: boolean,
  ): Uint8Array | null {
    const types = members.map(({ name }) => this.objects.typeOf(name));
    if (!types.every((one) => one !== null)) return null;
    const valueAt = (place: number): Data | null => {
      const value = result(members[place]);
      return value.type === 'failure' ? null : value;
    };
    const places = byException && some.length < members.length ? some.map((one) => members.indexOf(one)) : null;
    return encodeBlock(types, valueAt, places);
  }
}
