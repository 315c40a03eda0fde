import type { Instant } from '../../../session/index.ts';
import type { MmsObjects } from '../../mms/server.ts';
import { AccessError, type AccessResult, type Data, type TypeOf } from '../../mms/wire/data.ts';
import { nameWords, type ObjectName } from '../../mms/wire/names.ts';
import type { ServiceError } from '../../mms/wire/pdu.ts';
import type { ObjectClass, Variable } from '../../mms/wire/services.ts';
import type { ServerSettings } from '../settings.ts';
import { TAG, TAG_TYPE, tagData } from '../tags.ts';
import {
  ACK_TYPE,
  BLOCKS,
  conditionBits,
  featureBits,
  NAME_TYPE,
  nameData,
  SET_TYPE,
  SPECIAL,
  VERSION_TYPE,
} from '../transfer.ts';
import { isControl, typeOf } from '../types.ts';
import type { Controls } from './controls.ts';
import { dataOf, type Held, type HeldPoints } from './held.ts';
import type { Telling } from './telling.ts';
import type { TransferSet } from './transferset.ts';

/* The objects of an agreement as MMS asks for them. A name that is not among them does not exist, whatever asks for it. */

const VERSION = [2000, 8] as const;
const MOST_LISTS = 100;
const MOST_MEMBERS = 2000;
const SELECT = '_SBO';
const NOT_THERE = { type: 'failure' as const, code: AccessError.nonExistent };
const text = (value: string): Data => ({ type: 'text', text: value, wide: false });
const whole = (value: number): Data => ({ type: 'integer', value });

export interface ObjectParts {
  settings: ServerSettings;
  held: HeldPoints;
  sets: readonly TransferSet[];
  controls: Controls;
  telling: Telling;
  now: () => Instant;
  /** From where a peer is, and whether anything may be operated from there. */
  peer: (peer: number) => { from: string; operates: boolean } | undefined;
  /** The present value of a point was read; something is operated. */
  onRead: (address: string) => void;
  onControl: () => void;
}

export class AgreedObjects {
  /** Data sets that peers have made in our domain, and those of their associations. */
  private readonly lists = new Map<string, readonly Variable[]>();
  private readonly own = new Map<number, Map<string, readonly Variable[]>>();

  constructor(private readonly parts: ObjectParts) {}

  private listsOf(peer: number): Map<string, readonly Variable[]> {
    const known = this.own.get(peer) ?? new Map<string, readonly Variable[]>();
    this.own.set(peer, known);
    return known;
  }
  left(peer: number): void {
    this.own.delete(peer);
  }

