import type { PointKind } from '../../point/index.ts';
import type { Instant } from '../../session/index.ts';
import type { CentreOrder, ControlOutcome } from '../control.ts';
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
} from '../server.ts';
import { dataWords } from '../mms/describe.ts';
import { AccessError, type Data, type TypeOf } from '../mms/wire/data.ts';
import { CAUSE_WORDS_OF } from './control.ts';
import { CounterSet } from './counters.ts';
import { typeIn } from './model/model.ts';
import { printPath, type Reference } from './model/reference.ts';
import { address as addressing, type IecTargetAt } from './points.ts';
import { bitsOf, bitWords } from './quality.ts';
import { placeKey, servedModel, type Place } from './scl/served.ts';
import { calledSettings } from '../mms/settings.ts';
import { type ServerSettings } from './settings.ts';
import { encodeStamp } from './time.ts';
import { madeModel, objectOf } from './server/made.ts';
import { ModelServer, type ControlAsked, type ModelPlan } from './server/modelserver.ts';
import { Cause } from './server/operated.ts';

/*
 * Our side towards IEC 61850 clients: mapped points as a model that is made of them.
 *
 * Rules:
 * 1. A value is told when it has moved by its deadband, when its quality changes, and when the device reported it as a
 *    change. `instMag` is what it is now, `mag` what was told last.
 * 2. A report has no confirmation of its own: it counts as handed over when it is sent. A client that comes back asks
 *    for what is behind the last entry that it has.
 * 3. A control for a test is not passed on: what is behind us would carry it out.
 * 4. Whoever may not operate may not switch or edit setting groups either, nor replace or hold values. What a client changes
 *    in that way is written down, and values are released by an order of somebody here.
 */

interface Held {
  point: ServerPoint<IecTargetAt>;
  address: string;
  object: Reference;
  /** From the data object to its value, and what that is there; null: the model has none. */
  place: { path: readonly string[]; of: TypeOf } | null;
  value: number;
  text: string;
  /** As it was told last. */
  quality: number;
  /** What is to be read differs from what was told, and nobody was told so. */
  isShown: boolean;
  /** What was told last. */
  told: number;
  /** Number of the change that waits to be reported; null: none does. */
  event: number | null;
}

/** The one client of a way that is there by itself. */
const ONLY = 0;

export class IecServer implements Server<IecTargetAt> {
  readonly counters: CounterSet;
  private effects: ServerEffect[] = [];
  private known = new Map<string, Held>();
  /** By where they are in the model: `HLM/GGIO1.Ind1`. */
  private byObject = new Map<string, Held[]>();
  private readonly model: ModelServer;
  /** Peers that may operate. */
  private readonly operators = new Set<number>();
  private readonly waiting = new Map<number, (outcomes: readonly ControlOutcome[]) => void>();
  private token = 0;
  private events = 0;

  constructor(
    private readonly settings: ServerSettings,
    points: readonly ServerPoint<IecTargetAt>[],
    now: Instant,
    remembered: Remembered = NOTHING_REMEMBERED,
  ) {
    this.counters = new CounterSet(now);
    const plan = this.planFor(points);
    this.model = new ModelServer(
      plan,
      { ...calledSettings(settings), selectMs: settings.selectMs },
      {
        control: (asked) => this.onControl(asked),
        mayOperate: (peer) => this.operators.has(peer),
        // What may be set is set by controls: there are no settings in what we offer.
        write: (_reference, _data, _peer, done) => done(AccessError.denied),
        identity: { vendor: 'Halvix', model: 'Telemetry gateway', revision: '1' },
      },
      now,
    );
    this.model.restore(remembered);
    this.collect();
  }

  get keep(): Uint8Array {
    return this.model.kept;
  }
  get owed(): OwedRecord[] {
    return this.model.owed;
  }

