import { KIND_WORDS, type PointKind } from '../../point/index.ts';
import type { Offered, TargetAddressing } from '../definition.ts';
import { dataClass } from './model/cdc.ts';
import { objectInfo } from './model/nodes.ts';
import { nodeName } from './model/reference.ts';
import { targetAtSchema, type IecTargetAt } from './points.ts';
import { placeProblem, placesOf } from './scl/served.ts';
import type { ServerSettings } from './settings.ts';

/*
 * What has no better class goes into a node of generic process I/O, a series of data objects a kind, numbered from 1
 * (IEC 61850-7-4: GGIO; from memory). It has none for texts and for double points that are only seen: those are data
 * objects of our own, as the name space allows.
 */
const GENERIC: Record<PointKind, { object: string; fc: IecTargetAt['fc']; cdc: IecTargetAt['cdc'] }> = {
  binary: { object: 'Ind', fc: 'ST', cdc: 'SPS' },
  doubleBit: { object: 'DblInd', fc: 'ST', cdc: 'DPS' },
  output: { object: 'SPCSO', fc: 'CO', cdc: 'SPC' },
  analog: { object: 'AnIn', fc: 'MX', cdc: 'MV' },
  counter: { object: 'CntRs', fc: 'ST', cdc: 'BCR' },
  frozenCounter: { object: 'CntFrz', fc: 'ST', cdc: 'BCR' },
  setpoint: { object: 'AnOut', fc: 'CO', cdc: 'APC' },
  text: { object: 'TxtIn', fc: 'ST', cdc: 'VSS' },
};

/** Classes as which a kind can be offered, each with the constraint of its value. */
const CLASSES: Record<PointKind, readonly (readonly [IecTargetAt['cdc'], IecTargetAt['fc']])[]> = {
  binary: [
    ['SPS', 'ST'],
    ['SPC', 'ST'],
  ],
  doubleBit: [
    ['DPS', 'ST'],
    ['DPC', 'ST'],
  ],
  output: [
    ['SPC', 'CO'],
    ['DPC', 'CO'],
  ],
  analog: [
    ['MV', 'MX'],
    ['INS', 'ST'],
    ['APC', 'MX'],
    ['INC', 'ST'],
  ],
  counter: [['BCR', 'ST']],
  frozenCounter: [['BCR', 'ST']],
  setpoint: [
    ['APC', 'CO'],
    ['INC', 'CO'],
  ],
  text: [['VSS', 'ST']],
};

const USUAL_NODE = 'GGIO1';
/** Of a logical device of ours that nobody has named. */
const USUAL_DEVICE = 'LD0';
const HIGHEST = 99_998;
const numbered = (object: string): [series: string, number: number] => {
  const [, series = object, digits = ''] = /^(.*?)(\d*)$/.exec(object) ?? [];
  return [series, digits === '' ? 0 : Number(digits) - 1];
};