  /** For the association of a peer. */
  forPeer(peer: number): MmsObjects {
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
    if (of === 'domain') return domain === null ? [this.parts.settings.domain] : null;
    if (domain !== null && domain !== this.parts.settings.domain) return null;
    if (of === 'variableList')
      return domain === null ? [...(this.own.get(peer)?.keys() ?? [])].sort() : [...this.lists.keys()].sort();
    if (of !== 'variable') return [];
    const own = [...this.parts.held.all()].filter(({ name }) => (domain === null) === (name.scope === 'vmd'));
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
            ...this.parts.sets.map(({ name }) => name.item),
          ];
    return [...points, ...special].sort((a, b) => (a < b ? -1 : 1));
  }

  private isOurs(name: ObjectName): name is ObjectName & { scope: 'domain' } {
    return name.scope === 'domain' && name.domain === this.parts.settings.domain;
  }

  private setAt(item: string): { set: TransferSet; attribute: string | null } | null {
    const [name, attribute = null] = item.split('$');
    const set = this.parts.sets.find((one) => one.name.item === name);
    return set === undefined ? null : { set, attribute };
  }

  typeOf(name: ObjectName): TypeOf | null {
    const held = this.parts.held.named(name);
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
    const held = this.parts.held.named({ ...name, item: name.item.slice(0, -what.length) });
    if (held === undefined || !isControl(held.point.at.type)) return null;
    return (what === SELECT ? held.point.at.select : held.point.at.tag) ? held : null;
  }

  valueOf(name: ObjectName): AccessResult {
    const held = this.parts.held.named(name);
    if (held === undefined) return NOT_THERE;
    // What is operated has no value to be seen.
    if (isControl(held.point.at.type)) return { type: 'failure', code: AccessError.denied };
    return dataOf(held);
  }

  private read(name: ObjectName, peer: number): AccessResult {
    const selectable = this.beside(name, SELECT);
    if (selectable !== null) {
      // Who may not operate it would only keep it from whoever may.
      if (this.parts.peer(peer)?.operates !== true) return { type: 'failure', code: AccessError.denied };
      return this.parts.controls.select(selectable, peer, this.parts.now());
    }
    const tagged = this.beside(name, TAG);
    if (tagged !== null) return tagData(this.parts.controls.tagOf(tagged.address));
    const held = this.parts.held.named(name);
    if (held !== undefined) {
      this.parts.onRead(held.address);
      return this.valueOf(name);
    }
    if (name.scope === 'vmd') {
      if (name.item === SPECIAL.version) return { type: 'structure', items: VERSION.map(whole) };
      return name.item === SPECIAL.features
        ? featureBits(
            ...[BLOCKS.periodic, BLOCKS.exception, BLOCKS.messages, BLOCKS.control],
            ...(this.parts.settings.blocked ? [BLOCKS.blocked] : []),
          )
        : NOT_THERE;
    }
    if (!this.isOurs(name)) return NOT_THERE;
    switch (name.item) {
      case SPECIAL.table:
        return text(this.parts.settings.bilateralTable);
      case SPECIAL.next: {
        const free = this.parts.sets.find((set) => set.isFree(this.parts.now()));
        if (free === undefined) return { type: 'failure', code: AccessError.temporarilyUnavailable };
        free.reserve(peer, this.parts.now());
        return nameData(free.name);
      }
      case SPECIAL.setName:
        return nameData({ scope: 'domain', domain: this.parts.settings.domain, item: '' });
      case SPECIAL.conditions:
        return conditionBits();
      case SPECIAL.messages:
        return { type: 'boolean', value: this.parts.telling.isWanted(peer) };
      case SPECIAL.event:
        return whole(0);
      case SPECIAL.time:
        return whole(Math.floor(this.parts.now() / 1000));
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
    const held = this.parts.held.named(name);
    if (held !== undefined) {
      if (isControl(held.point.at.type)) this.parts.onControl();
      return this.parts.controls.operate(held, value, peer, this.parts.now(), done);
    }
    const tagged = this.beside(name, TAG);
    if (tagged !== null) {
      const { from = '', operates = false } = this.parts.peer(peer) ?? {};
      return done(operates ? this.parts.controls.tag(tagged, value, from || 'a peer') : AccessError.denied);
    }
    if (this.isOurs(name) && name.item === SPECIAL.messages) {
      if (value.type !== 'boolean') return done(AccessError.typeInconsistent);
      this.parts.telling.want(peer, value.value);
      return done(null);
    }
    const found = this.isOurs(name) ? this.setAt(name.item) : null;
    if (found !== null) return done(found.set.write(found.attribute, value, peer, this.parts.now()));
    done(this.typeOf(name) === null ? AccessError.nonExistent : AccessError.denied);
  }

  // ---- data sets

  /** Of a data set: ours, or one of that association. */
  list(name: ObjectName, peer: number): readonly Variable[] | null {
    if (name.scope === 'association') return this.own.get(peer)?.get(name.item) ?? null;
    return this.isOurs(name) ? (this.lists.get(name.item) ?? null) : null;
  }

  private define(name: ObjectName, variables: readonly Variable[], peer: number): ServiceError | null {
    const refused = (of: number, code: number, words: string): ServiceError => ({ class: of, code, words });
    if (variables.length === 0 || variables.length > MOST_MEMBERS)
      return refused(4, 5, `a data set has 1 to ${MOST_MEMBERS} members, this has ${variables.length}`);
    if (variables.some((one) => this.typeOf(one.name) === null)) return refused(7, 2, '');
    if (this.list(name, peer) !== null) return refused(2, 5, '');
    const lists = name.scope === 'association' ? this.listsOf(peer) : this.isOurs(name) ? this.lists : undefined;
    if (lists === undefined) return refused(7, 2, '');
    if (lists.size >= MOST_LISTS) return refused(3, 0, `${MOST_LISTS} data sets are made already`);
    lists.set(name.item, variables);
    return null;
  }

  private delete(name: ObjectName, peer: number): boolean {
    if (name.scope === 'association') return this.own.get(peer)?.delete(name.item) ?? false;
    // What a transfer set reports by stays: its peer would hear no more, and never know.
    const isUsed = this.parts.sets.some((set) => set.isEnabled && nameWords(set.dataSet) === nameWords(name));
    return this.isOurs(name) && !isUsed && this.lists.delete(name.item);
  }
}
