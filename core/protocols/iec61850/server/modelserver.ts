import { concat } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { AssociationSettings, Caller } from '../../mms/association.ts';
import { dataWords } from '../../mms/describe.ts';
import { MmsServer, type MmsFiles, type MmsObjects } from '../../mms/server.ts';
import { AccessError, encodedOnce, type AccessResult, type Data, type TypeOf } from '../../mms/wire/data.ts';
import type { ObjectClass, Variable } from '../../mms/wire/services.ts';
import { applicationErrorData, type ControlModel } from '../control.ts';
import { agreedOn } from '../../mms/settings.ts';
import { referenceOfVariable } from '../model/discovery.ts';
import { typeIn } from '../model/model.ts';
import { print as printReference, toMms, type Reference } from '../model/reference.ts';
import { structure } from '../model/types.ts';
import { encodeStamp } from '../time.ts';
import { encodeReport, type Report } from '../report.ts';
import { Operated, type ControlPhase, type Wish } from './operated.ts';
import { EventNumbers } from '../../owed.ts';
import type { OwedRecord, Remembered } from '../../server.ts';
import { blockRecords, entryFrom, entryOctets, idOf, membersKey, membersRecord, restored } from './kept.ts';
import { blockType, movedEntries, ReportControl, type BlockSettings, type Entry } from './reportcontrol.ts';
import { DataSets, domainOf, objectKey, UNKNOWN, type PlannedSet } from './datasets.ts';
import { LOG_BLOCK, LogControl, type LogPlan } from './logs.ts';
import { Overridden, type Part } from './overridden.ts';
import { fits, GROUP_BLOCK, SettingGroups, type GroupPlan } from './settinggroups.ts';
import { Tree, valueOf } from './tree.ts';

/*
 * A model with its values, for several clients at once: each has an association, all have the same objects.
 *
 * Rules:
 *  1. A value that is set makes every report control block enter it whose data set has it.
 *  2. What a client may do is written in the model: report control blocks, what may be operated, and settings.
 *  3. A report that is larger than agreed on goes in segments.
 *  4. A data set that a client has made for itself goes with its association; one in a logical device stays until it is
 *     deleted. None goes that a block has.
 */

/** What a model is, without values. */
export interface ModelPlan {
  devices: readonly { name: string; nodes: readonly { name: string; of: TypeOf }[] }[];
  dataSets: readonly PlannedSet[];
  blocks: readonly BlockSettings[];
  /** Data objects that may be operated. */
  operated: readonly { object: Reference; model: ControlModel }[];
  values: readonly (readonly [Reference, Data])[];
  /** Logical devices with setting groups, and their logs; absent: none. */
  groups?: readonly GroupPlan[];
  logs?: readonly LogPlan[];
}

export type ModelEffect =
  | { type: 'send'; peer: number; octets: Uint8Array }
  | { type: 'close'; peer: number }
  /** Somebody is associated; who they say they are. */
  | { type: 'open'; peer: number; caller: Caller }
  | { type: 'refused'; peer: number; words: string }
  /** Values of these were read by a client. */
  | { type: 'read'; peer: number; references: readonly Reference[] }
  /** Members of a report that has gone out. */
  | { type: 'reported'; peer: number; block: string; references: readonly Reference[] }
  | { type: 'asked'; peer: number; service: string }
  /** What a client has changed here, in words. */
  | { type: 'changed'; peer: number; words: string }
  | { type: 'odd'; peer: number; words: string }
  /** To be remembered for a restart; `replaces`: it says all that was said before. */
  | { type: 'keep'; octets: Uint8Array; replaces?: boolean }
  | ({ type: 'owes' } & OwedRecord)
  | { type: 'settled'; queue: string; position: number; beyond: readonly number[] };

export interface ControlAsked {
  object: Reference;
  model: ControlModel;
  phase: ControlPhase;
  wish: Wish;
  peer: number;
  /** With the additional cause that refuses it; null: done. */
  answer: (cause: number | null) => void;
}

export interface ModelOwner {
  control: (asked: ControlAsked) => void;
  /** A setting is written; the access error, null: taken. */
  write: (reference: Reference, data: Data, peer: number, done: (error: number | null) => void) => void;
  /** Whether a client may switch and edit setting groups, and replace and hold values. */
  mayOperate: (peer: number) => boolean;
  /** Null: may be associated; otherwise why not, with the diagnostic of association control. */
  admits?: (caller: Caller) => { diagnostic: number; words: string } | null;
  identity: { vendor: string; model: string; revision: string };
  files?: MmsFiles;
}

