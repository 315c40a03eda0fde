import { concat } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { AssociationSettings, Caller } from '../../mms/association.ts';
import { MmsServer, type MmsFiles, type MmsObjects } from '../../mms/server.ts';
import { AccessError, encodedOnce, type AccessResult, type Data, type TypeOf } from '../../mms/wire/data.ts';
import type { Agreement, ServiceError } from '../../mms/wire/pdu.ts';
import type { ObjectClass, ObjectName, Variable } from '../../mms/wire/services.ts';
import { applicationErrorData, type ControlModel } from '../control.ts';
import { referenceOfVariable } from '../model/discovery.ts';
import { typeIn } from '../model/model.ts';
import { toMms, type Reference } from '../model/reference.ts';
import { encodeReport, type Report } from '../report.ts';
import { Operated, type ControlPhase, type Wish } from './operated.ts';
import { blockRecords, restored } from './kept.ts';
import { blockType, ReportControl, type BlockSettings } from './reportcontrol.ts';
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
  /** `name`: of MMS, `LLN0$status`. */
  dataSets: readonly { device: string; name: string; members: readonly Reference[] }[];
  blocks: readonly BlockSettings[];
  /** Data objects that may be operated. */
  operated: readonly { object: Reference; model: ControlModel }[];
  values: readonly (readonly [Reference, Data])[];
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
  | { type: 'odd'; peer: number; words: string }
  /** To be remembered for a restart. */
  | { type: 'keep'; octets: Uint8Array };

export interface ControlAsked {
  object: Reference;
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
  /** Null: may be associated; otherwise why not, with the diagnostic of association control. */
  admits?: (caller: Caller) => { diagnostic: number; words: string } | null;
  identity: { vendor: string; model: string; revision: string };
  files?: MmsFiles;
}

interface Peer {
  server: MmsServer;
  name: string;
  /** Data sets that it has made for itself. */
  lists: Map<string, readonly Variable[]>;
}

const MOST_LISTS = 100;
const MOST_MEMBERS = 1000;
/** Of a wrong password (ISO 8650-1: authentication failure). */
const WRONG_PASSWORD = 13;

export class ModelServer {
  private tree: Tree;
  private blocks = new Map<string, ReportControl>();
  /** Data sets by their names in MMS, `HLM/LLN0$status`. */
  private sets = new Map<string, { members: readonly Reference[]; deletable: boolean }>();
  private operated = new Map<string, Operated>();
  /** Which members of which data sets lie in a data object. */
  private index = new Map<string, { set: string; place: number }[]>();
  private readonly peers = new Map<number, Peer>();
  private effects: ModelEffect[] = [];
  private now: Instant = 0;
  /** Changes so far. */
  private changes = 0;
  private shape = '';

  constructor(
    plan: ModelPlan,
    private readonly settings: AssociationSettings & { selectMs: number },
    private readonly owner: ModelOwner,
    now: Instant,
  ) {
    this.now = now;
    this.tree = this.treeOf(plan);
    this.build(plan, now);
  }

  // ---- the model

