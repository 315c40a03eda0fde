import { sameBytes } from '../../bytes/index.ts';
import type { Instant } from '../../session/index.ts';
import { Association, type AssociationSettings, type Caller } from './association.ts';
import type { Keeping } from './messagelog.ts';
import { isForClient, type Speaking } from './within.ts';
import type { AccessResult, Data, TypeOf } from './wire/data.ts';
import { encodePdu, type Negotiated, type ConfirmedResponse, type Pdu, type ServiceError } from './wire/pdu.ts';
import type { FileAttributes, ObjectClass, ServiceName, Services, Variable, Variables } from './wire/services.ts';
import type { JournalEntry, JournalRange } from './wire/journals.ts';
import type { ObjectName } from './wire/names.ts';

/*
 * The answering end of MMS over one association, for whatever objects its owner has.
 *
 * Rules:
 *  1. Requests are answered in the order in which the owner is done with them; no more are under way than were agreed on.
 *  2. What does not fit the size that was agreed on is answered in parts where the service has parts (names, octets of a
 *     file), and with an error otherwise.
 *  3. What is not known is rejected or answered with its error; nothing that comes ends the association but what its
 *     layers cannot read.
 */

/** What a server has to give; names are those of its own objects. */
export interface MmsObjects {
  identity: { vendor: string; model: string; revision: string };
  /** Names of a class in a domain (null: of the whole device), sorted as they are to be given; null: no such domain. */
  names(of: ObjectClass, domain: string | null): readonly string[] | null;
  typeOf(name: ObjectName): TypeOf | null;
  read(variable: Variable): AccessResult;
  /** Takes a variable whose value is not there at once; false: it is, and is to be read. */
  readLater?(variable: Variable, done: (result: AccessResult) => void): boolean;
  /** Done at once or later, with the error; null: written. */
  write(variable: Variable, value: Data, done: (error: number | null) => void): void;
  /** Variables of a list that has a name; null: there is none. */
  list(name: ObjectName): { variables: readonly Variable[]; deletable: boolean } | null;
  /** Makes a list; null: done. */
  defineList(name: ObjectName, variables: readonly Variable[]): ServiceError | null;
  /** Whether it is gone. */
  deleteList(name: ObjectName): boolean;
  files?: MmsFiles;
  /** Entries of a journal, the oldest first; null: there is none. Absent: there are no journals. */
  journal?(name: ObjectName): readonly JournalEntry[] | null;
}

export interface MmsFiles {
  /** Files whose names begin so, in the order of their names; null: no such directory. */
  directory(name: string): readonly { name: string; attributes: FileAttributes }[] | null;
  content(name: string): { octets: Uint8Array; attributes: FileAttributes } | null;
  /** Null: it is gone. */
  delete(name: string): ServiceError | null;
}

export type MmsServerEffect =
  | { type: 'send'; octets: Uint8Array }
  | { type: 'asked'; caller: Caller }
  | { type: 'open'; agreement: Negotiated }
  /** What was asked, for those who look on. */
  | { type: 'request'; service: ServiceName; octets: Uint8Array }
  /** Somebody tells us something unasked. */
  | { type: 'told'; variables: Variables; results: readonly AccessResult[]; octets: Uint8Array }
  /** A message that is for a guest. */
  | { type: 'guest'; octets: Uint8Array }
  | { type: 'odd'; words: string }
  | { type: 'closed'; words: string; byUs: boolean };

type Outcome<Name extends ServiceName> = Services[Name]['response'] | { failed: ServiceError };

const NO_SUCH_OBJECT: ServiceError = { class: 7, code: 2, words: '' };
const TOO_LARGE: ServiceError = { class: 4, code: 3, words: 'the answer is larger than agreed on' };
const NO_FILE: ServiceError = { class: 11, code: 7, words: '' };
const NO_HANDLES: ServiceError = { class: 3, code: 0, words: 'too many files are open' };
const MAX_OPEN_FILES = 16;
/** Octets of an answer beside what it carries. */
const OVERHEAD = 64;
/** Octets that a name takes beside its characters. */
const NAME_OVERHEAD = 4;
const DEFAULT_SIZE = 65_000;

export class MmsServer {
  /** Keeps the last messages for those who look; null: nobody does. */
  log: Keeping | null = null;
  private now: Instant = 0;
  /** Whether there is a guest, who takes what is not for a server. */
  hasGuest = false;
  private effects: MmsServerEffect[] = [];
  private agreement: Negotiated | null = null;
  /** Requests that the owner is not done with. */
  private readonly underWay = new Set<number>();
  private readonly open = new Map<number, { octets: Uint8Array; at: number }>();
  private handles = 0;

  constructor(
    settings: AssociationSettings,
    private readonly objects: MmsObjects,
    private readonly association: Speaking = new Association(settings, 'called'),
  ) {}