interface Peer {
  server: MmsServer;
  name: string;
}

/** Of a wrong password (ISO 8650-1: authentication failure). */
const WRONG_PASSWORD = 13;

export class ModelServer {
  private tree: Tree;
  private blocks = new Map<string, ReportControl>();
  private readonly sets = new DataSets((reference) => this.tree.atReference(reference) !== null);
  private groups = new Map<string, SettingGroups>();
  /** By the names of their control blocks in MMS. */
  private logs = new Map<string, LogControl>();
  /** Data objects whose values clients replace or hold. */
  private readonly overridden = new Map<string, Overridden>();
  private readonly overriddenAt = new Map<string, Reference>();
  private operated = new Map<string, Operated>();
  private readonly peers = new Map<number, Peer>();
  private effects: ModelEffect[] = [];
  private now: Instant = 0;
  /** Changes so far. */
  private changes = 0;
  private shape = '';
  private numbers = new EventNumbers(0);
  /** Members of data sets by their names and compositions, as far as something is owed that speaks of them. */
  private readonly compositions = new Map<string, readonly string[]>();
  private readonly compositionOf = new Map<string, { members: readonly Reference[]; composition: number }>();
  /** Old entries are still to come. */
  private isFilling = false;

  constructor(
    plan: ModelPlan,
    private readonly settings: AssociationSettings & { selectMs: number },
    private readonly owner: ModelOwner,
    now: Instant,
  ) {
    this.now = now;
    this.tree = this.treeOf(plan);
    this.build(plan, now, new Map());
  }

  // ---- the model

  private treeOf({ devices, blocks, values, groups = [], logs = [] }: ModelPlan): Tree {
    const withBlocks = devices.map(({ name: device, nodes }) => ({
      name: device,
      nodes: nodes.map(({ name, of }) => {
        const own = blocks.filter((one) => one.device === device && one.item.startsWith(`${name}$`));
        const components = of.type === 'structure' ? [...of.components] : [];
        for (const fc of ['BR', 'RP'] as const) {
          const inside = own
            .filter(({ isBuffered }) => isBuffered === (fc === 'BR'))
            .map(({ item, isBuffered }) => ({ name: item.split('$')[2], of: blockType(isBuffered) }));
          if (inside.length > 0) components.push({ name: fc, of: { type: 'structure', components: inside } });
        }
        const ofLogs = logs.filter((one) => one.device === device && one.item.startsWith(`${name}$`));
        if (ofLogs.length > 0)
          components.push({
            name: 'LG',
            of: structure(...ofLogs.map(({ item }) => [item.split('$')[2], LOG_BLOCK] as const)),
          });
        if (name === 'LLN0' && groups.some((one) => one.device === device)) withGroups(components);
        return { name, of: { type: 'structure' as const, components } };
      }),
    }));
    const tree = new Tree(withBlocks);
    for (const [reference, data] of values) tree.set(reference, data);
    return tree;
  }

  /** `membersBefore`: of the data sets as they were. */
  private build(plan: ModelPlan, now: Instant, membersBefore: ReadonlyMap<string, readonly string[]>): void {
    this.shape = shapeOf(plan);
    this.sets.adopt(plan.dataSets);
    const groups = this.groups;
    this.groups = new Map();
    for (const one of plan.groups ?? []) {
      const made = new SettingGroups(one, this.tree, now);
      const known = groups.get(one.device);
      if (known) made.adopt(known, now);
      this.groups.set(one.device, made);
    }
    const logs = this.logs;
    this.logs = new Map();
    for (const one of plan.logs ?? []) {
      const key = `${one.device}/${one.item}`;
      const known = logs.get(key);
      this.logs.set(key, known && JSON.stringify(known.plan) === JSON.stringify(one) ? known : new LogControl(one));
    }
    const before = this.blocks;
    this.blocks = new Map();
    for (const settings of plan.blocks) {
      const key = `${settings.device}/${settings.item}`;
      const known = before.get(key);
      if (known !== undefined && sameBlock(known.settings, settings)) this.blocks.set(key, known);
      else {
        const made = new ReportControl(settings, this.blockContext(key));
        this.blocks.set(key, made);
        const old = known && membersBefore.get(known.ofDataSet);
        if (known !== undefined && old !== undefined) made.takeOver(known, this.moved(old, settings.dataSet));
      }
    }
    const operated = this.operated;
    this.operated = new Map();
    for (const { object, model } of plan.operated) {
      const { domain, item } = toMms(object);
      const key = `${domain}/${item}`;
      const known = operated.get(key);
      this.operated.set(key, known?.model === model ? known : this.operatedOf(object, key, model, plan));
    }
    this.now = now;
  }

