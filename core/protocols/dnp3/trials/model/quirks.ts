import type { MasterSettings } from '../../settings.ts';
import type { ModelPoint, Quirks } from './device.ts';
import { MODEL_POINTS, ModelTrial } from './trial.ts';

/*
 * What foreign devices do: each row a device that keeps to the standard in a way of its own, or nearly keeps to it.
 * Before each of them our master has to store every event once, pass every one on, go on polling, and not poll beyond
 * measure.
 */

export interface Oddity {
  name: string;
  quirks: Quirks;
  settings?: Partial<MasterSettings>;
  points?: readonly ModelPoint[];
  /** What it brings cannot all be had, and that is said. */
  loses?: boolean;
}

const everyNth = (n: number): (() => boolean) => {
  let count = 0;
  return () => ++count % n === 0;
};
const ALL_MODES = { unsolicitedClasses: [1, 2, 3] } satisfies Partial<MasterSettings>;

/** Objects that are not kept, as octets: group, variation, qualifier, range, objects. */
const OBJECTS = {
  frozenAnalogEvent: [33, 3, 0x17, 1, 0, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0],
  frozenAnalog: [31, 1, 0, 0, 0, 1, 1, 0, 0, 0],
  securityStatistic: [121, 1, 0, 0, 0, 1, 0, 0, 1, 0, 0, 0],
  securityEvent: [122, 1, 0x17, 1, 0, 1, 0, 0, 1, 0, 0, 0],
  securityEventTimed: [122, 2, 0x28, 1, 0, 0, 0, 1, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0],
  deltaCounterEvent: [22, 3, 0x17, 1, 0, 1, 1, 0, 0, 0],
  deltaCounter: [20, 3, 0, 0, 0, 1, 1, 0, 0, 0],
  frozenDelta: [21, 3, 0, 0, 0, 1, 1, 0, 0, 0],
  bcd: [101, 1, 0, 0, 0, 0x34, 0x12],
  octet: [102, 1, 0, 0, 0, 7],
  terminal: [113, 3, 0x17, 1, 0, 65, 66, 67],
  storage: [81, 1, 7, 1, 0, 0, 0],
  dataSet: [87, 1, 0x5b, 1, 4, 0, 1, 2, 3, 4],
  timeWithInterval: [50, 4, 0x17, 1, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 1],
  text: [111, 2, 0x17, 1, 0, 65, 66],
  attribute: [0, 250, 0, 0, 0, 1, 2, 65, 66],
  vendorSized: [200, 9, 0x5b, 1, 3, 0, 1, 2, 3],
  vendor: [200, 9, 0x17, 1, 0, 1, 2, 3],
} satisfies Record<string, readonly number[]>;

const passedOver: Oddity[] = Object.entries(OBJECTS)
  .filter(([name]) => name !== 'vendor')
  .flatMap(([name, octets]) => [
    { name: `${name} before its events`, quirks: { before: octets } },
    { name: `${name} among its events`, quirks: { between: octets } },
  ]);

