import { KIND_WORDS, type PointKind } from '../../point/index.ts';
import type { TargetAddressing } from '../definition.ts';
import { targetAtSchema, type TaseTargetAt } from './points.ts';
import type { ServerSettings } from './settings.ts';
import { CONTROLS, INDICATIONS, isControl, partsOf, type PointType } from './types.ts';

/** The type that a kind usually is: with its quality and the time of its change. */
const USUAL: Record<PointKind, { type: PointType; prefix: string }> = {
  binary: { type: 'StateQTimeTag', prefix: 'ST' },
  doubleBit: { type: 'StateQTimeTag', prefix: 'DP' },
  output: { type: 'Command', prefix: 'CMD' },
  analog: { type: 'RealQTimeTag', prefix: 'AN' },
  counter: { type: 'DiscreteQTimeTag', prefix: 'CT' },
  frozenCounter: { type: 'DiscreteQTimeTag', prefix: 'FC' },
  setpoint: { type: 'SetpointReal', prefix: 'SP' },
  text: { type: 'DiscreteQ', prefix: 'TX' },
};

const fits = (kind: PointKind, type: PointType): boolean => {
  if (isControl(type)) return type === 'Command' ? kind === 'output' : kind === 'setpoint';
  const { base } = partsOf(type);
  const isState = base === 'State' || base === 'StateSupplemental';
  switch (kind) {
    case 'binary':
    case 'doubleBit':
      return isState;
    case 'analog':
      return !isState;
    case 'counter':
    case 'frozenCounter':
      return base === 'Discrete';
    default:
      return false;
  }
};
/** Series of names: `HLM_AN` and a number from 1. */
const numbered = (name: string): [series: string, number: number] => {
  const [, series = name, digits = ''] = /^(.*?)(\d*)$/.exec(name) ?? [];
  return [series, digits === '' ? 0 : Number(digits) - 1];
};
const HIGHEST = 99_998;

export const targets: TargetAddressing<TaseTargetAt, ServerSettings> = {
  at: targetAtSchema,
  series: ({ at }) => numbered(at.name)[0],
  number: ({ name }) => Math.max(0, numbered(name)[1]),
  width: () => 1,
  highest: HIGHEST,
  propose: (kind, number, _value, { prefix }) => {
    const { type, prefix: usual } = USUAL[kind];
    const wanted = `${(prefix ?? '').trim()}${prefix?.trim() ? '_' : ''}${usual}${number + 1}`;
    const at = { protocol: 'tase2', type, select: type === 'Command' };
    const named = targetAtSchema.safeParse({ ...at, name: wanted });
    return named.success ? named.data : targetAtSchema.parse({ ...at, name: `${usual}${number + 1}` });
  },
  ruleFields: [{ path: 'prefix', title: 'Names begin with', type: 'text', help: 'HLM gives HLM_AN1 and so on' }],
  misfit: ({ pairs }, { at: { type }, value }) => {
    if (!isControl(type) ? partsOf(type).base !== 'Discrete' : type !== 'SetpointDiscrete') return null;
    if (pairs === null) return null;
    const [low, high] = value === 'engineering' ? [pairs.low, pairs.high] : [pairs.rawLow, pairs.rawHigh];
    return Math.abs(high - low) < 100
      ? `whole numbers of a range from ${low} to ${high} are coarse: choose Real`
      : null;
  },
  problems: ({ kind, at }) => {
    const found: string[] = [];
    if (kind === 'text') found.push('there are no texts among the points of TASE.2');
    else if (!fits(kind, at.type)) found.push(`a ${KIND_WORDS[kind].one} is not offered as ${at.type}`);
    if (at.tag && !isControl(at.type)) found.push('what is only seen is not tagged');
    if (at.select && at.type !== 'Command' && !isControl(at.type)) found.push('what is only seen is not selected');
    return found;
  },
  seen: ({ at: { scope, name } }, { domain }) => (scope === 'centre' ? name : `${domain}/${name}`),
  words: ({ at: { type, select, tag } }) => `${type}${select ? ', selected first' : ''}${tag ? ', with a tag' : ''}`,
  fields: [
    { path: 'name', title: 'Name', type: 'text', help: 'letters, digits, _ and $' },
    {
      path: 'scope',
      title: 'Belongs to',
      type: 'choice',
      choices: [
        ['domain', 'the domain of the agreement'],
        ['centre', 'the whole centre'],
      ],
    },
    { path: 'type', title: 'Type', type: 'choice', choices: [...INDICATIONS, ...CONTROLS].map((one) => [one, one]) },
    {
      path: 'select',
      title: 'Has to be selected first',
      type: 'boolean',
      applies: (target) => isControl((target as { at: TaseTargetAt }).at.type),
    },
    {
      path: 'tag',
      title: 'Can be tagged there',
      type: 'boolean',
      applies: (target) => isControl((target as { at: TaseTargetAt }).at.type),
    },
  ],
  sheet: [
    { title: 'Object name', text: ({ at }) => at.name },
    { title: 'Belongs to', text: ({ at }) => (at.scope === 'centre' ? 'the whole centre' : 'the domain') },
    { title: 'Type', text: ({ at }) => at.type },
    { title: 'Selected first', text: ({ at }) => (isControl(at.type) ? (at.select ? 'yes' : 'no') : '') },
    { title: 'Tag', text: ({ at }) => (isControl(at.type) ? (at.tag ? 'yes' : 'no') : '') },
  ],
};