  private operatedOf(object: Reference, name: string, model: ControlModel, plan: ModelPlan): Operated {
    const node = plan.devices.find((one) => one.name === object.device)?.nodes.find((one) => one.name === object.node)
      ?.of ?? { type: 'structure' as const, components: [] };
    const of = (part: string): TypeOf =>
      typeIn(node, { ...object, path: [...object.path, part] }) ?? { type: 'structure', components: [] };
    return new Operated(name, model, { oper: of('Oper'), cancel: of('Cancel') }, this.settings.selectMs, {
      ask: (peer, phase, wish, answer) => this.owner.control({ object, model, phase, wish, peer, answer }),
      show: (wish) => this.showOrigin(object, wish),
      tellError: (peer, error) => {
        const variables = { names: [LAST_ERROR] };
        this.peers.get(peer)?.server.report(variables, [applicationErrorData(error)]);
      },
      tellEnd: (peer, error, data) => {
        const oper = { name: { scope: 'domain' as const, ...splitName(`${name}$Oper`) } };
        const names = error === null ? [oper] : [LAST_ERROR, oper];
        const values = error === null ? [data] : [applicationErrorData(error), data];
        this.peers.get(peer)?.server.report({ names }, values);
        this.collect(peer);
      },
    });
  }

  /** Returns what puts back what was there. */
  private showOrigin(object: Reference, { origin: { category, identity }, number }: Wish): () => void {
    const items: Data[] = [
      { type: 'integer', value: category },
      { type: 'octets', octets: identity },
    ];
    const shown: [string, Data][] = [
      ['origin', { type: 'structure', items }],
      ['ctlNum', { type: 'unsigned', value: number & 0xff }],
    ];
    const before: [Reference, Data][] = [];
    for (const fc of ['ST', 'MX'] as const)
      for (const [name, data] of shown) {
        const reference = { ...object, fc, path: [...object.path, name] };
        const cell = this.tree.atReference(reference);
        if (cell === null || !fits(cell, data)) continue;
        before.push([reference, valueOf(cell)]);
        this.tree.set(reference, data);
      }
    return () => before.forEach(([reference, data]) => this.tree.set(reference, data));
  }

  /** Where members stand now that stood at other places; null: nowhere. */
  private moved(before: readonly string[], dataSet: string): (place: number) => number | null {
    const places = new Map(this.membersOf(dataSet).map((name, place) => [name, place]));
    return (place) => places.get(before[place] ?? '') ?? null;
  }

  private membersOf(dataSet: string): readonly string[] {
    return (this.sets.members(dataSet) ?? []).map((reference) => {
      const { domain, item } = toMms(reference);
      return `${domain}/${item}`;
    });
  }

  /** Tells one composition of a data set from another; entries that are owed speak of it. */
  private composition(dataSet: string): number {
    const members = this.sets.members(dataSet) ?? [];
    const known = this.compositionOf.get(dataSet);
    if (known?.members === members) return known.composition;
    const names = this.membersOf(dataSet);
    const composition = hashOf(names.join(' '));
    this.compositionOf.set(dataSet, { members, composition });
    const key = membersKey(dataSet, composition);
    if (!this.compositions.has(key)) {
      this.compositions.set(key, names);
      this.effects.push({ type: 'keep', octets: membersRecord(dataSet, composition, names) });
    }
    return composition;
  }

  private blockContext(queue: string): ConstructorParameters<typeof ReportControl>[1] {
    const member = (set: string, place: number): Reference | undefined => this.sets.members(set)?.[place];
    return {
      sizeOf: (set) => this.sets.members(set)?.length ?? null,
      value: (set, place) => {
        const reference = member(set, place);
        return reference === undefined ? NO_VALUE : this.memberValue(reference);
      },
      reference: (set, place) => {
        const reference = member(set, place);
        if (reference === undefined) return '';
        const { domain, item } = toMms(reference);
        return `${domain}/${item}`;
      },
      send: (peer, report, set) => this.sendReport(peer, report, set),
      ownSet: (peer, name) => this.sets.keyOfOwn(peer, name),
      keep: (octets) => this.effects.push({ type: 'keep', octets }),
      number: (now) => this.numbers.next(now),
      owe: (number, octets) => this.effects.push({ type: 'owes', queue, number, octets }),
      settle: (part) => {
        if (!this.isFilling) this.effects.push({ type: 'settled', queue, ...part });
      },
      composition: (set) => this.composition(set),
    };
  }