  /** The model for these points, which are found in it from now on. */
  private planFor(points: readonly ServerPoint<IecTargetAt>[]): ModelPlan {
    const served = servedModel(this.settings);
    if (served !== null && !served.ok)
      this.effects.push({ type: 'diagnostic', words: `the model is made of what is mapped: ${served.problem}` });
    const plan = served?.ok ? served.value.plan : madeModel(points, this.settings);
    this.index(points, plan, served?.ok ? served.value.places : null);
    return plan;
  }

  private index(
    points: readonly ServerPoint<IecTargetAt>[],
    plan: ModelPlan,
    places: ReadonlyMap<string, readonly Place[]> | null,
  ): void {
    const before = this.known;
    this.known = new Map();
    this.byObject = new Map();
    for (const point of points) {
      const address = addressing.print(point);
      const object = objectOf(point.at);
      const known = before.get(address);
      const fresh = { value: 0, text: '', quality: 0, isShown: false, told: NaN, event: null };
      const place = places === null ? madePlace(plan, point.at) : givenPlace(places, point.at);
      const held: Held = { ...fresh, ...known, point, address, object, place };
      this.known.set(address, held);
      const key = printPath({ ...object, path: object.path.slice(0, 1) });
      this.byObject.set(key, [...(this.byObject.get(key) ?? []), held]);
    }
  }

  get eventsWaiting(): number {
    return this.model.waiting;
  }

  get deadline(): Instant | null {
    return this.model.deadline;
  }

  start(now: Instant): void {
    this.rights(ONLY, true);
    this.came(ONLY, 'the client', now);
  }
  stop(now: Instant): void {
    this.model.went(ONLY, now);
  }
  receive(octets: Uint8Array, now: Instant): void {
    this.octets(ONLY, octets, now);
  }
  wake(now: Instant): void {
    this.model.wake(now);
    this.collect();
  }

  command(command: ServerCommand<IecTargetAt>, now: Instant): void {
    switch (command.type) {
      case 'update':
        for (const update of command.updates) this.update(update, command.manner ?? 'told', now);
        this.model.touch(now);
        break;
      case 'controlResult': {
        const answer = this.waiting.get(command.token);
        this.waiting.delete(command.token);
        answer?.(command.outcomes);
        this.model.touch(now);
        break;
      }
      case 'came':
        this.rights(command.peer, command.operates ?? true);
        this.came(command.peer, command.from ?? `client ${command.peer}`, now);
        break;
      case 'rights':
        this.rights(command.peer, command.operates);
        break;
      case 'went':
        this.operators.delete(command.peer);
        this.model.went(command.peer, now);
        break;
      case 'octets':
        this.octets(command.peer, command.octets, now);
        break;
      case 'setPoints':
        this.model.adopt(this.planFor(command.points), now);
        break;
      case 'commandGiven':
        break;
      case 'resetCounters':
        this.counters.reset(now);
        break;
      case 'owed':
        this.model.fill(command.records, command.last);
        this.model.touch(now);
        break;
      case 'toldBefore':
      case 'setSettings':
      case 'rest':
        // Whoever comes back says which entry he has.
        break;
      case 'stored':
      case 'carried':
      case 'notCarried':
      case 'again':
      case 'guest':
        // Its conversations are for itself.
        break;
      case 'order':
        if (command.order === 'releaseValues') this.releaseValues(now);
        break;
      default:
        command satisfies never;
    }
    this.collect();
  }

  private rights(peer: number, operates: boolean): void {
    if (operates) this.operators.add(peer);
    else this.operators.delete(peer);
  }

  private releaseValues(now: Instant): void {
    const count = this.model.release(now);
    const words = count === 1 ? '1 value follows its device again' : `${count} values follow their devices again`;
    this.effects.push({ type: 'ordered', order: 'releaseValues', words });
  }

  private came(peer: number, name: string, now: Instant): void {
    this.model.came(peer, name, now);
    this.collect();
  }