  private treeOf({ devices, blocks, values }: ModelPlan): Tree {
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
        return { name, of: { type: 'structure' as const, components } };
      }),
    }));
    const tree = new Tree(withBlocks);
    for (const [reference, data] of values) tree.set(reference, data);
    return tree;
  }

  private build(plan: ModelPlan, now: Instant): void {
    this.shape = shapeOf(plan);
    this.sets = new Map(
      plan.dataSets.map(({ device, name, members }) => [`${device}/${name}`, { members, deletable: false }]),
    );
    this.reindex();
    const before = this.blocks;
    this.blocks = new Map();
    for (const settings of plan.blocks) {
      const key = `${settings.device}/${settings.item}`;
      const known = before.get(key);
      if (known !== undefined && sameBlock(known.settings, settings)) this.blocks.set(key, known);
      else {
        const made = new ReportControl(settings, this.blockContext());
        this.blocks.set(key, made);
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
      ask: (peer, phase, wish, answer) => this.owner.control({ object, phase, wish, peer, answer }),
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

  private blockContext(): ConstructorParameters<typeof ReportControl>[1] {
    const member = (set: string, place: number): Reference | undefined => this.sets.get(set)?.members[place];
    return {
      sizeOf: (set) => this.sets.get(set)?.members.length ?? null,
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
      send: (peer, report) => this.sendReport(peer, report),
      keep: (octets) => this.effects.push({ type: 'keep', octets }),
    };
  }

  private memberValue(reference: Reference): Data {
    const cell = this.tree.atReference(reference);
    return cell === null ? NO_VALUE : valueOf(cell);
  }

  private reindex(): void {
    this.index = new Map();
    for (const [set, { members }] of this.sets)
      members.forEach((reference, place) => {
        const key = objectKey(reference);
        const there = this.index.get(key);
        if (there) there.push({ set, place });
        else this.index.set(key, [{ set, place }]);
      });
  }

  /**
   * Another model: what stays keeps its values, its blocks and what waits in them. Clients know what a model has from when
   * they began: where that changes their associations are ended, so that they look again.
   */
  adopt(plan: ModelPlan, now: Instant): void {
    const before = this.tree;
    const hasChanged = shapeOf(plan) !== this.shape;
    this.tree = this.treeOf(plan);
    for (const { name: device, nodes } of plan.devices)
      for (const { name, of } of nodes) copyValues(before, this.tree, device, name, of);
    for (const [reference, data] of plan.values) this.tree.set(reference, data);
    this.build(plan, now);
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
  set(
    object: Reference,
    parts: readonly { path: readonly string[]; data: Data; trigger: 'dataChange' | 'qualityChange' | null }[],
    { always = false, quiet = false }: { always?: boolean; quiet?: boolean },
    now: Instant,
  ): void {
    this.now = now;
    const changed: { path: readonly string[]; trigger: 'dataChange' | 'qualityChange' }[] = [];
    for (const { path, data, trigger } of parts) {
      const did = this.tree.set({ ...object, path: [...object.path, ...path] }, data);
      if (trigger !== null && (did || (always && trigger === 'dataChange'))) changed.push({ path, trigger });
    }
    if (quiet || changed.length === 0) return;
    this.changes++;
    for (const { set, place } of this.index.get(objectKey(object)) ?? []) {
      const member = this.sets.get(set)?.members[place];
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
    for (const { server } of this.peers.values()) earliest = Math.min(earliest, server.deadline ?? Infinity);
    return earliest === Infinity ? null : earliest;
  }

  wake(now: Instant): void {
    this.now = now;
    for (const one of this.operated.values()) one.wake(now);
    for (const { server } of this.peers.values()) server.wake(now);
    this.touch(now);
  }

  get waiting(): number {
    let waiting = 0;
    for (const block of this.blocks.values()) waiting += block.waiting;
    return waiting;
  }

  /** All that a later session has to know, in one piece. */
  get kept(): Uint8Array {
    const pieces: Uint8Array[] = [];
    for (const [name, block] of this.blocks) {
      const kept = block.kept;
      if (kept !== null) pieces.push(blockRecords(name, kept));
    }
    return concat(pieces);
  }

  /** What an earlier session had kept; of blocks that are others now nothing is. */
  restore(pieces: readonly Uint8Array[]): void {
    for (const [name, kept] of restored(pieces)) this.blocks.get(name)?.restore(kept);
  }

  // ---- clients

  came(peer: number, name: string, now: Instant): void {
    this.now = now;
    const server = new MmsServer(this.settings, this.objectsFor(peer));
    this.peers.set(peer, { server, name, lists: new Map() });
    server.start(now);
    this.collect(peer);
  }

  went(peer: number, now: Instant): void {
    this.now = now;
    if (!this.peers.delete(peer)) return;
    for (const block of this.blocks.values()) block.left(peer, now);
    for (const one of this.operated.values()) one.left(peer);
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
        case 'odd':
          this.effects.push({ type: 'odd', peer, words: effect.words });
          break;
        case 'closed':
          this.effects.push({ type: 'close', peer });
          break;
        case 'open':
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

  private sendReport(peer: number, report: Report): void {
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
    const set = report.dataSet ?? this.blockSet(report.id);
    const references = members.flatMap(({ place }) => this.sets.get(set)?.members[place] ?? []);
    this.effects.push({ type: 'reported', peer, block: report.id, references });
  }

  private blockSet(id: string): string {
    for (const block of this.blocks.values()) {
      const read = block.read('RptID');
      if (read?.type === 'text' && read.text === id) return block.ofDataSet;
    }
    return '';
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
      list: (name) => this.list(name, peer),
      defineList: (name, variables) => this.defineList(name, variables, peer),
      deleteList: (name) => this.deleteList(name, peer),
      ...(this.owner.files ? { files: this.owner.files } : {}),
    };
  }

  private names(peer: number, of: ObjectClass, domain: string | null): readonly string[] | null {
    if (of === 'domain') return domain === null ? this.tree.deviceNames : null;
    if (domain === null) return of === 'variableList' ? [...(this.peers.get(peer)?.lists.keys() ?? [])].sort() : [];
    const names = this.tree.names(domain);
    if (names === null || of === 'variable') return names;
    if (of !== 'variableList') return [];
    const prefix = `${domain}/`;
    return [...this.sets.keys()]
      .filter((name) => name.startsWith(prefix))
      .map((name) => name.slice(prefix.length))
      .sort();
  }

  private read(variable: Variable, peer: number): AccessResult {
    const { name } = variable;
    if (name.scope !== 'domain') return { type: 'failure', code: AccessError.nonExistent };
    const [, fc, block, attribute] = name.item.split('$');
    if ((fc === 'BR' || fc === 'RP') && block !== undefined) {
      const control = this.blocks.get(`${name.domain}/${name.item.split('$').slice(0, 3).join('$')}`);
      if (control !== undefined)
        return attribute === undefined
          ? control.value
          : (control.read(attribute) ?? { type: 'failure', code: AccessError.nonExistent });
    }
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
    if (fc === 'CO') {
      const operated = this.operated.get(`${name.domain}/${parts.slice(0, -1).join('$')}`);
      if (operated === undefined) return done(AccessError.nonExistent);
      return operated.write(parts.at(-1) ?? '', value, peer, this.now, finish);
    }
    const reference = referenceOfVariable(variable);
    const cell = reference && this.tree.atReference(reference);
    if (reference === null || cell === null) return done(AccessError.nonExistent);
    if (fc !== 'SP') return done(AccessError.denied);
    this.owner.write(reference, value, peer, (error) => {
      if (error === null) this.tree.set(reference, value);
      finish(error);
    });
  }

  // ---- data sets

  private list(name: ObjectName, peer: number): { variables: readonly Variable[]; deletable: boolean } | null {
    if (name.scope === 'association') {
      const own = this.peers.get(peer)?.lists.get(name.item);
      return own === undefined ? null : { variables: own, deletable: true };
    }
    const set = name.scope === 'domain' ? this.sets.get(`${name.domain}/${name.item}`) : undefined;
    if (set === undefined) return null;
    return {
      variables: set.members.map((one) => ({ name: { scope: 'domain', ...domainOf(one) } })),
      deletable: set.deletable,
    };
  }

  private defineList(name: ObjectName, variables: readonly Variable[], peer: number): ServiceError | null {
    const refused = (of: number, code: number, words: string): ServiceError => ({ class: of, code, words });
    if (variables.length === 0 || variables.length > MOST_MEMBERS)
      return refused(8, 0, `a data set has 1 to ${MOST_MEMBERS} members, this has ${variables.length}`);
    const members = variables.map(referenceOfVariable);
    if (members.some((one) => one === null || this.tree.atReference(one) === null)) return refused(7, 2, '');
    if (this.list(name, peer) !== null) return refused(8, 4, 'there is one of that name');
    if (name.scope === 'association') {
      const lists = this.peers.get(peer)?.lists;
      if (lists === undefined || lists.size >= MOST_LISTS)
        return refused(3, 0, `${MOST_LISTS} data sets are made already`);
      lists.set(name.item, variables);
      return null;
    }
    if (name.scope !== 'domain' || this.tree.names(name.domain) === null) return refused(7, 2, '');
    if ([...this.sets.values()].filter(({ deletable }) => deletable).length >= MOST_LISTS)
      return refused(3, 0, `${MOST_LISTS} data sets are made already`);
    this.sets.set(`${name.domain}/${name.item}`, { members: members.flatMap((one) => one ?? []), deletable: true });
    this.reindex();
    return null;
  }

  private deleteList(name: ObjectName, peer: number): boolean {
    if (name.scope === 'association') return this.peers.get(peer)?.lists.delete(name.item) ?? false;
    if (name.scope !== 'domain') return false;
    const key = `${name.domain}/${name.item}`;
    const isUsed = [...this.blocks.values()].some(({ ofDataSet }) => ofDataSet === key);
    if (!this.sets.get(key)?.deletable || isUsed) return false;
    this.sets.delete(key);
    this.reindex();
    return true;
  }
}

const NO_VALUE: Data = { type: 'boolean', value: false };
const LAST_ERROR = { name: { scope: 'vmd' as const, item: 'LastApplError' } };

const splitName = (name: string): { domain: string; item: string } => {
  const slash = name.indexOf('/');
  return { domain: name.slice(0, slash), item: name.slice(slash + 1) };
};
const domainOf = (reference: Reference): { domain: string; item: string } => {
  const { domain, item } = toMms(reference);
  return { domain, item };
};
const objectKey = ({ device, node, fc, path }: Reference): string => `${device}/${node} ${fc} ${path[0] ?? ''}`;
const isWithin = (path: readonly string[], outer: readonly string[]): boolean =>
  outer.length <= path.length && outer.every((part, at) => part === path[at]);
/** What clients have to know anew when it is another. */
const shapeOf = ({ devices, dataSets, blocks, operated }: ModelPlan): string =>
  JSON.stringify([devices, dataSets, blocks, operated]);

const sameBlock = (a: BlockSettings, b: BlockSettings): boolean => JSON.stringify(a) === JSON.stringify(b);

/** What both ends can have. */
export const agreedOn = (theirs: Agreement, ours: Agreement): Agreement => ({
  size: Math.min(theirs.size ?? Infinity, ours.size ?? 65_000),
  calling: Math.min(theirs.calling, ours.calling),
  called: Math.min(theirs.called, ours.called),
  nesting: Math.min(theirs.nesting ?? Infinity, ours.nesting ?? 10),
  parameters: theirs.parameters.filter((one) => ours.parameters.includes(one)),
  services: ours.services,
});

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
