import type { PointKind } from '../../../point/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { DetailTable } from '../../client.ts';
import type { CentreOrder, ControlOutcome } from '../../control.ts';
import { MmsServer, type MmsObjects, type MmsServerEffect } from '../../mms/server.ts';
import { agreedOn, calledSettings } from '../../mms/settings.ts';
import { Within } from '../../mms/within.ts';
import { AccessError, type AccessResult, type Data, type TypeOf } from '../../mms/wire/data.ts';
import { nameWords, type ObjectName } from '../../mms/wire/names.ts';
import type { ServiceError } from '../../mms/wire/pdu.ts';
import type { ObjectClass, Variable } from '../../mms/wire/services.ts';
import type { ConversationTerms, GuestCommand } from '../../conversation.ts';
import type { Server, ServerCommand, ServerEffect, ServerPoint, ServerUpdate } from '../../server.ts';
import { encodeBlock } from '../blocks.ts';
import { CounterSet } from '../counters.ts';
import { Controls } from './controls.ts';
import { Telling } from './telling.ts';
import { printAt, type TaseTargetAt } from '../points.ts';
import { flagsOf, flagWords } from '../quality.ts';
import type { ServerSettings } from '../settings.ts';
import {
  ACK_TYPE,
  ACKNOWLEDGEMENTS,
  BLOCKS,
  conditionBits,
  featureBits,
  NAME_TYPE,
  nameData,
  nameOf,
  SET_TYPE,
  SPECIAL,
  VERSION_TYPE,
  type Condition,
} from '../transfer.ts';
import { TAG, TAG_TYPE, tagData, tagWords } from '../tags.ts';
import { encode, isControl, typeOf } from '../types.ts';
import { TransferSet, type TransferReport } from './transferset.ts';

/*
 * Our side towards one TASE.2 peer: what its agreement names, and nothing else. What is not in it does not exist for the
 * peer: no service tells that there is more.
 *
 * Rules:
 *  1. A value is told when it has moved by its deadband, when its quality changes, and when its device reported it.
 *  2. A report has no confirmation of its own: it counts as handed over when it is sent.
 *  3. What has to be selected is selected by reading NAME_SBO; its device is asked with the value, when it is operated.
 */

interface Held {
  point: ServerPoint<TaseTargetAt>;
  address: string;
  name: ObjectName;
  value: number;
  quality: number;
  time: Instant;
  timeIsValid: boolean;
  changes: number;
  told: number;
  event: number | null;
}
interface Peer {
  server: MmsServer;
  from: string;
  operates: boolean;
  lists: Map<string, readonly Variable[]>;
}

/** The one peer of a way that is there by itself. */
const ONLY = 0;
const VERSION = [2000, 8] as const;
/** Of the table of transfer sets: the column of the state. */
const STATE_AT = 6;
const MOST_LISTS = 100;
const MOST_MEMBERS = 2000;
const WRONG_PASSWORD = 13;
const SELECT = '_SBO';
const NOT_THERE = { type: 'failure' as const, code: AccessError.nonExistent };
const text = (value: string): Data => ({ type: 'text', text: value, wide: false });
const whole = (value: number): Data => ({ type: 'integer', value });

export class TaseServer implements Server<TaseTargetAt> {
  readonly counters: CounterSet;
  private effects: ServerEffect[] = [];
  private known = new Map<string, Held>();
  /** By their names: `HALVIX/HLM_AN1`. */
  private byName = new Map<string, Held>();
  private readonly sets: TransferSet[];
  /** Data sets that peers have made in our domain. */
  private readonly lists = new Map<string, readonly Variable[]>();
  private readonly peers = new Map<number, Peer>();
  private readonly controls: Controls;
  private readonly telling: Telling;
  private readonly waiting = new Map<number, (outcome: ControlOutcome | undefined) => void>();
  private token = 0;
  private events = 0;
  private now: Instant;
  /** A client of ours: whether there is one, and the peer in whose association it is. */
  private guest: { peer: number | null } | null = null;