  get isOpen(): boolean {
    return this.association.state === 'open';
  }

  get deadline(): Instant | null {
    return this.association.deadline;
  }

  start(now: Instant): void {
    this.now = now;
    this.association.start(now);
    this.collect();
  }
  receive(bytes: Uint8Array, now: Instant): void {
    this.now = now;
    this.association.receive(bytes, now);
    this.collect();
  }
  wake(now: Instant): void {
    this.now = now;
    this.association.wake(now);
    this.collect();
  }
  accept(agreement: Negotiated): void {
    this.association.accept(agreement);
    this.collect();
  }
  refuse(diagnostic: number, words: string): void {
    this.association.refuse(diagnostic, words);
    this.collect();
  }
  abort(words: string): void {
    this.association.abort(words);
    this.collect();
  }

  /** Tells without being asked. Returns whether it fits what was agreed on. */
  report(variables: Variables, results: readonly AccessResult[], now = this.now): boolean {
    const octets = encodePdu({ type: 'report', variables, results });
    if (octets.length > this.size) return false;
    this.now = now;
    this.say(octets);
    this.collect();
    return true;
  }

  private say(octets: Uint8Array): void {
    this.log?.add(true, octets, this.now);
    this.association.sendEncoded(octets);
  }

  /** Whether a report would fit what was agreed on. */
  fits(variables: Variables, results: readonly AccessResult[]): boolean {
    return encodePdu({ type: 'report', variables, results }).length <= this.size;
  }

  /** Requests of ours that may be under way. */
  get parallel(): number {
    return Math.max(1, this.agreement?.calling ?? 1);
  }

  /** Octets of a message at most. */
  get size(): number {
    return this.agreement?.size ?? DEFAULT_SIZE;
  }

  /** Sends a message of whoever is a guest here. */
  pass(octets: Uint8Array): void {
    if (!this.isOpen) return;
    this.say(octets);
    this.collect();
  }

  take(): MmsServerEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  private collect(): void {
    for (const effect of this.association.take()) {
      switch (effect.type) {
        case 'pdu':
          this.onPdu(effect.pdu, effect.octets);
          break;
        case 'malformed':
          // Of what is not well-formed it is not even known whether it asks (ISO 9506-2, 7.4.4: invalid PDU).
          this.association.send({ type: 'reject', invoke: null, kind: 5, code: 1 });
          this.effects.push({ type: 'odd', words: effect.words });
          break;
        case 'open':
          this.agreement = effect.agreement;
          this.effects.push(effect);
          break;
        case 'closed':
          this.open.clear();
          this.underWay.clear();
          this.effects.push(effect);
          break;
        case 'send':
        case 'asked':
          this.effects.push(effect);
          break;
        default:
          effect satisfies never;
      }
    }
  }

  private onPdu(pdu: Pdu, octets: Uint8Array): void {
    this.log?.add(false, octets, this.now);
    if (this.hasGuest && isForClient(pdu) === true) {
      this.effects.push({ type: 'guest', octets });
      return;
    }
    switch (pdu.type) {
      case 'request':
        this.effects.push({ type: 'request', service: pdu.service, octets });
        this.onRequest(pdu);
        break;
      case 'unknownRequest':
        this.association.send({ type: 'reject', invoke: pdu.invoke, kind: 1, code: 1 });
        this.effects.push({ type: 'odd', words: `a request for service ${pdu.tag}, which is not offered` });
        break;
      case 'cancel':
        // What is under way is done at once, or is a write that nobody calls back.
        this.association.send({ type: 'cancelError', invoke: pdu.invoke, error: { class: 10, code: 2, words: '' } });
        break;
      case 'report':
        this.effects.push({ type: 'told', variables: pdu.variables, results: pdu.results, octets });
        break;
      case 'reject':
        this.effects.push({ type: 'odd', words: `rejected there (${pdu.kind}.${pdu.code})` });
        break;
      default:
        this.effects.push({ type: 'odd', words: `a message ${pdu.type} that is not for a server` });
    }
    this.flush();
  }

  /** Octets that the association has for the connection. */
  private flush(): void {
    for (const effect of this.association.take()) if (effect.type === 'send') this.effects.push(effect);
  }