  private octets(peer: number, octets: Uint8Array, now: Instant): void {
    this.counters.add('octetsReceived', octets.length);
    this.effects.push({ type: 'heard' });
    this.model.receive(peer, octets, now);
    this.collect();
  }

  take(): ServerEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  private collect(): void {
    for (const effect of this.model.take()) {
      switch (effect.type) {
        case 'send':
          this.counters.add('octetsSent', effect.octets.length);
          this.effects.push(effect);
          break;
        case 'close':
          this.effects.push({ type: 'hangUp', peer: effect.peer });
          break;
        case 'open':
          this.counters.add('associations');
          break;
        case 'refused':
          this.counters.add('refusedClients');
          this.effects.push({ type: 'diagnostic', words: effect.words });
          break;
        case 'asked':
          this.counters.add('requests');
          break;
        case 'changed':
          this.effects.push({ type: 'noted', words: effect.words });
          break;
        case 'odd':
          this.counters.add('odd');
          this.effects.push({ type: 'diagnostic', words: effect.words });
          break;
        case 'read': {
          const read = effect.references.flatMap((reference) => this.under(reference));
          if (read.length > 0) this.effects.push({ type: 'read', addresses: read.map(({ address }) => address) });
          break;
        }
        case 'keep':
        case 'owes':
        case 'settled':
          this.effects.push(effect);
          break;
        case 'reported':
          this.onReported(effect.references);
          break;
        default:
          effect satisfies never;
      }
    }
  }

  /** What is offered at a place of the model, or in it. */
  private under(reference: Reference): readonly Held[] {
    const { path } = reference;
    if (path.length > 0)
      return (this.byObject.get(printPath({ ...reference, path: path.slice(0, 1) })) ?? []).filter(({ object }) =>
        // A phase of three, or all of them.
        object.path.every((part, at) => path[at] === undefined || path[at] === part),
      );
    return [...this.known.values()].filter(
      ({ object }) =>
        object.device === reference.device && object.node === reference.node && object.fc === reference.fc,
    );
  }

  private onReported(references: readonly Reference[]): void {
    this.counters.add('reports');
    this.counters.add('reportedValues', references.length);
    const told = references
      .flatMap((reference) => this.under(reference))
      .flatMap((held) => (held.event === null ? [] : [{ address: held.address, number: held.event }]));
    if (told.length === 0) return;
    this.effects.push({ type: 'reported', events: told }, { type: 'delivered', events: told });
  }

  // ---- values

  private update(update: ServerUpdate<IecTargetAt>, manner: UpdateManner, now: Instant): void {
    const address = addressing.print(update);
    const held = this.known.get(address);
    if (held === undefined) return;
    const { at, value, quality, time } = update;
    const { deadband } = held.point;
    const textChanged = update.text !== undefined && update.text !== held.text;
    const hasMoved =
      update.always === true ||
      update.moved === true ||
      textChanged ||
      Number.isNaN(held.told) ||
      (deadband === 0 ? value !== held.told : Math.abs(value - held.told) >= deadband);
    const isNew = quality !== held.quality;
    held.value = value;
    const isShown = manner === 'shown';
    const wasShown = held.isShown;
    held.isShown = isShown;
    if (!isShown) held.quality = quality;
    if (update.text !== undefined) held.text = update.text;
    // Where a status is mapped to the object, what is operated shows by that.
    const [first, ...rest] = held.object.path;
    const shown = { ...held.object, path: [first] };
    if (at.fc === 'CO' && (this.byObject.get(printPath(shown)) ?? []).some(({ point }) => point.at.fc !== 'CO')) return;
    if (hasMoved && !isShown) held.told = value;
    const tells = !isShown && (hasMoved || isNew);
    const quiet = manner !== 'told';
    if (tells && !quiet) {
      held.event = ++this.events;
      this.effects.push({ type: 'event', address, number: held.event, form: this.form(held.point) });
    }
    if (held.place === null) return;
    const data = dataOf(held.place.of, value, held.text, held.point.kind);
    const q: Data = { type: 'bits', bits: bitsOf(quality) };
    const t: Data = {
      type: 'utcTime',
      octets: encodeStamp({ time, ...STAMP_QUALITY, notSynchronised: update.unsynchronised ?? false }),
    };
    const { path } = held.place;
    const present = INSTANT[path[0]];
    this.model.set(
      shown,
      [
        ...(present === undefined ? [] : [{ path: [...rest, present, ...path.slice(1)], data, trigger: null }]),
        // What is only to be read, or was until now, replaces what is there without a word.
        ...(!tells && (isShown || wasShown)
          ? [
              { path: [...rest, ...path], data, trigger: null },
              { path: [...rest, 'q'], data: q, trigger: null },
            ]
          : []),
        ...(tells
          ? [
              { path: [...rest, 't'], data: t, trigger: null },
              { path: [...rest, ...path], data, trigger: hasMoved ? ('dataChange' as const) : null },
              { path: [...rest, 'q'], data: q, trigger: 'qualityChange' as const },
            ]
          : []),
      ],
      { always: update.always === true, quiet },
      now,
    );
  }