  private memberValue(reference: Reference): Data {
    const cell = this.tree.atReference(reference);
    return cell === null ? NO_VALUE : valueOf(cell);
  }

  /**
   * Another model: what stays keeps its values, its blocks and what waits in them. Clients know what a model has from when
   * they began: where that changes their associations are ended, so that they look again.
   */
  adopt(plan: ModelPlan, now: Instant): void {
    const before = this.tree;
    const hasChanged = shapeOf(plan) !== this.shape;
    const membersBefore = new Map(
      [...this.blocks.values()].map(({ ofDataSet }) => [ofDataSet, this.membersOf(ofDataSet)] as const),
    );
    this.tree = this.treeOf(plan);
    for (const { name: device, nodes } of plan.devices)
      for (const { name, of } of nodes) copyValues(before, this.tree, device, name, of);
    for (const [reference, data] of plan.values) this.tree.set(reference, data);
    this.build(plan, now, membersBefore);
    if (hasChanged)
      for (const [peer, { server }] of this.peers) {
        server.abort('the model has changed');
        this.collect(peer);
      }
    this.touch(now);
  }

  // ---- values

  value(reference: Reference): Data | null {
    const read = this.tree.read({ name: { scope: 'domain', ...domainOf(reference) } });
    return read.type === 'failure' ? null : read;
  }

  /**
   * Sets what belongs to one data object, in one piece. `always`: told even without a change; `quiet`: to nobody.
   */
  set(object: Reference, parts: readonly Part[], how: { always?: boolean; quiet?: boolean }, now: Instant): void {
    this.now = now;
    this.put(object, this.overridden.get(objectKey(object))?.set(parts) ?? parts, how, now);
  }

  private put(
    object: Reference,
    parts: readonly Part[],
    { always = false, quiet = false }: { always?: boolean; quiet?: boolean },
    now: Instant,
  ): void {
    const changed: { path: readonly string[]; trigger: 'dataChange' | 'qualityChange' }[] = [];
    for (const { path, data, trigger } of parts) {
      const did = this.tree.set({ ...object, path: [...object.path, ...path] }, data);
      if (trigger !== null && (did || (always && trigger === 'dataChange'))) changed.push({ path, trigger });
    }
    if (quiet || changed.length === 0) return;
    this.changes++;
    for (const { set, place } of this.sets.within(object)) {
      const member = this.sets.members(set)?.[place];
      if (member === undefined) continue;
      // Taken once for all blocks that enter it.
      let value: Data | null = null;
      for (const { path, trigger } of changed) {
        if (!isWithin([...object.path, ...path], member.path)) continue;
        for (const block of this.blocks.values()) {
          if (block.ofDataSet !== set || !block.takes(trigger)) continue;
          value ??= encodedOnce(this.memberValue(member));
          block.changed(place, value, trigger, this.changes, now);
        }
        for (const log of this.logs.values()) {
          if (log.plan.dataSet !== set || !log.takes(trigger)) continue;
          value ??= encodedOnce(this.memberValue(member));
          const { domain, item } = domainOf(member);
          log.add(`${domain}/${item}`, value, REASON[trigger], now);
        }
      }
    }
  }

  /** What is due is done; to be called after values were set. */
  touch(now: Instant): void {
    this.now = now;
    for (const block of this.blocks.values()) if (now >= block.deadline) block.wake(now);
    for (const peer of this.peers.keys()) this.collect(peer);
  }

  get deadline(): Instant | null {
    let earliest = Infinity;
    for (const block of this.blocks.values()) earliest = Math.min(earliest, block.deadline);
    for (const one of this.operated.values()) earliest = Math.min(earliest, one.deadline);
    for (const one of this.groups.values()) earliest = Math.min(earliest, one.deadline);
    for (const { server } of this.peers.values()) earliest = Math.min(earliest, server.deadline ?? Infinity);
    return earliest === Infinity ? null : earliest;
  }

  wake(now: Instant): void {
    this.now = now;
    for (const one of this.operated.values()) one.wake(now);
    for (const one of this.groups.values()) one.wake(now);
    for (const { server } of this.peers.values()) server.wake(now);
    this.touch(now);
  }

  get waiting(): number {
    let waiting = 0;
    for (const block of this.blocks.values()) waiting += block.waiting;
    return waiting;
  }

