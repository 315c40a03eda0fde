import {
  bitsOf,
  calledSettings,
  Cause,
  encodeStamp,
  givenModel,
  ModelServer,
  parseReference,
  serverSettings,
  type ControlAsked,
  type Data,
  type Reference,
} from '@halvix/core/protocols/iec61850';
import { Quality } from '@halvix/core/point';
import { clock } from '@halvix/wire';
import type { BenchLink } from '../link.ts';
import type { Plant, Refusal } from '../plant.ts';
import type { ModelPoint } from '../scenario/iec61850.ts';
import { StandIn, type StandInSettings } from '../standin.ts';

export interface IedSettings extends StandInSettings {
  /** Its logical device. */
  device: string;
  /** The file that describes it. */
  file: string;
}

const CAUSES: Record<Refusal, number> = {
  local: Cause['blocked by switching hierarchy'],
  blocked: Cause['blocked by interlocking'],
  notSupported: Cause['not supported'],
  outOfRange: Cause['inconsistent parameters'],
};
const GOOD_TIME = { leapSecondsKnown: true, clockFailure: false, notSynchronised: false, accuracyBits: 10 };
/** The one client that its link lets in. */
const PEER = 1;

/** Speaks IEC 61850 for a plant: the model through which it is seen. */
export class IedStandIn extends StandIn<ModelPoint> {
  protected readonly protocol = 'iec61850';
  protected readonly address;
  private readonly model: ModelServer;
  private readonly shown = new Map<string, number | string>();
  /** Those that are shown as not their plant's own. */
  private readonly substituted = new Set<string>();

  constructor({ device, file, ...settings }: IedSettings, link: BenchLink, plant: Plant<ModelPoint>) {
    super(settings, link, plant);
    this.address = device;
    const given = givenModel(file, '', { bufferValues: 50_000 });
    if (!given.ok) throw new Error(given.problem);
    const { plan } = given.value;
    this.model = new ModelServer(
      { ...plan, values: [...plan.values, ...unitsOf(plant.points)] },
      { ...calledSettings(serverSettings.parse({})), selectMs: 30_000 },
      {
        control: (asked) => this.control(asked),
        mayOperate: () => true,
        write: (_reference, _data, _peer, done) => done(null),
        identity: { vendor: 'The bench', model: plant.product, revision: plant.version },
        files: {
          directory: (name) => this.directory(name),
          content: (name) => this.content(name),
          delete: (name) => this.delete(name),
        },
      },
      clock.now(),
    );
  }

  protected indexOf(point: ModelPoint): number {
    return this.plant.points.filter(({ kind }) => kind === point.kind).indexOf(point);
  }

  // ---- files

  private attributes({ content, time }: { content: Uint8Array; time: number }): { size: number; modified: string } {
    const stamp = new Date(time).toISOString().replace(/[-:T]/g, '').replace('Z', '');
    return { size: content.length, modified: `${stamp}Z` };
  }

  private directory(name: string): { name: string; attributes: { size: number; modified: string } }[] | null {
    const at = name.replace(/^\/|\*$/g, '');
    const files = (this.plant.files ?? []).map((file) => ({
      name: `${FOLDER}${file.name}`,
      attributes: this.attributes(file),
    }));
    return files.filter((file) => file.name.startsWith(at));
  }