  form({ at }: { kind: PointKind; at: IecTargetAt }): string {
    return `${at.cdc} ${[...VALUE_PATHS[at.cdc]].join('.')}`;
  }

  said(_kind: PointKind, quality: number): string {
    return bitWords(bitsOf(quality));
  }

  held(point: { kind: PointKind; at: IecTargetAt }): { value: number; text: string } {
    const { value, text } = this.known.get(addressing.print(point)) ?? { value: 0, text: '' };
    return { value, text };
  }

  // ---- controls

  private onControl({ object, model, phase, wish, peer, answer }: ControlAsked): void {
    this.counters.add('controls');
    const held = (this.byObject.get(printPath(object)) ?? []).find(({ point }) => point.at.fc === 'CO');
    if (held === undefined) return answer(Cause['not supported']);
    // Who may not operate does not select either: it would only keep it from whoever may.
    if (!this.operators.has(peer) || held.point.mayOperate === false) return answer(Cause['no access authority']);
    if (wish.test) return answer(Cause['blocked by mode']);
    // A select without a value: whether it goes shows when it is operated.
    const wantsValue = !(phase === 'select' && model === 'selectBeforeOperate');
    if (!wantsValue) return answer(null);
    const order = orderOf(held, wish.value);
    if (order === null) return answer(Cause['inconsistent parameters']);
    const token = ++this.token;
    this.waiting.set(token, ([outcome]) => answer(outcome === undefined ? Cause.unknown : causeOf(outcome)));
    // What was only selected by name is selected at its device with the value that it is operated with.
    this.effects.push({ type: 'control', token, phase, items: [order], peer });
  }
}

const STAMP_QUALITY = { leapSecondsKnown: false, clockFailure: false, notSynchronised: false, accuracyBits: 10 };

const VALUE_PATHS: Record<IecTargetAt['cdc'], readonly string[]> = {
  SPS: ['stVal'],
  DPS: ['stVal'],
  INS: ['stVal'],
  VSS: ['stVal'],
  SPC: ['stVal'],
  DPC: ['stVal'],
  INC: ['stVal'],
  BCR: ['actVal'],
  MV: ['mag', 'f'],
  APC: ['mxVal', 'f'],
};

/** What is now, beside what was told last (IEC 61850-7-3: instMag, instCVal). */
const INSTANT: Readonly<Record<string, string | undefined>> = { mag: 'instMag', cVal: 'instCVal' };

/** Where the value of a point stands in a model that was made for it. */
function madePlace({ devices }: ModelPlan, at: IecTargetAt): Held['place'] {
  const { device, node, fc, path } = objectOf(at);
  const of = devices.find(({ name }) => name === device)?.nodes.find(({ name }) => name === node)?.of;
  const value = of && typeIn(of, { fc, path: [...path, ...VALUE_PATHS[at.cdc]] });
  return value ? { path: VALUE_PATHS[at.cdc], of: value } : null;
}