  private onRequest(pdu: Pdu & { type: 'request' }): void {
    const { invoke } = pdu;
    if (this.underWay.has(invoke) || this.underWay.size >= Math.max(1, this.agreement?.called ?? 1)) {
      this.association.send({ type: 'reject', invoke, kind: 1, code: this.underWay.has(invoke) ? 3 : 6 });
      return;
    }
    this.underWay.add(invoke);
    const done = <Name extends ServiceName>(service: Name, outcome: Outcome<Name>): void =>
      this.answer(invoke, service, outcome);
    switch (pdu.service) {
      case 'status':
        return done('status', { logical: 0, physical: 0 });
      case 'identify':
        return done('identify', this.objects.identity);
      case 'nameList':
        return done('nameList', this.namesFor(pdu.request));
      case 'attributes': {
        const of = this.objects.typeOf(pdu.request.name);
        return done('attributes', of === null ? { failed: NO_SUCH_OBJECT } : { deletable: false, of });
      }
      case 'read': {
        const variables = this.variablesOf(pdu.request.variables);
        if (variables === null) return done('read', { failed: NO_SUCH_OBJECT });
        return this.read(variables, (outcome) => done('read', outcome));
      }
      case 'write':
        return this.write(pdu.request, (outcome) => done('write', outcome));
      case 'defineList': {
        const error = this.objects.defineList(pdu.request.name, pdu.request.names);
        return done('defineList', error === null ? {} : { failed: error });
      }
      case 'listAttributes': {
        const list = this.objects.list(pdu.request.name);
        const { variables: names = [], deletable = false } = list ?? {};
        return done('listAttributes', list === null ? { failed: NO_SUCH_OBJECT } : { deletable, names });
      }
      case 'deleteList': {
        const { names } = pdu.request;
        const matched = names.filter((name) => this.objects.list(name) !== null);
        const deleted = matched.filter((name) => this.objects.deleteList(name)).length;
        return done('deleteList', { matched: matched.length, deleted });
      }
      case 'fileOpen':
      case 'fileRead':
      case 'fileClose':
      case 'fileDelete':
      case 'fileDirectory':
        return this.onFile(pdu);
      case 'readJournal':
        return done('readJournal', this.entriesFor(pdu.request));
      case 'journalStatus': {
        const entries = this.objects.journal?.(pdu.request.name) ?? null;
        return done(
          'journalStatus',
          entries === null ? { failed: NO_SUCH_OBJECT } : { entries: entries.length, deletable: false },
        );
      }
      case 'initializeJournal':
        // What happened is not unmade by anybody.
        return done('initializeJournal', { failed: { class: 7, code: 3, words: '' } });
      case 'obtainFile':
        // We take no files from anybody.
        return done('obtainFile', { failed: { class: 11, code: 6, words: '' } });
      default:
        return pdu satisfies never;
    }
  }

  private answer<Name extends ServiceName>(invoke: number, service: Name, outcome: Outcome<Name>): void {
    if (!this.underWay.delete(invoke)) return;
    const failed = 'failed' in outcome ? outcome.failed : null;
    const response = { service, response: outcome } as unknown as ConfirmedResponse;
    const pdu: Pdu =
      failed === null ? { type: 'response', invoke, ...response } : { type: 'error', invoke, error: failed };
    const octets = encodePdu(pdu);
    if (octets.length <= this.size) this.say(octets);
    else this.association.send({ type: 'error', invoke, error: TOO_LARGE });
    this.flush();
  }

  private variablesOf(variables: Variables): readonly Variable[] | null {
    return variables.list === undefined ? variables.names : (this.objects.list(variables.list)?.variables ?? null);
  }

  /** As many names as fit, behind the one that was had last. */
  private namesFor({ class: of, domain, after }: Services['nameList']['request']): Outcome<'nameList'> {
    const all = this.objects.names(of, domain);
    if (all === null) return { failed: NO_SUCH_OBJECT };
    const from = after === null ? 0 : all.indexOf(after) + 1;
    if (after !== null && from === 0) return { failed: NO_SUCH_OBJECT };
    const names: string[] = [];
    let room = this.size - OVERHEAD;
    for (let at = from; at < all.length; at++) {
      room -= all[at].length + NAME_OVERHEAD;
      if (room < 0) break;
      names.push(all[at]);
    }
    return { names, more: from + names.length < all.length };
  }

  /** As many entries of a journal as fit. */
  private entriesFor({ name, from, to, after }: JournalRange): Outcome<'readJournal'> {
    const all = this.objects.journal?.(name) ?? null;
    if (all === null) return { failed: NO_SUCH_OBJECT };
    let first = 0;
    if (after !== undefined) {
      first = all.findIndex(({ id }) => sameBytes(id, after.entry)) + 1;
      // An entry that has gone out of the journal: what is behind its time.
      if (first === 0) first = firstFrom(all, (time) => compareTimes(time, after.time) > 0);
    } else if (from !== undefined)
      first =
        'time' in from
          ? firstFrom(all, (time) => compareTimes(time, from.time) >= 0)
          : all.findIndex(({ id }) => sameBytes(id, from.entry));
    if (first < 0) return { failed: NO_SUCH_OBJECT };
    const entries: JournalEntry[] = [];
    let room = this.size - OVERHEAD;
    let at = first;
    for (; at < all.length; at++) {
      if (to !== undefined && ('time' in to ? compareTimes(all[at].time, to.time) > 0 : entries.length >= to.count))
        return { entries, more: false };
      room -= sizeOfEntry(all[at]);
      if (room < 0) break;
      entries.push(all[at]);
    }
    return { entries, more: at < all.length };
  }

