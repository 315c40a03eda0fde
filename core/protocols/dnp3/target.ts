import { KIND_WORDS, type PointKind, type ScaledPoint } from '../../point/index.ts';
import type { TargetAddressing } from '../definition.ts';
import { targetAtSchema, type Dnp3TargetAt } from './points.ts';
import { GROUPS, DEFAULT_VARIATIONS, objectWords } from './server/pointtable.ts';
import { objectType } from './wire/objects.ts';

/** Whole numbers that an object can hold, by group and variation (IEEE 1815, annex A). */
const WHOLE: Partial<Record<string, readonly [number, number]>> = {
  '30 1': [-0x8000_0000, 0x7fff_ffff],
  '30 2': [-0x8000, 0x7fff],
  '30 3': [-0x8000_0000, 0x7fff_ffff],
  '30 4': [-0x8000, 0x7fff],
};

/** Usual classes of events: 1 for states, 2 for analogs, 3 for counters, none for controls (common practice). */
export const USUAL_CLASS: Record<PointKind, 0 | 1 | 2 | 3> = {
  binary: 1,
  doubleBit: 1,
  output: 0,
  analog: 2,
  counter: 3,
  setpoint: 2,
  frozenCounter: 3,
  text: 3,
};

type Target = Parameters<TargetAddressing<Dnp3TargetAt, unknown>['misfit']>[1];

function misfit({ pairs }: ScaledPoint, { kind, at, value }: Target): string | null {
  const { staticVariation } = at;
  const limits = kind === 'analog' ? WHOLE[`30 ${staticVariation}`] : undefined;
  if (limits === undefined || pairs === null) return null;
  const [low, high] = value === 'engineering' ? [pairs.low, pairs.high] : [pairs.rawLow, pairs.rawHigh];
  const [bottom, top] = [Math.min(low, high), Math.max(low, high)];
  if (bottom < limits[0] || top > limits[1])
    return `its range ${bottom} to ${top} does not fit g30v${staticVariation}, which holds ${limits[0]} to ${limits[1]}`;
  if (value === 'engineering' && top - bottom < 100)
    return `whole numbers of a range from ${bottom} to ${top} are coarse: choose a floating-point variation`;
  return null;
}

function problems({ kind, at }: Pick<Target, 'kind' | 'at'>): string[] {
  const groups = GROUPS[kind];
  const { staticVariation, eventVariation, eventClass } = at;
  const missing: string[] = [];
  if (objectType(groups.static, staticVariation) === undefined)
    missing.push(`there is no object g${groups.static}v${staticVariation}`);
  if (eventClass > 0 && objectType(groups.event ?? 0, eventVariation) === undefined)
    missing.push(`there is no event object g${groups.event}v${eventVariation}`);
  return missing;
}

const eventObject = ({ kind, at }: Pick<Target, 'kind' | 'at'>): string =>
  at.eventClass > 0 ? objectWords(kind, 'event', at.eventVariation) : '';

export const targets: TargetAddressing<Dnp3TargetAt, unknown> = {
  at: targetAtSchema,
  series: ({ kind }) => kind,
  number: ({ index }) => index,
  width: () => 1,
  highest: 65_535,
  // Engineering values have a fraction: single-precision floating point with flags, and with time for events.
  propose: (kind, index, value, { eventClass }) => {
    const floating = value === 'engineering' && (kind === 'analog' || kind === 'setpoint');
    const variations = DEFAULT_VARIATIONS[kind];
    const chosen = eventClass === undefined || eventClass === 'usual' ? USUAL_CLASS[kind] : Number(eventClass);
    return {
      protocol: 'dnp3',
      index,
      eventClass: kind === 'output' ? 0 : (chosen as 0 | 1 | 2 | 3),
      staticVariation: floating ? (kind === 'analog' ? 5 : 3) : variations.static,
      eventVariation: floating ? 7 : variations.event,
    };
  },
  ruleFields: [
    {
      path: 'eventClass',
      title: 'Event class',
      type: 'choice',
      choices: [
        ['usual', 'usual: 1, 2, 3'],
        ['0', 'no events'],
        ['1', '1'],
        ['2', '2'],
        ['3', '3'],
      ],
    },
  ],
  misfit,
  problems,
  words: (target) => {
    const events = eventObject(target);
    const { kind, at } = target;
    return `${objectWords(kind, 'static', at.staticVariation)}${events ? `, ${events} class ${at.eventClass}` : ''}`;
  },
  fields: [
    { path: 'index', title: 'Address there', type: 'number', limits: [0, 65_535] },
    {
      path: 'eventClass',
      title: 'Event class',
      type: 'choice',
      choices: [
        [0, 'no events'],
        [1, '1'],
        [2, '2'],
        [3, '3'],
      ],
      applies: (target) => (target as Target).kind !== 'output',
    },
    { path: 'staticVariation', title: 'Variation of its object', type: 'number', limits: [1, 6] },
    {
      path: 'eventVariation',
      title: 'Variation of its events',
      type: 'number',
      limits: [0, 8],
      applies: (target) => (target as Target).at.eventClass > 0,
    },
  ],
  sheet: [
    { title: 'Kind', text: ({ kind }) => KIND_WORDS[kind].one },
    { title: 'Address', text: ({ at }) => String(at.index) },
    { title: 'Event class', text: ({ at }) => (at.eventClass === 0 ? 'none' : String(at.eventClass)) },
    { title: 'Object', text: ({ kind, at }) => objectWords(kind, 'static', at.staticVariation) },
    { title: 'Event object', text: eventObject },
  ],
};