export const ODDITIES: readonly Oddity[] = [
  { name: 'none', quirks: {} },
  { name: 'clock of 10 ms', quirks: { grainMs: 10 } },
  { name: 'clock of whole seconds', quirks: { grainMs: 1000 } },
  { name: 'clock of whole minutes', quirks: { grainMs: 60_000 } },
  { name: 'events without a time', quirks: { grainMs: null } },
  { name: 'clock that stands still', quirks: { stuckClock: true } },
  { name: 'clock a day ahead', quirks: { clockOffsetMs: 86_400_000 } },
  { name: 'clock of 1970', quirks: { clockOffsetMs: -1_700_000_000_000 } },
  { name: 'times against a common one', quirks: { relativeTime: true } },
  { name: 'loses each third confirm', quirks: { losesConfirm: everyNth(3) } },
  { name: 'loses each third confirm, no times', quirks: { losesConfirm: everyNth(3), grainMs: null } },
  { name: 'loses each second confirm, whole seconds', quirks: { losesConfirm: everyNth(2), grainMs: 1000 } },
  { name: 'sees its first confirm at the fifth try', quirks: { losesConfirm: everyNthNot(5) } },
  { name: 'events by kind', quirks: { order: 'byKind' } },
  { name: 'events by class', quirks: { order: 'byClass' } },
  { name: 'events by point, the last point first', quirks: { order: 'newestPointFirst' } },
  { name: 'one event an answer', quirks: { perFragment: () => 1 } },
  { name: 'two events an answer, loses confirms', quirks: { perFragment: () => 2, losesConfirm: everyNth(4) } },
  { name: 'one event a fragment', quirks: { perFragment: () => 1, severalFragments: true } },
  {
    name: 'three events a fragment, loses confirms',
    quirks: { perFragment: () => 3, severalFragments: true, losesConfirm: everyNth(5) },
  },
  { name: 'class bits that never clear', quirks: { iinSet: 0x0e } },
  { name: 'class bit 2 that never clears, no times', quirks: { iinSet: 0x04, grainMs: null } },
  { name: 'class bits that are never set', quirks: { iinClear: 0x0e } },
  { name: 'class bits that count what is under way', quirks: { classBitsLag: true } },
  { name: 'restart that never clears', quirks: { iinSet: 0x80 } },
  { name: 'always needs time', quirks: { iinSet: 0x10 } },
  { name: 'always in local', quirks: { iinSet: 0x20 } },
  { name: 'always in trouble', quirks: { iinSet: 0x40 } },
  { name: 'overflow that never clears', quirks: { iinSet: 0x800 } },
  { name: 'configuration always corrupt', quirks: { iinSet: 0x2000 } },
  { name: 'always an object unknown', quirks: { iinSet: 0x200 } },
  { name: 'always a parameter error', quirks: { iinSet: 0x400 } },
  { name: 'broadcast bit that stays', quirks: { iinSet: 0x01 } },
  { name: 'refuses enabling of unsolicited', quirks: { refuses: [20] }, settings: ALL_MODES },
  { name: 'refuses disabling of unsolicited', quirks: { refuses: [21] } },
  { name: 'refuses both', quirks: { refuses: [20, 21] }, settings: ALL_MODES },
  { name: 'refuses writes', quirks: { refuses: [2] } },
  { name: 'refuses delay measurement', quirks: { refuses: [23], iinSet: 0x10 } },
  {
    name: 'refuses to record the time',
    quirks: { refuses: [24], iinSet: 0x10 },
    settings: { timeSync: 'whenAskedLan' },
  },
  { name: 'leaves function 20 unanswered', quirks: { ignores: [20] }, settings: ALL_MODES },
  { name: 'leaves function 21 unanswered', quirks: { ignores: [21] } },
  { name: 'leaves functions 20 and 21 unanswered', quirks: { ignores: [20, 21] }, settings: ALL_MODES },
  { name: 'leaves writes unanswered', quirks: { ignores: [2] } },
  { name: 'leaves delay measurement unanswered', quirks: { ignores: [23], iinSet: 0x10 } },
  {
    name: 'leaves record time unanswered',
    quirks: { ignores: [24], iinSet: 0x10 },
    settings: { timeSync: 'whenAskedLan' },
  },
  { name: 'leaves everything but reads unanswered', quirks: { ignores: [2, 20, 21, 23, 24] } },
  { name: 'refuses classes together', quirks: { refusesCombined: 'error' } },
  {
    name: 'has no class 3',
    quirks: { unknownClasses: [3] },
    points: MODEL_POINTS.filter((point) => point.class !== 3),
  },
  {
    name: 'has no class 1',
    quirks: { unknownClasses: [1] },
    points: MODEL_POINTS.filter((point) => point.class !== 1),
  },
  { name: 'has no class 0', quirks: { unknownClasses: [0] } },
  { name: 'knows no classes', quirks: { noClasses: true } },
  {
    name: 'knows no classes and few objects',
    quirks: { noClasses: true, unknownGroups: [3, 10, 11, 21, 23, 40, 42, 110, 111] },
  },
  {
    name: 'does not answer classes together, asked apart',
    quirks: { refusesCombined: 'silence' },
    settings: { eventReads: 'apart' },
  },
  { name: 'asked by objects', quirks: {}, settings: { eventReads: 'objects', presentReads: 'objects' } },
  { name: 'asked for five events at once', quirks: {}, settings: { eventsAtOnce: 5 } },
  { name: 'asked for three hundred events at once', quirks: {}, settings: { eventsAtOnce: 300 } },
  { name: 'asked with a gap', quirks: {}, settings: { minimumGapMs: 300 } },
  { name: 'not asked again', quirks: { perFragment: () => 20 }, settings: { pollAgain: false } },
  ...passedOver,
  { name: 'an object of nobody in class reads', quirks: { beforeOfClasses: OBJECTS.vendor } },
  { name: 'an object of nobody behind its events', quirks: { behind: OBJECTS.vendor } },
  ...(['nothing', 'error'] as const).flatMap((eventsByObject): Oddity[] => [
    {
      name: `one answer five octets short, by object ${eventsByObject}`,
      quirks: { cutsAnswer: onlyThe(3, 5), eventsByObject },
    },
    {
      name: `two answers five octets short, by object ${eventsByObject}`,
      quirks: { cutsAnswer: onlyThe(3, 5, 2), eventsByObject },
    },
    {
      name: `five answers five octets short, class by class, by object ${eventsByObject}`,
      quirks: { cutsAnswer: onlyThe(2, 5, 5), eventsByObject },
      settings: { eventReads: 'apart' },
    },
    {
      name: `each seventh answer three octets short, by object ${eventsByObject}`,
      quirks: { cutsAnswer: eachNth(7, 3), eventsByObject },
    },
    {
      name: `an object of nobody behind its events, by object ${eventsByObject}`,
      quirks: { behind: OBJECTS.vendor, eventsByObject },
    },
    {
      name: `an object of nobody first in class reads, by object ${eventsByObject}`,
      quirks: { beforeOfClasses: OBJECTS.vendor, eventsByObject },
      loses: true,
    },
  ]),
  { name: 'one answer five octets short', quirks: { cutsAnswer: onlyThe(3, 5) } },
  { name: 'twenty answers five octets short', quirks: { cutsAnswer: onlyThe(3, 5, 20) } },
  { name: 'each fifth answer one octet short', quirks: { cutsAnswer: eachNth(5, 1) } },
  { name: 'indexes of one octet', quirks: { qualifier: 0x17 } },
  { name: 'count of two octets, indexes of one', quirks: { qualifier: 0x18 } },
  { name: 'count of one octet, indexes of two', quirks: { qualifier: 0x27 } },
  { name: 'count and indexes of four octets', quirks: { qualifier: 0x39 } },
  { name: 'a confirm for everything', quirks: { confirms: 'all' } },
  { name: 'no confirms', quirks: { confirms: 'never' } },
  { name: 'no confirms, no times', quirks: { confirms: 'never', grainMs: null } },
  { name: 'unasked when enabled', quirks: { unsolicited: 'whenEnabled' }, settings: ALL_MODES },
  {
    name: 'unasked when enabled, loses confirms',
    quirks: { unsolicited: 'whenEnabled', losesConfirm: everyNth(3) },
    settings: ALL_MODES,
  },
  {
    name: 'unasked when enabled, no times',
    quirks: { unsolicited: 'whenEnabled', grainMs: null },
    settings: ALL_MODES,
  },
  { name: 'unasked whether enabled or not', quirks: { unsolicited: 'always' } },
  { name: 'unasked, one sequence number for all', quirks: { unsolicited: 'always', sequenceOfUnsolicitedStays: true } },
  {
    name: 'unasked, made anew at each try',
    quirks: { unsolicited: 'always', regenerates: true, losesConfirm: everyNth(2) },
  },
  { name: 'unasked every 100 ms without anything to say', quirks: { chatterMs: 100 } },
  { name: 'unasked every 100 ms, thinks for 800', quirks: { chatterMs: 100, delayMs: 800 } },
  { name: 'thinks for 900 ms', quirks: { delayMs: 900 } },
  { name: 'says everything twice', quirks: { twice: true } },
  { name: 'says everything twice, no times', quirks: { twice: true, grainMs: null } },
  { name: 'noise around its frames', quirks: { noise: [0, 255, 5, 100, 5, 0, 17] } },
  { name: 'octet by octet', quirks: { dribbles: true } },
  {
    name: 'others talk on its line',
    quirks: {
      otherFrames: [
        { source: 77, destination: 1 },
        { source: 12, destination: 100 },
      ],
    },
  },
  { name: 'link status in between', quirks: { linkChatter: true } },
  { name: 'values without flags', quirks: { staticForm: 'packed' } },
  { name: 'no present values', quirks: { staticForm: 'none' } },
  { name: 'values that are never online', quirks: { flags: 0 } },
  { name: 'values that are always forced', quirks: { flags: 0x11 } },
  { name: 'a buffer of ten events', quirks: { bufferEvents: 10 } },
  { name: 'a buffer of three events, no times', quirks: { bufferEvents: 3, grainMs: null } },
];