  /** All that a later session has to know beside what is owed, in one piece. */
  get kept(): Uint8Array {
    const pieces: Uint8Array[] = [];
    for (const [name, block] of this.blocks) {
      const kept = block.kept;
      if (kept === null) continue;
      this.composition(kept.dataSet);
      pieces.push(blockRecords(name, kept));
    }
    for (const [key, names] of this.compositions) {
      const space = key.lastIndexOf(' ');
      pieces.push(membersRecord(key.slice(0, space), Number(key.slice(space + 1)), names));
    }
    return concat(pieces);
  }

  /** What is in buffers, for a session that goes on. */
  get owed(): OwedRecord[] {
    return [...this.blocks].flatMap(([queue, block]) => block.owed.map((one) => ({ queue, ...one })));
  }

  /** What an earlier session has left; of blocks that are not there any more nothing is. */
  restore({ pieces, lastNumber, owes }: Remembered): void {
    const kept = restored(pieces);
    this.numbers = new EventNumbers(lastNumber);
    for (const [key, names] of kept.members) this.compositions.set(key, names);
    this.isFilling = owes;
    let isOld = false;
    for (const [name, one] of kept.blocks) {
      const block = this.blocks.get(name);
      if (block === undefined) continue;
      const isSame = block.settings.dataSet === one.dataSet && block.settings.revision === one.revision;
      block.restore(one, owes || (one.entries.length > 0 && isSame));
      if (one.entries.length === 0) continue;
      // Of an earlier version: its entries stood among what was kept, and are owed from now on.
      isOld = true;
      if (!isSame) continue;
      for (const entry of one.entries) {
        const octets = entryOctets(entry, this.composition(one.dataSet));
        this.effects.push({ type: 'owes', queue: name, number: entry.number, octets });
      }
      block.fill(one.entries, !owes);
    }
    if (isOld) this.effects.push({ type: 'keep', octets: this.kept, replaces: true });
  }

  /** Entries that an earlier session had; `last`: that is all of them. */
  fill(records: readonly OwedRecord[], last: boolean): void {
    const entries = new Map<string, Entry[]>();
    for (const record of records) {
      const block = this.blocks.get(record.queue);
      const read = block === undefined ? null : entryFrom(record);
      const names = block && read && this.compositions.get(membersKey(block.ofDataSet, read.composition));
      if (block === undefined || read === null || names === undefined) continue;
      const moved = movedEntries([{ ...read, id: idOf(read.number) }], this.moved(names ?? [], block.ofDataSet));
      entries.set(record.queue, [...(entries.get(record.queue) ?? []), ...moved]);
    }
    if (last) this.isFilling = false;
    for (const [name, block] of this.blocks) {
      const own = entries.get(name) ?? [];
      if (own.length > 0 || last) block.fill(own, last);
    }
  }

  // ---- clients

  came(peer: number, name: string, now: Instant): void {
    this.now = now;
    const server = new MmsServer(this.settings, this.objectsFor(peer));
    this.peers.set(peer, { server, name });
    this.sets.came(peer);
    server.start(now);
    this.collect(peer);
  }

  went(peer: number, now: Instant): void {
    this.now = now;
    if (!this.peers.delete(peer)) return;
    for (const block of this.blocks.values()) block.left(peer, now);
    for (const one of this.operated.values()) one.left(peer);
    for (const one of this.groups.values()) one.left(peer);
    this.sets.went(peer);
  }

  receive(peer: number, octets: Uint8Array, now: Instant): void {
    this.now = now;
    this.peers.get(peer)?.server.receive(octets, now);
    this.touch(now);
  }

  take(): ModelEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  private collect(peer: number): void {
    const one = this.peers.get(peer);
    if (one === undefined) return;
    for (const effect of one.server.take()) {
      switch (effect.type) {
        case 'send':
          this.effects.push({ ...effect, peer });
          break;
        case 'asked':
          this.admit(peer, one.server, effect.caller);
          break;
        case 'request':
          this.effects.push({ type: 'asked', peer, service: effect.service });
          break;
        case 'told':
          this.effects.push({ type: 'odd', peer, words: 'a report to us, who ask for none' });
          break;
        case 'odd':
          this.effects.push({ type: 'odd', peer, words: effect.words });
          break;
        case 'closed':
          this.effects.push({ type: 'close', peer });
          break;
        case 'open':
        case 'guest':
          break;
        default:
          effect satisfies never;
      }
    }
  }