export const targets: TargetAddressing<IecTargetAt, ServerSettings> = {
  at: targetAtSchema,
  series: ({ at: { device, node, object, fc } }) => `${device}/${node}.${numbered(object)[0]}[${fc}]`,
  number: ({ object }) => Math.max(0, numbered(object)[1]),
  width: () => 1,
  highest: HIGHEST,
  propose: (kind, number, _value, { device, node }) => {
    const { object, fc, cdc } = GENERIC[kind];
    const named = targetAtSchema.safeParse({
      ...{ protocol: 'iec61850', device: device?.trim() || USUAL_DEVICE, node: node?.trim() || USUAL_NODE },
      ...{ object: `${object}${number + 1}`, fc, cdc },
    });
    return named.success
      ? named.data
      : targetAtSchema.parse({
          ...{
            protocol: 'iec61850',
            device: USUAL_DEVICE,
            node: USUAL_NODE,
            object: `${object}${number + 1}`,
            fc,
            cdc,
          },
        });
  },
  ruleFields: [
    { path: 'device', title: 'Logical device', type: 'text', help: `as in HLM; empty: ${USUAL_DEVICE}` },
    { path: 'node', title: 'Logical node', type: 'text', help: 'GGIO1, GGIO2 and so on; empty: GGIO1' },
  ],
  misfit: ({ pairs }, { at: { cdc }, value }) => {
    if (cdc !== 'INS' && cdc !== 'INC') return null;
    if (pairs === null) return null;
    const [low, high] = value === 'engineering' ? [pairs.low, pairs.high] : [pairs.rawLow, pairs.rawHigh];
    return Math.abs(high - low) < 100
      ? `whole numbers of a range from ${low} to ${high} are coarse: choose ${cdc === 'INS' ? 'MV' : 'APC'}`
      : null;
  },
  problems: ({ kind, at }, settings) => {
    const found: string[] = [];
    const elsewhere = settings && placeProblem(settings, at);
    if (elsewhere) found.push(elsewhere);
    if (!CLASSES[kind].some(([cdc, fc]) => cdc === at.cdc && fc === at.fc))
      found.push(
        `a ${KIND_WORDS[kind].one} is offered as ${CLASSES[kind].map(([cdc, fc]) => `${cdc} with ${fc}`).join(' or ')}, not as ${at.cdc} with ${at.fc}`,
      );
    const name = nodeName(at.node);
    const known = name && objectInfo(name.class, at.object);
    if (known && name.class !== 'GGIO' && !related(known.cdc, at.cdc))
      found.push(`${at.object} of a ${name.class} is of class ${known.cdc}, not ${at.cdc}`);
    return found;
  },
  places: (settings, kind, source) =>
    settings.modelFile === null
      ? null
      : placesOf(settings)
          .filter((place) => CLASSES[kind].some(([cdc, fc]) => cdc === place.cdc && fc === place.fc))
          .map(({ device, node, object, fc, cdc }) => ({
            words: `${device}/${node}.${object}[${fc}] ${cdc}`,
            at: { protocol: 'iec61850', offered: true, device, node, object, fc, cdc },
            // `HLM/XCBR1.Pos.stVal[ST]` is in `HLM/XCBR1.Pos`.
            own:
              `${source.replace('[', '.[')}`.startsWith(`${device}/${node}.${object}.`) && source.endsWith(`[${fc}]`),
          })),
  words: ({ at: { cdc, fc } }) => `${cdc}, ${fc}`,
  fields: [
    { path: 'device', title: 'Logical device', type: 'text' },
    { path: 'node', title: 'Logical node', type: 'text', help: 'prefix, class and number: GGIO1, XCBR1' },
    { path: 'object', title: 'Data object', type: 'text', help: 'Ind1, Pos' },
    {
      path: 'cdc',
      title: 'Class',
      type: 'choice',
      choices: (['SPS', 'DPS', 'INS', 'MV', 'BCR', 'VSS', 'SPC', 'DPC', 'INC', 'APC'] as const).map((cdc) => [
        cdc,
        `${cdc}: ${dataClass(cdc)?.meaning}`,
      ]),
    },
    {
      path: 'fc',
      title: 'Constraint',
      type: 'choice',
      choices: [
        ['ST', 'ST: status'],
        ['MX', 'MX: measurand'],
        ['CO', 'CO: what is operated'],
      ],
    },
  ],
  sheet: [
    { title: 'Logical device', text: ({ at }) => at.device },
    { title: 'Logical node', text: ({ at }) => at.node },
    { title: 'Data object', text: ({ at }) => at.object },
    { title: 'Class', text: ({ at }) => at.cdc },
    { title: 'Value', text: (offered) => `${valuePath(offered)}[${offered.at.fc}]` },
  ],
};

/** Status and controlled forms of one class are the same for who only looks; enumerations are whole numbers. */
const FORMS: Record<string, string> = {
  ...{ SPC: 'SPS', ACT: 'SPS', ACD: 'SPS', SPG: 'SPS', DPC: 'DPS' },
  ...{ INC: 'INS', ENS: 'INS', ENC: 'INS', BSC: 'INS', ISC: 'INS', APC: 'MV', ASG: 'MV', BAC: 'MV' },
};
const related = (one: string, other: string): boolean => (FORMS[one] ?? one) === (FORMS[other] ?? other);

/** Where the value of what is offered stands: `HLM/GGIO1.AnIn1.mag.f`. */
export function valuePath({ at: { device, node, object, cdc, fc } }: Pick<Offered<IecTargetAt>, 'at'>): string {
  const value = fc === 'CO' ? ['Oper', 'ctlVal'] : (dataClass(cdc)?.value ?? []);
  return [`${device}/${node}`, object, ...value].join('.');
}