  private read(variables: readonly Variable[], done: (outcome: Outcome<'read'>) => void): void {
    const results: AccessResult[] = [];
    let left = 1;
    const oneDone = (): void => {
      if (--left === 0) done({ results });
    };
    variables.forEach((variable, at) => {
      left++;
      const later = this.objects.readLater?.(variable, (result) => {
        results[at] = result;
        oneDone();
      });
      if (later === true) return;
      results[at] = this.objects.read(variable);
      oneDone();
    });
    oneDone();
  }

  private write({ variables, values }: Services['write']['request'], done: (outcome: Outcome<'write'>) => void): void {
    const written = this.variablesOf(variables);
    if (written === null || written.length !== values.length)
      return done({ failed: written === null ? NO_SUCH_OBJECT : { class: 4, code: 0, words: 'not a value for each' } });
    const results = new Array<number | null>(values.length).fill(null);
    let left = values.length;
    const oneDone = (at: number, error: number | null): void => {
      results[at] = error;
      if (--left === 0) done({ results });
    };
    if (left === 0) return done({ results });
    written.forEach((variable, at) => this.objects.write(variable, values[at], (error) => oneDone(at, error)));
  }

  private onFile(pdu: Pdu & { type: 'request' }): void {
    const { invoke } = pdu;
    const { files } = this.objects;
    if (files === undefined) {
      this.underWay.delete(invoke);
      this.association.send({ type: 'reject', invoke, kind: 1, code: 1 });
      return;
    }
    switch (pdu.service) {
      case 'fileDirectory':
        return this.answer(invoke, 'fileDirectory', this.directoryFor(files, pdu.request));
      case 'fileOpen': {
        const found = files.content(pdu.request.name);
        if (found === null) return this.answer(invoke, 'fileOpen', { failed: NO_FILE });
        if (this.open.size >= MAX_OPEN_FILES) return this.answer(invoke, 'fileOpen', { failed: NO_HANDLES });
        const handle = ++this.handles;
        this.open.set(handle, { octets: found.octets, at: Math.min(pdu.request.from, found.octets.length) });
        return this.answer(invoke, 'fileOpen', { handle, attributes: found.attributes });
      }
      case 'fileRead': {
        const file = this.open.get(pdu.request.handle);
        if (file === undefined) return this.answer(invoke, 'fileRead', { failed: NO_FILE });
        const data = file.octets.subarray(file.at, file.at + this.size - OVERHEAD);
        file.at += data.length;
        return this.answer(invoke, 'fileRead', { data, more: file.at < file.octets.length });
      }
      case 'fileClose': {
        const was = this.open.delete(pdu.request.handle);
        return this.answer(invoke, 'fileClose', was ? {} : { failed: NO_FILE });
      }
      case 'fileDelete': {
        const error = files.delete(pdu.request.name);
        return this.answer(invoke, 'fileDelete', error === null ? {} : { failed: error });
      }
      default:
        return;
    }
  }

  private directoryFor(
    files: MmsFiles,
    { name, after }: Services['fileDirectory']['request'],
  ): Outcome<'fileDirectory'> {
    const all = files.directory(name);
    if (all === null) return { failed: NO_FILE };
    const from = after === '' ? 0 : all.findIndex((one) => one.name === after) + 1;
    if (after !== '' && from === 0) return { failed: NO_FILE };
    const entries: (typeof all)[number][] = [];
    let room = this.size - OVERHEAD;
    for (let at = from; at < all.length; at++) {
      room -= all[at].name.length + OVERHEAD;
      if (room < 0) break;
      entries.push(all[at]);
    }
    return { entries, more: from + entries.length < all.length };
  }
}

const firstFrom = (entries: readonly JournalEntry[], is: (time: Uint8Array) => boolean): number => {
  const at = entries.findIndex(({ time }) => is(time));
  return at < 0 ? entries.length : at;
};

/** Days first, then what is of the day (`binaryTime`). */
function compareTimes(a: Uint8Array, b: Uint8Array): number {
  const numberOf = (time: Uint8Array): number => {
    if (time.length !== 6) return 0;
    const view = new DataView(time.buffer, time.byteOffset, 6);
    return view.getUint16(4) * 2 ** 32 + view.getUint32(0);
  };
  return numberOf(a) - numberOf(b);
}

const sizeOfEntry = (entry: JournalEntry): number =>
  encodePdu({ type: 'response', invoke: 0, service: 'readJournal', response: { entries: [entry], more: false } })
    .length;