  private admit(peer: number, server: MmsServer, caller: Caller): void {
    const { password, agreement } = this.settings;
    const refusal =
      password !== null && caller.password !== password
        ? {
            diagnostic: WRONG_PASSWORD,
            words: caller.password === null ? 'without the password' : 'with a wrong password',
          }
        : (this.owner.admits?.(caller) ?? null);
    if (refusal !== null) {
      this.effects.push({ type: 'refused', peer, words: `an association was refused: ${refusal.words}` });
      server.refuse(refusal.diagnostic, refusal.words);
    } else {
      server.accept(agreedOn(caller.agreement, agreement));
      this.effects.push({ type: 'open', peer, caller });
    }
    this.collect(peer);
  }

  private sendReport(peer: number, report: Report, set: string): void {
    const server = this.peers.get(peer)?.server;
    if (server === undefined) return;
    const { members } = report;
    const rpt = { list: { scope: 'vmd' as const, item: 'RPT' } };
    if (!server.report(rpt, encodeReport(report))) {
      const parts = segmentsOf(members, (some) => server.fits(rpt, encodeReport(segment(report, 0, true, some))));
      parts.forEach((some, number) =>
        server.report(rpt, encodeReport(segment(report, number, number < parts.length - 1, some))),
      );
    }
    const references = members.flatMap(({ place }) => this.sets.members(set)?.[place] ?? []);
    this.effects.push({ type: 'reported', peer, block: report.id, references });
  }

  // ---- what MMS asks for

  private objectsFor(peer: number): MmsObjects {
    return {
      identity: this.owner.identity,
      names: (of, domain) => this.names(peer, of, domain),
      typeOf: (name) => (name.scope === 'domain' ? (this.tree.at(name.domain, name.item)?.of ?? null) : null),
      read: (variable) => this.read(variable, peer),
      readLater: (variable, done) => this.readLater(variable, peer, done),
      write: (variable, value, done) => this.write(variable, value, peer, done),
      list: (name) => this.sets.list(name, peer),
      defineList: (name, variables) => {
        const hasDevice = name.scope === 'domain' && this.tree.names(name.domain) !== null;
        return this.sets.define(name, variables, peer, hasDevice);
      },
      deleteList: (name) =>
        this.sets.delete(name, peer, (set) => [...this.blocks.values()].some(({ ofDataSet }) => ofDataSet === set)),
      journal: (name) => {
        if (name.scope !== 'domain') return null;
        const log = [...this.logs.values()].find(({ plan }) => plan.device === name.domain && plan.log === name.item);
        return log?.entries ?? null;
      },
      ...(this.owner.files ? { files: this.owner.files } : {}),
    };
  }

  private names(peer: number, of: ObjectClass, domain: string | null): readonly string[] | null {
    if (of === 'domain') return domain === null ? this.tree.deviceNames : null;
    if (domain === null) return of === 'variableList' ? this.sets.ofAssociation(peer) : [];
    const names = this.tree.names(domain);
    if (names === null || of === 'variable') return names;
    if (of === 'journal')
      return [...this.logs.values()].filter(({ plan }) => plan.device === domain).map(({ plan }) => plan.log);
    return of === 'variableList' ? this.sets.ofDevice(domain) : [];
  }

  private read(variable: Variable, peer: number): AccessResult {
    const { name } = variable;
    if (name.scope !== 'domain') return UNKNOWN;
    const [, fc, block, attribute] = name.item.split('$');
    if ((fc === 'BR' || fc === 'RP') && block !== undefined) {
      const control = this.blocks.get(`${name.domain}/${name.item.split('$').slice(0, 3).join('$')}`);
      if (control !== undefined) return attribute === undefined ? control.value : (control.read(attribute) ?? UNKNOWN);
    }
    if (fc === 'LG' && block !== undefined) {
      const log = this.logs.get(`${name.domain}/${name.item.split('$').slice(0, 3).join('$')}`);
      if (log !== undefined) return attribute === undefined ? log.value : (log.read(attribute) ?? UNKNOWN);
    }
    // What is being edited is seen by nobody else, and nothing is there while nobody edits.
    if (fc === 'SE' && this.groups.get(name.domain)?.mayRead(peer) === false)
      return { type: 'failure', code: AccessError.temporarilyUnavailable };
    const reference = referenceOfVariable(variable);
    if (reference !== null) this.effects.push({ type: 'read', peer, references: [reference] });
    const read = this.tree.read(variable);
    return fc === 'BR' || fc === 'RP' || fc === undefined ? this.withBlocks(read, name.domain, name.item) : read;
  }