/** Only each nth confirm is seen. */
function everyNthNot(n: number): () => boolean {
  let count = 0;
  return () => ++count % n !== 0;
}

/** From the nth answer on so many of them are short by so many octets. */
function onlyThe(nth: number, octets: number, many = 1): () => number {
  let count = 0;
  return () => (++count >= nth && count < nth + many ? octets : 0);
}
function eachNth(n: number, octets: number): () => number {
  let count = 0;
  return () => (++count % n === 0 ? octets : 0);
}

/** A device that is asked for its classes each second at most: more reads than that need a reason each. */
const READS_PER_EVENT = 4;

/** Five minutes before one of them, with a break of the line and a death of the engine. Says what went wrong. */
export function tryOddity({ quirks, settings = {}, points = MODEL_POINTS, loses = false }: Oddity): string[] {
  const trial = new ModelTrial(quirks, { class3PeriodMs: 2000, integrityPeriodMs: 30_000, ...settings }, points);
  trial.connect();
  trial.pass(8000);
  const turned = points.map(() => 0);
  let number = 0;
  const change = (at: number): void => {
    const point = points[at % points.length];
    const turn = (turned[at % points.length] ^= 1);
    number++;
    // Each fifth change of a contact is none: it has come and gone in between.
    const fleeting = number % 5 === 0 && quirks.grainMs !== null && !quirks.stuckClock && (quirks.grainMs ?? 1) < 100;
    trial.change(
      point,
      point.kind === 'binary' ? (fleeting ? turn ^ 1 : turn) : point.kind === 'doubleBit' ? 1 + turn : number,
    );
  };
  const isExact = quirks.grainMs === undefined || quirks.grainMs === 10;
  const burst = (events: number, everyMs: number): void => {
    for (let i = 0; i < events; i++) {
      change(i);
      trial.pass(everyMs);
    }
    trial.pass(15_000);
  };
  burst(60, 73);
  burst(60, 410);
  trial.disconnect();
  trial.pass(700);
  trial.connect();
  burst(30, 37);
  if (isExact && !quirks.stuckClock) trial.die();
  trial.pass(40_000);
  burst(40, 190);
  trial.pass(60_000);
  const { generated, stored, passedOn } = trial.counts;
  const wrong: string[] = [];
  const missing = generated.length - intersection(generated, stored);
  const doubled = stored.length - intersection(generated, stored);
  if (loses && !trial.master.learned?.includes('is lost')) wrong.push('nothing says that anything is lost');
  if (missing > 0 && !loses) wrong.push(`${missing} of ${generated.length} events are not stored`);
  if (doubled > 0) wrong.push(`${doubled} are stored that were not generated, or twice`);
  if (passedOn.length !== trial.stored.length) wrong.push(`${passedOn.length} passed on of ${trial.stored.length}`);
  if (!trial.device.isEmpty) wrong.push('it still has events');
  const last = trial.effects.findLast((effect) => effect.type === 'communication');
  if (last?.type !== 'communication' || last.state !== 'answering') wrong.push('it counts as silent');
  const seconds = (trial.now - 1_700_000_000_000) / 1000;
  const most =
    seconds * 3 +
    READS_PER_EVENT * generated.length +
    40 * (settings.eventReads === 'objects' || trial.master.learned?.includes('by object') ? seconds : 1);
  if (trial.device.reads > most) wrong.push(`read ${trial.device.reads} times in ${seconds} s`);
  return wrong;
}

/** How many of the sorted words stand in both lists. */
function intersection(a: readonly string[], b: readonly string[]): number {
  const left = new Map<string, number>();
  for (const word of b) left.set(word, (left.get(word) ?? 0) + 1);
  return a.filter((word) => {
    const count = left.get(word) ?? 0;
    left.set(word, count - 1);
    return count > 0;
  }).length;
}