  private content(name: string): { octets: Uint8Array; attributes: { size: number; modified: string } } | null {
    const file = (this.plant.files ?? []).find((one) => `${FOLDER}${one.name}` === name.replace(/^\//, ''));
    return file === undefined ? null : { octets: file.content, attributes: this.attributes(file) };
  }

  private delete(name: string): { class: number; code: number; words: string } | null {
    if (this.content(name) === null) return { class: 11, code: 7, words: '' };
    this.plant.deleteFile?.(name.slice(FOLDER.length));
    return null;
  }

  // ---- controls

  private control({ object, phase, wish, answer }: ControlAsked): void {
    const point = this.plant.points.find(({ at }) => at.fc === 'CO' && at.reference === pathOf(object));
    if (point === undefined) return answer(Cause['not supported']);
    if (wish.test) return answer(Cause['blocked by mode']);
    const value = wish.value.type === 'structure' ? wish.value.items[0] : wish.value;
    const on = value?.type === 'boolean' && value.value;
    const counts = value?.type === 'float' ? value.value : null;
    const order = {
      operation: point.kind === 'output' ? (on ? ('close' as const) : ('trip' as const)) : null,
      ...{ counts, onMs: 0, offMs: 0, count: 1 },
    };
    const execute = phase !== 'select';
    const refusal = this.plant.operate(point.key, order, clock.now(), execute);
    if (refusal !== null) return answer(CAUSES[refusal]);
    if (!execute) return answer(null);
    this.operations++;
    this.show();
    this.tickAtMove();
    // Its end is told when the process is done.
    const { nextMove } = this.plant;
    if (nextMove === null) answer(null);
    else
      setTimeout(
        () => {
          answer(null);
          this.flush();
        },
        nextMove - clock.now() + 5,
      );
  }

  // ---- its link and its power

  up(): void {
    this.model.came(PEER, 'client', clock.now());
    this.flush();
  }
  down(): void {
    this.model.went(PEER, clock.now());
    this.flush();
  }
  data(octets: Uint8Array): void {
    this.heard();
    this.model.receive(PEER, octets, clock.now());
    this.flush();
  }
  protected begin(): void {
    this.show();
  }
  protected end(): void {}

  private flush(): void {
    for (const effect of this.model.take()) {
      if (effect.type === 'send') this.say(effect.octets);
      else if (effect.type === 'close') this.link.cut();
    }
    this.wakeAt(this.model.deadline, () => {
      this.model.wake(clock.now());
      this.flush();
    });
  }

  // ---- its values

  protected show(): void {
    const now = clock.now();
    for (const point of this.plant.points) {
      const value = this.valueOf(point);
      const before = this.shown.get(point.key);
      const isOwn = this.isOwn(point);
      const isKnown = before !== undefined && isOwn === !this.substituted.has(point.key);
      if (isKnown && (value === before || Math.abs(Number(value) - Number(before)) < point.deadband)) continue;
      this.shown.set(point.key, value);
      if (isOwn) this.substituted.delete(point.key);
      else this.substituted.add(point.key);
      this.put(point, Number(value), now);
    }
    this.model.touch(now);
    this.flush();
  }

  private put({ key, at, kind }: ModelPoint, value: number, now: number): void {
    const read = parseReference(`${at.reference}[${at.fc}]`);
    if (!read.ok) return;
    const { device, node, path } = read.value;
    const [object, ...inside] = path;
    // What is operated shows by its status, or its measurand.
    const [fc, steps] =
      at.fc === 'CO'
        ? kind === 'setpoint'
          ? (['MX', ['mxVal', 'f']] as const)
          : (['ST', ['stVal']] as const)
        : ([at.fc, inside] as const);
    // Where the status has a point of its own, that one shows it.
    if (
      at.fc === 'CO' &&
      this.plant.points.some((one) => one.at.fc === 'ST' && one.at.reference.startsWith(`${at.reference}.`))
    )
      return;
    const present = this.model.value({ device, node, fc, path: [object, ...steps] });
    if (present === null) return;
    // Quality and time stand beside the value, or beside what it is in.
    const last = steps.at(-1);
    const length =
      last === 'f' ? steps.length - (steps[0] === 'mag' || steps[0] === 'mxVal' ? 2 : 3) : steps.length - 1;
    const beside = steps.slice(0, length);
    this.model.set(
      { device, node, fc, path: [object] },
      [
        {
          path: [...beside, 't'],
          data: { type: 'utcTime', octets: encodeStamp({ time: now, ...GOOD_TIME }) },
          trigger: null,
        },
        { path: steps, data: asData(present, value), trigger: 'dataChange' },
        {
          path: [...beside, 'q'],
          data: { type: 'bits', bits: bitsOf(this.substituted.has(key) ? Quality.forcedAtDevice : 0) },
          trigger: 'qualityChange',
        },
      ],
      {},
      now,
    );
  }
}

const FOLDER = 'COMTRADE/';
const pathOf = ({ device, node, path }: Reference): string => `${device}/${[node, ...path].join('.')}`;

/** A number as the type of what is there has it. */
function asData(present: Data, value: number): Data {
  switch (present.type) {
    case 'boolean':
      return { type: 'boolean', value: value !== 0 };
    case 'bits':
      return { type: 'bits', bits: [(value & 2) !== 0, (value & 1) !== 0] };
    case 'float':
      return { type: 'float', value: Math.fround(value), width: 32 };
    default:
      return { type: 'integer', value: Math.round(value) };
  }
}

/** Units as the standard numbers them: what the model says beside its values. */
const UNITS: Record<string, readonly [unit: number, multiplier: number]> = {
  A: [5, 0],
  kV: [29, 3],
  MW: [62, 6],
  Mvar: [63, 6],
  Hz: [33, 0],
  kWh: [72, 3],
};
function unitsOf(points: readonly ModelPoint[]): [Reference, Data][] {
  return points.flatMap(({ at, unit }): [Reference, Data][] => {
    const read = parseReference(`${at.reference}[CF]`);
    const known = UNITS[unit];
    if (!read.ok || known === undefined) return [];
    const [object, phase] = read.value.path;
    const inside = phase?.startsWith('phs') ? [object, phase] : [object];
    const of = (part: string): Reference => ({ ...read.value, path: [...inside, 'units', part] });
    return [
      [of('SIUnit'), { type: 'integer', value: known[0] }],
      [of('multiplier'), { type: 'integer', value: known[1] }],
    ];
  });
}