  /** A whole node, or all blocks of one: as they are now. */
  private withBlocks(read: AccessResult, domain: string, item: string): AccessResult {
    const cell = this.tree.at(domain, item);
    if (read.type !== 'structure' || cell?.parts == null) return read;
    const items = [...cell.parts.keys()].map((part, at): Data => {
      const name = `${item}$${part}`;
      const control = this.blocks.get(`${domain}/${name}`);
      if (control !== undefined) return control.value;
      const inside = read.items[at];
      const isOfBlocks = name.split('$').length === 2 && (part === 'BR' || part === 'RP');
      const again = isOfBlocks ? this.withBlocks(inside, domain, name) : inside;
      return again.type === 'failure' ? inside : again;
    });
    return { type: 'structure', items };
  }

  /** The read of SBO selects: whether it may be is asked of the owner. */
  private readLater({ name }: Variable, peer: number, done: (result: AccessResult) => void): boolean {
    if (name.scope !== 'domain' || !name.item.endsWith('$SBO')) return false;
    const operated = this.operated.get(`${name.domain}/${name.item.slice(0, -'$SBO'.length)}`);
    if (operated === undefined) return false;
    operated.select(peer, this.now, (text) => {
      done({ type: 'text', text, wide: false });
      this.collect(peer);
    });
    return true;
  }

  private write(variable: Variable, value: Data, peer: number, done: (error: number | null) => void): void {
    const { name } = variable;
    if (name.scope !== 'domain') return done(AccessError.nonExistent);
    const parts = name.item.split('$');
    const [, fc] = parts;
    const finish = (error: number | null): void => {
      done(error);
      this.collect(peer);
    };
    if (fc === 'BR' || fc === 'RP') {
      const control = this.blocks.get(`${name.domain}/${parts.slice(0, 3).join('$')}`);
      if (control === undefined || parts.length !== 4) return done(AccessError.nonExistent);
      return done(control.write(parts[3], value, peer, this.peers.get(peer)?.name ?? '', this.now));
    }
    if (fc === 'LG') {
      const log = this.logs.get(`${name.domain}/${parts.slice(0, 3).join('$')}`);
      return done(log === undefined || parts.length !== 4 ? AccessError.nonExistent : log.write(parts[3], value));
    }
    if (fc === 'CO') {
      const operated = this.operated.get(`${name.domain}/${parts.slice(0, -1).join('$')}`);
      if (operated === undefined) return done(AccessError.nonExistent);
      return operated.write(parts.at(-1) ?? '', value, peer, this.now, finish);
    }
    const reference = referenceOfVariable(variable);
    const cell = reference && this.tree.atReference(reference);
    if (reference === null || cell === null) return done(AccessError.nonExistent);
    const groups = this.groups.get(name.domain);
    const isOfGroups = fc === 'SE' || (fc === 'SP' && reference.path[0] === 'SGCB');
    const isOverride = fc === 'SV' || fc === 'BL';
    if (isOfGroups && groups === undefined) return done(AccessError.denied);
    if ((isOfGroups || isOverride) && !this.owner.mayOperate(peer)) {
      this.effects.push({
        type: 'odd',
        peer,
        words: `${printReference(reference)} was written by who may not operate`,
      });
      return done(AccessError.denied);
    }
    if (isOverride && !fits(cell, value)) return done(AccessError.typeInconsistent);
    if (isOfGroups || isOverride) {
      const error = isOverride ? this.override(reference, value) : this.writeGroup(reference, value, peer);
      if (error === null) this.noteChange(reference, value, peer);
      return finish(error);
    }
    if (!fits(cell, value)) return done(AccessError.typeInconsistent);
    if (fc !== 'SP') return done(AccessError.denied);
    this.owner.write(reference, value, peer, (error) => {
      if (error === null) this.tree.set(reference, value);
      finish(error);
    });
  }

  private writeGroup(reference: Reference, value: Data, peer: number): number | null {
    const groups = this.groups.get(reference.device);
    if (groups === undefined) return AccessError.denied;
    if (reference.fc === 'SE') return groups.edit(reference, value, peer, this.now);
    return reference.path.length === 2 ? groups.write(reference.path[1], value, peer, this.now) : AccessError.denied;
  }

  private noteChange(reference: Reference, value: Data, peer: number): void {
    const words = `${printReference(reference)} set to ${dataWords(value)}`;
    this.effects.push({ type: 'changed', peer, words: `${words} by ${this.peers.get(peer)?.name ?? 'a client'}` });
  }