/** What is operated shows by the status or the measurand of its object. */
function givenPlace(places: ReadonlyMap<string, readonly Place[]>, at: IecTargetAt): Held['place'] {
  const seen = at.fc === 'CO' ? (['ST', 'MX'] as const) : [at.fc];
  const there = seen.flatMap((fc) => places.get(placeKey({ ...at, fc })) ?? []);
  const found = there.find(({ cdc }) => cdc === at.cdc) ?? (at.fc === 'CO' ? there[0] : undefined);
  return found === undefined ? null : { path: found.value, of: found.of };
}

/** A value as its type has it; a number that does not fit becomes the nearest that does. */
function dataOf(of: TypeOf, value: number, text: string, kind: PointKind): Data {
  switch (of.type) {
    case 'boolean':
      return { type: 'boolean', value: value !== 0 };
    case 'bits':
      // Of one bit there is on and off alone.
      return twoBits(kind === 'doubleBit' ? value : value === 0 ? OFF : ON);
    case 'integer':
    case 'unsigned': {
      if (of.bits > 53) {
        const exact = /^-?\d{16,}$/.test(text) ? BigInt.asIntN(64, BigInt(text)) : Math.round(value);
        return { type: of.type, value: exact };
      }
      const [low, high] =
        of.type === 'unsigned' ? [0, 2 ** of.bits - 1] : [-(2 ** (of.bits - 1)), 2 ** (of.bits - 1) - 1];
      return { type: of.type, value: Math.max(low, Math.min(high, Math.round(value))) };
    }
    case 'text':
    case 'wideText':
      return { type: 'text', text: text.slice(0, Math.abs(of.size)), wide: of.type === 'wideText' };
    default:
      return of.type === 'float' && of.width === 64
        ? { type: 'float', value, width: 64 }
        : { type: 'float', value: Math.fround(value), width: 32 };
  }
}
const [OFF, ON] = [1, 2];
const twoBits = (value: number): Data => ({ type: 'bits', bits: [(value & 2) !== 0, (value & 1) !== 0] });

/** What is wanted, for whoever carries it out; null: it is no value for it. */
function orderOf({ address, point: { kind } }: Held, value: Data): CentreOrder | null {
  const plain = { address, operation: null, onMs: 0, offMs: 0, count: 1 };
  if (kind === 'output') {
    if (value.type !== 'boolean') return null;
    return { ...plain, kind, on: value.value, counts: null, asked: value.value ? 'on' : 'off' };
  }
  if (kind !== 'setpoint') return null;
  const number = value.type === 'structure' ? value.items[0] : value;
  if (number?.type !== 'float' && number?.type !== 'integer' && number?.type !== 'unsigned') return null;
  const counts = Number(number.value);
  return Number.isFinite(counts) ? { ...plain, kind, counts, asked: dataWords(number) } : null;
}

/** The additional cause that says what came of a control (docs/quality.md). */
const CAUSE_OF: Record<Exclude<ControlOutcome['result'], 'done'>, number> = {
  refused: Cause['blocked by process'],
  notSupported: Cause['not supported'],
  outOfRange: Cause['inconsistent parameters'],
  notAuthorized: Cause['no access authority'],
  blocked: Cause['blocked by mode'],
  failed: Cause['aborted by loss of communication'],
};
export const causeOf = ({ result, status, protocol, refusal }: ControlOutcome): number | null => {
  if (result === 'done') return null;
  if (result !== 'refused') return CAUSE_OF[result];
  if (protocol === 'iec61850' && status !== null && status > 0) return status;
  return refusal === undefined ? CAUSE_OF.refused : Cause[CAUSE_WORDS_OF[refusal]];
};