  constructor(
    private readonly settings: ServerSettings,
    points: readonly ServerPoint<TaseTargetAt>[],
    now: Instant,
    remembered: readonly Uint8Array[] = [],
  ) {
    this.counters = new CounterSet(now);
    this.now = now;
    this.sets = Array.from({ length: settings.transferSets }, (_, at) => {
      const item = `DSTransferSet${String(at + 1).padStart(2, '0')}`;
      return new TransferSet(
        { scope: 'domain', domain: settings.domain, item },
        {
          members: (dataSet, peer) => this.list(dataSet, peer)?.map(({ name }) => nameWords(name)) ?? null,
          send: (set, report) => this.sendReport(set, report),
          packs: settings.blocked,
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
      remembered,
    );
    this.telling = new Telling(settings.domain);
    this.index(points);
  }

  get keep(): Uint8Array {
    return this.controls.kept;
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

  private index(points: readonly ServerPoint<TaseTargetAt>[]): void {
    const before = this.known;
    this.known = new Map();
    this.byName = new Map();
    for (const point of points) {
      const address = printAt(point.at);
      const { scope, name: item } = point.at;
      const name: ObjectName =
        scope === 'centre' ? { scope: 'vmd', item } : { scope: 'domain', domain: this.settings.domain, item };
      const fresh = { value: 0, quality: 0, time: 0, timeIsValid: false, changes: 0, told: NaN, event: null };
      const held: Held = { ...fresh, ...before.get(address), point, address, name };
      this.known.set(address, held);
      this.byName.set(nameWords(name), held);
    }
  }

  get eventsWaiting(): number {
    return this.sets.reduce((sum, { pending }) => sum + pending, 0);
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
        for (const update of command.updates) this.update(update, command.quiet ?? false, now);
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
      case 'setPoints':
        this.index(command.points);
        break;
      case 'commandGiven':
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
    const server = new MmsServer(calledSettings(this.settings), this.objectsFor(peer), ...association);
    if (within !== undefined) this.counters.add('associations');
    this.peers.set(peer, { server, from, operates, lists: new Map() });
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

  private update(update: ServerUpdate<TaseTargetAt>, quiet: boolean, now: Instant): void {
    const held = this.known.get(printAt(update.at));
    if (held === undefined || isControl(held.point.at.type)) return;
    const { deadband } = held.point;
    const { value, quality } = update;
    const hasMoved =
      update.always === true ||
      update.moved === true ||
      Number.isNaN(held.told) ||
      (deadband === 0 ? value !== held.told : Math.abs(value - held.told) >= deadband);
    const tells = hasMoved || quality !== held.quality;
    [held.value, held.quality] = [value, quality];
    [held.time, held.timeIsValid] = [update.time, !update.unsynchronised];
    if (!tells) return;
    if (hasMoved) {
      held.told = value;
      held.changes++;
    }
    if (quiet) return;
    held.event = ++this.events;
    this.effects.push({ type: 'event', address: held.address, number: held.event, form: this.form(held.point) });
    const name = nameWords(held.name);
    const data = this.dataOf(held);
    for (const set of this.sets) set.changed(name, data, now);
  }

  private dataOf({ point, value, quality, time, timeIsValid, changes }: Held): Data {
    const { type } = point.at;
    if (isControl(type)) return whole(0);
    // Of one bit: on is 2, off is 1.
    const state = point.kind === 'binary' ? (value === 0 ? 1 : 2) : value;
    const flags = flagsOf(quality, timeIsValid);
    return encode(type, { value: type.startsWith('State') ? state : value, flags, time, changes });
  }

  form({ at }: { kind: PointKind; at: TaseTargetAt }): string {
    return at.type;
  }
  said(_kind: PointKind, quality: number): string {
    return flagWords(flagsOf(quality, true));
  }
  held(point: { kind: PointKind; at: TaseTargetAt }): { value: number; text: string } {
    return { value: this.known.get(printAt(point.at))?.value ?? 0, text: '' };
  }

  // ---- reports

  private sendReport(
    set: TransferSet,
    { peer, dataSet, conditions, changed, byException, packed, seconds, eventCode }: TransferReport,
  ): void {
    const one = this.peers.get(peer);
    const members = this.list(dataSet, peer);
    if (one === undefined || members === null) return;
    const result = ({ name }: Variable): AccessResult => {
      if (name.item === SPECIAL.setName) return nameData(set.name);
      if (name.item === SPECIAL.conditions) return conditionBits(...conditions);
      if (name.item === SPECIAL.time) return whole(seconds);
      if (name.item === SPECIAL.event) return whole(eventCode);
      return changed?.get(nameWords(name)) ?? this.valueOf(name);
    };
    const isSpecial = ({ name }: Variable): boolean => !this.byName.has(nameWords(name));
    // By exception the objects are named that are in it; otherwise the data set says which they are.
    const some = changed === null ? members : members.filter((v) => isSpecial(v) || changed.has(nameWords(v.name)));
    const variables = !packed && byException && changed !== null ? { names: some } : { list: dataSet };
    const block = packed ? this.packed(members, some, result, byException) : null;
    if (!one.server.report(variables, block === null ? some.map(result) : [{ type: 'octets', octets: block }]))
      this.effects.push({ type: 'diagnostic', words: `${set.words}: a report is longer than agreed on` });
    this.counters.add('reports');
    this.counters.add('reportedValues', some.length);
    const told = some.flatMap(({ name }) => {
      const held = this.byName.get(nameWords(name));
      return held === undefined || held.event === null ? [] : [{ address: held.address, number: held.event }];
    });
    if (told.length > 0) this.effects.push({ type: 'reported', events: told }, { type: 'delivered', events: told });
    this.collect(peer);
  }

  /** A report as one octet string; null: something of it cannot be packed, and it goes as it is. */
  private packed(
    members: readonly Variable[],
    some: readonly Variable[],
    result: (variable: Variable) => AccessResult,
    byException: boolean,
  ): Uint8Array | null {
    const types = members.map(({ name }) => this.typeOf(name));
    if (!types.every((one) => one !== null)) return null;
    const valueAt = (place: number): Data | null => {
      const value = result(members[place]);
      return value.type === 'failure' ? null : value;
    };
    const places = byException && some.length < members.length ? some.map((one) => members.indexOf(one)) : null;
    return encodeBlock(types, valueAt, places);
  }

  // ---- what MMS asks for

  private objectsFor(peer: number): MmsObjects {
    return {
      identity: { vendor: 'Halvix', model: 'Telemetry gateway', revision: '1' },
      names: (of, domain) => this.names(of, domain, peer),
      typeOf: (name) => this.typeOf(name),
      read: ({ name, part }) => (part && part.length > 0 ? NOT_THERE : this.read(name, peer)),
      write: ({ name }, value, done) => this.write(name, value, peer, done),
      list: (name) => {
        const variables = this.list(name, peer);
        return variables === null ? null : { variables, deletable: true };
      },
      defineList: (name, variables) => this.define(name, variables, peer),
      deleteList: (name) => this.delete(name, peer),
    };
  }

  private names(of: ObjectClass, domain: string | null, peer: number): readonly string[] | null {
    if (of === 'domain') return domain === null ? [this.settings.domain] : null;
    if (domain !== null && domain !== this.settings.domain) return null;
    if (of === 'variableList')
      return domain === null ? [...(this.peers.get(peer)?.lists.keys() ?? [])].sort() : [...this.lists.keys()].sort();
    if (of !== 'variable') return [];
    const own = [...this.byName.values()].filter(({ name }) => (domain === null) === (name.scope === 'vmd'));
    const points = own.flatMap(({ name, point }) => [
      name.item,
      ...(isControl(point.at.type) && point.at.select ? [`${name.item}${SELECT}`] : []),
      ...(isControl(point.at.type) && point.at.tag ? [`${name.item}${TAG}`] : []),
    ]);
    const special =
      domain === null
        ? [SPECIAL.version, SPECIAL.features]
        : [
            ...[SPECIAL.table, SPECIAL.next, SPECIAL.setName, SPECIAL.conditions, SPECIAL.event, SPECIAL.time],
            ...[SPECIAL.acknowledge, SPECIAL.messages],
            ...this.sets.map(({ name }) => name.item),
          ];
    return [...points, ...special].sort((a, b) => (a < b ? -1 : 1));
  }

  private isOurs(name: ObjectName): name is ObjectName & { scope: 'domain' } {
    return name.scope === 'domain' && name.domain === this.settings.domain;
  }

  private setAt(item: string): { set: TransferSet; attribute: string | null } | null {
    const [name, attribute = null] = item.split('$');
    const set = this.sets.find((one) => one.name.item === name);
    return set === undefined ? null : { set, attribute };
  }

  private typeOf(name: ObjectName): TypeOf | null {
    const held = this.byName.get(nameWords(name));
    if (held !== undefined) return typeOf(held.point.at.type);
    if (name.scope === 'vmd') {
      if (name.item === SPECIAL.version) return VERSION_TYPE;
      return name.item === SPECIAL.features ? { type: 'bits', size: 12 } : null;
    }
    if (!this.isOurs(name)) return null;
    if (this.beside(name, SELECT) !== null) return { type: 'integer', bits: 16 };
    if (this.beside(name, TAG) !== null) return TAG_TYPE;
    switch (name.item) {
      case SPECIAL.table:
        return { type: 'text', size: -32 };
      case SPECIAL.next:
      case SPECIAL.setName:
        return NAME_TYPE;
      case SPECIAL.acknowledge:
        return ACK_TYPE();
      case SPECIAL.messages:
        return { type: 'boolean' };
      case SPECIAL.conditions:
        return { type: 'bits', size: 5 };
      case SPECIAL.event:
        return { type: 'integer', bits: 16 };
      case SPECIAL.time:
        return { type: 'integer', bits: 32 };
      default: {
        const found = this.setAt(name.item);
        if (found === null) return null;
        if (found.attribute === null) return SET_TYPE;
        const parts = SET_TYPE.type === 'structure' ? SET_TYPE.components : [];
        return parts.find((one) => one.name === found.attribute)?.of ?? null;
      }
    }
  }

  /** The control that such a name is beside: to select it, or of its tag; null: none. */
  private beside(name: ObjectName, what: typeof SELECT | typeof TAG): Held | null {
    if (!name.item.endsWith(what)) return null;
    const held = this.byName.get(nameWords({ ...name, item: name.item.slice(0, -what.length) }));
    if (held === undefined || !isControl(held.point.at.type)) return null;
    return (what === SELECT ? held.point.at.select : held.point.at.tag) ? held : null;
  }

  private valueOf(name: ObjectName): AccessResult {
    const held = this.byName.get(nameWords(name));
    if (held === undefined) return NOT_THERE;
    // What is operated has no value to be seen.
    if (isControl(held.point.at.type)) return { type: 'failure', code: AccessError.denied };
    return this.dataOf(held);
  }

  private read(name: ObjectName, peer: number): AccessResult {
    const selectable = this.beside(name, SELECT);
    if (selectable !== null) return this.controls.select(selectable, peer, this.now);
    const tagged = this.beside(name, TAG);
    if (tagged !== null) return tagData(this.controls.tagOf(tagged.address));
    const held = this.byName.get(nameWords(name));
    if (held !== undefined) {
      this.effects.push({ type: 'read', addresses: [held.address] });
      return this.valueOf(name);
    }
    if (name.scope === 'vmd') {
      if (name.item === SPECIAL.version) return { type: 'structure', items: VERSION.map(whole) };
      return name.item === SPECIAL.features
        ? featureBits(
            ...[BLOCKS.periodic, BLOCKS.exception, BLOCKS.messages, BLOCKS.control],
            ...(this.settings.blocked ? [BLOCKS.blocked] : []),
          )
        : NOT_THERE;
    }
    if (!this.isOurs(name)) return NOT_THERE;
    switch (name.item) {
      case SPECIAL.table:
        return text(this.settings.bilateralTable);
      case SPECIAL.next: {
        const free = this.sets.find((set) => set.isFree(this.now));
        if (free === undefined) return { type: 'failure', code: AccessError.temporarilyUnavailable };
        free.reserve(peer, this.now);
        return nameData(free.name);
      }
      case SPECIAL.setName:
        return nameData({ scope: 'domain', domain: this.settings.domain, item: '' });
      case SPECIAL.conditions:
        return conditionBits();
      case SPECIAL.messages:
        return { type: 'boolean', value: this.telling.isWanted(peer) };
      case SPECIAL.event:
        return whole(0);
      case SPECIAL.time:
        return whole(Math.floor(this.now / 1000));
      default: {
        const found = this.setAt(name.item);
        const value = found?.set.value;
        if (found === null || value?.type !== 'structure') return NOT_THERE;
        if (found.attribute === null) return value;
        const parts = SET_TYPE.type === 'structure' ? SET_TYPE.components : [];
        return value.items[parts.findIndex((one) => one.name === found.attribute)] ?? NOT_THERE;
      }
    }
  }

  private write(name: ObjectName, value: Data, peer: number, done: (error: number | null) => void): void {
    const held = this.byName.get(nameWords(name));
    if (held !== undefined) {
      if (isControl(held.point.at.type)) this.counters.add('controls');
      return this.controls.operate(held, value, peer, this.now, done);
    }
    const tagged = this.beside(name, TAG);
    if (tagged !== null) {
      const { from = '', operates = false } = this.peers.get(peer) ?? {};
      return done(operates ? this.controls.tag(tagged, value, from || 'a peer') : AccessError.denied);
    }
    if (this.isOurs(name) && name.item === SPECIAL.messages) {
      if (value.type !== 'boolean') return done(AccessError.typeInconsistent);
      this.telling.want(peer, value.value);
      return done(null);
    }
    const found = this.isOurs(name) ? this.setAt(name.item) : null;
    if (found !== null) return done(found.set.write(found.attribute, value, peer, this.now));
    done(this.typeOf(name) === null ? AccessError.nonExistent : AccessError.denied);
  }

  // ---- data sets

  private list(name: ObjectName, peer: number): readonly Variable[] | null {
    if (name.scope === 'association') return this.peers.get(peer)?.lists.get(name.item) ?? null;
    return this.isOurs(name) ? (this.lists.get(name.item) ?? null) : null;
  }

  private define(name: ObjectName, variables: readonly Variable[], peer: number): ServiceError | null {
    const refused = (of: number, code: number, words: string): ServiceError => ({ class: of, code, words });
    if (variables.length === 0 || variables.length > MOST_MEMBERS)
      return refused(8, 0, `a data set has 1 to ${MOST_MEMBERS} members, this has ${variables.length}`);
    if (variables.some((one) => this.typeOf(one.name) === null)) return refused(7, 2, '');
    if (this.list(name, peer) !== null) return refused(2, 6, '');
    const lists =
      name.scope === 'association' ? this.peers.get(peer)?.lists : this.isOurs(name) ? this.lists : undefined;
    if (lists === undefined) return refused(7, 2, '');
    if (lists.size >= MOST_LISTS) return refused(3, 0, `${MOST_LISTS} data sets are made already`);
    lists.set(name.item, variables);
    return null;
  }

  private delete(name: ObjectName, peer: number): boolean {
    if (name.scope === 'association') return this.peers.get(peer)?.lists.delete(name.item) ?? false;
    return this.isOurs(name) && this.lists.delete(name.item);
  }
}