  /** All values that clients have replaced or hold follow the process again; returns how many. */
  release(now: Instant): number {
    this.now = now;
    let count = 0;
    for (const [key, own] of this.overridden) {
      if (!own.isHeld) continue;
      count++;
      const shown = this.overriddenAt.get(key);
      if (shown === undefined) continue;
      for (const [fc, name] of [
        ['SV', 'subEna'],
        ['BL', 'blkEna'],
      ] as const) {
        const reference = { ...shown, fc, path: [...shown.path, name] };
        if (this.tree.atReference(reference) !== null) this.override(reference, { type: 'boolean', value: false });
      }
    }
    this.touch(now);
    return count;
  }

  /** A value is replaced or held, or let go. */
  private override(reference: Reference, data: Data): number | null {
    const [object, attribute] = reference.path;
    if (reference.path.length !== 2) return AccessError.denied;
    const fc = (['ST', 'MX'] as const).find((one) => this.tree.atReference({ ...reference, fc: one, path: [object] }));
    if (fc === undefined) return AccessError.denied;
    const shown = { ...reference, fc, path: [object] };
    const key = objectKey(shown);
    const own = this.overridden.get(key) ?? new Overridden();
    this.overridden.set(key, own);
    this.overriddenAt.set(key, shown);
    const outcome = own.write(
      attribute,
      data,
      (of, ...path) => {
        const cell = this.tree.atReference({ ...shown, fc: of === 'SV' ? 'SV' : fc, path: [object, ...path] });
        return cell === null ? null : valueOf(cell);
      },
      { type: 'utcTime', octets: encodeStamp({ time: this.now, ...CLOCK }) },
    );
    if ('error' in outcome) return outcome.error;
    this.tree.set(reference, data);
    this.put(shown, outcome.shown, {}, this.now);
    return null;
  }
}

const CLOCK = { leapSecondsKnown: true, clockFailure: false, notSynchronised: false, accuracyBits: 10 };
const REASON = { dataChange: 'data change', qualityChange: 'quality change' } as const;

/** The control block of setting groups stands among the settings of LLN0. */
function withGroups(components: { name: string; of: TypeOf }[]): void {
  const at = components.findIndex(({ name }) => name === 'SP');
  const own = { name: 'SGCB', of: GROUP_BLOCK };
  const there = at < 0 ? null : components[at].of;
  if (there?.type === 'structure')
    components[at] = { name: 'SP', of: { ...there, components: [...there.components, own] } };
  else components.push({ name: 'SP', of: { type: 'structure', components: [own] } });
}

const NO_VALUE: Data = { type: 'boolean', value: false };
const LAST_ERROR = { name: { scope: 'vmd' as const, item: 'LastApplError' } };

const splitName = (name: string): { domain: string; item: string } => {
  const slash = name.indexOf('/');
  return { domain: name.slice(0, slash), item: name.slice(slash + 1) };
};
const isWithin = (path: readonly string[], outer: readonly string[]): boolean =>
  outer.length <= path.length && outer.every((part, at) => part === path[at]);
/** What clients have to know anew when it is another. */
const shapeOf = ({ devices, dataSets, blocks, operated, groups, logs }: ModelPlan): string =>
  JSON.stringify([devices, dataSets, blocks, operated, groups, logs]);

/** FNV-1a of 32 bits, without its sign. */
function hashOf(text: string): number {
  let hash = 0x811c_9dc5;
  for (let at = 0; at < text.length; at++) hash = Math.imul(hash ^ text.charCodeAt(at), 0x0100_0193);
  return hash >>> 1;
}

const sameBlock = (a: BlockSettings, b: BlockSettings): boolean => JSON.stringify(a) === JSON.stringify(b);

const segment = (report: Report, number: number, more: boolean, members: Report['members']): Report => ({
  ...{ ...report, members, segment: { number, more } },
});

/** Members in as few pieces as fit, each as large as it may be. */
function segmentsOf(members: Report['members'], fits: (some: Report['members']) => boolean): Report['members'][] {
  const halves = (some: Report['members']): Report['members'][] => {
    if (some.length <= 1 || fits(some)) return [some];
    const middle = some.length >> 1;
    return [...halves(some.slice(0, middle)), ...halves(some.slice(middle))];
  };
  return halves(members);
}

function copyValues(from: Tree, to: Tree, device: string, node: string, of: TypeOf): void {
  const walk = (item: string, type: TypeOf): void => {
    if (type.type === 'structure') {
      for (const part of type.components) walk(`${item}$${part.name}`, part.of);
      return;
    }
    const [before, now] = [from.at(device, item), to.at(device, item)];
    if (before !== null && now !== null && before.data.type === now.data.type && type.type !== 'array')
      now.data = before.data;
  };
  walk(node, of);
}
