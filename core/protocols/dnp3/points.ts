import { z } from 'zod';
import { octetText } from '../../bytes/index.ts';
import { addressWords, kindOf, kindRank, POINT_KINDS } from '../../point/index.ts';
import type { Placed, AddressText, PointAddressing } from '../definition.ts';
import { pointIndex } from './address.ts';
import { isWholeForm, SETPOINT_FORMS, SETPOINT_LIMITS, type SetpointForm } from './control.ts';
import type { MasterSettings } from './settings.ts';
import { MAX_TEXT_OCTETS } from './wire/text.ts';

/** Classes of events; 0: none, present values alone. */
const eventClass = z.union([z.literal(0), z.literal(1), z.literal(2), z.literal(3)]);
const forms = Object.keys(SETPOINT_FORMS) as [SetpointForm, ...SetpointForm[]];

export const pointAtSchema = z.object({
  protocol: z.literal('dnp3'),
  index: pointIndex,
  /** The class in which the device reports its events; null: not known. */
  eventClass: eventClass.nullable().default(null),
  /** Of an analog setpoint: the object that carries the value, g41v1 to v4. */
  sentAs: z.enum(forms).default('int32'),
});
export type Dnp3At = z.infer<typeof pointAtSchema>;

export const draftAtSchema = pointAtSchema.extend({ index: pointIndex.nullable() });
export type Dnp3DraftAt = z.infer<typeof draftAtSchema>;

export const targetAtSchema = z.object({
  protocol: z.literal('dnp3'),
  index: pointIndex,
  eventClass,
  staticVariation: z.number().int().min(1).max(6),
  eventVariation: z.number().int().min(0).max(8),
});
export type Dnp3TargetAt = z.infer<typeof targetAtSchema>;

/** A point's place with nothing else said of it. */
export const dnp3At = (index: number): Dnp3At => ({ protocol: 'dnp3', index, eventClass: null, sentAs: 'int32' });

/** `AI 7`; written `ai7`, `AI:7` or `analog input 7` too. */
function parse(text: string): Placed<Dnp3At> | null {
  const match = /^([A-Za-z][A-Za-z -]*?)\s*[:.]?\s*(\d{1,6})$/.exec(text.trim());
  const kind = match ? kindOf(match[1]) : undefined;
  const index = Number(match?.[2]);
  return kind === undefined || index > 65535 ? null : { kind, at: dnp3At(index) };
}

/** What was written, for a sentence about it. */
const shown = (text: string): string => (Number.isFinite(Number(text)) ? text.trim() : `"${text.trim().slice(0, 40)}"`);

const withIndex = (at: Dnp3DraftAt, index: number | null): Dnp3DraftAt => ({ ...at, index });

/** The classes whose changes come as events, by polls or unasked. */
function eventsProblem(eventClass: 1 | 2 | 3, settings: MasterSettings): string | null {
  const { unsolicitedClasses, disableUnsolicited } = settings;
  if (settings[`class${eventClass}PeriodMs`] > 0 || unsolicitedClasses.includes(eventClass)) return null;
  return disableUnsolicited
    ? `class ${eventClass} is not polled and unsolicited reporting is off: its changes never arrive as events`
    : `class ${eventClass} is not polled and not asked to come unasked: its changes arrive as events only when the device sends them by itself`;
}

const DEFAULTS = { eventClass: null, sentAs: 'int32' } as const;
const FORM_WORDS = Object.keys(SETPOINT_FORMS).join(', ');

export const address: AddressText<Dnp3DraftAt | Dnp3TargetAt> = {
  print: ({ kind, at }) => (at.index === null ? '' : addressWords(kind, at.index)),
  sort: ({ kind, at }) => `${kindRank(kind)} ${at.index === null ? '~' : String(at.index).padStart(5, '0')}`,
};

export const points: PointAddressing<Dnp3At, Dnp3DraftAt, MasterSettings> = {
  at: pointAtSchema,
  draftAt: draftAtSchema,
  kinds: POINT_KINDS,
  defaults: DEFAULTS,
  history: 'every',
  outputShows: false,
  blank: () => ({ protocol: 'dnp3', index: null, ...DEFAULTS }),
  parse,
  cell: {
    key: 'index',
    title: 'Address',
    help: 'DNP3 index, 0 to 65535',
    aliases: ['index', 'dnp index', 'dnp address'],
    numeric: true,
    text: ({ at }) => (at.index === null ? '' : String(at.index)),
    set: (point, text) => {
      const both = parse(text);
      if (both) return { ok: true, value: { kind: both.kind, at: withIndex(point.at, both.at.index) } };
      const index = Number(text.trim());
      if (text.trim() === '') return { ok: true, value: { ...point, at: withIndex(point.at, null) } };
      return Number.isInteger(index) && index >= 0 && index <= 65535
        ? { ok: true, value: { ...point, at: withIndex(point.at, index) } }
        : { ok: false, problem: `${shown(text)} is not a whole number from 0 to 65535` };
    },
  },
  isNumbered: true,
  series: ({ kind }) => kind,
  number: ({ index }) => index,
  withNumber: withIndex,
  width: () => 1,
  highest: 65_535,
  fields: [
    {
      key: 'eventClass',
      title: 'Event class',
      help: '0 to 3, as the device is set; empty: not known',
      aliases: ['class', 'dnp class'],
      numeric: true,
      text: ({ at }) => (at.eventClass === null ? '' : String(at.eventClass)),
      set: ({ at }, text) => {
        const read = eventClass.nullable().safeParse(text.trim() === '' ? null : Number(text));
        return read.success
          ? { ok: true, value: { ...at, eventClass: read.data } }
          : { ok: false, problem: `"${text.trim().slice(0, 40)}" is not 0, 1, 2 or 3` };
      },
    },
    {
      key: 'sentAs',
      title: 'Sent as',
      help: `of a setpoint: ${FORM_WORDS} (g41v1 to v4); empty: it is only seen`,
      aliases: ['setpoint object', 'command object', 'output format'],
      choices: ['', ...forms],
      isSetting: true,
      text: ({ at }) => at.sentAs,
      set: ({ at }, text) => {
        const form = forms.find((one) => one === text.trim().toLowerCase());
        return form
          ? { ok: true, value: { ...at, sentAs: form } }
          : { ok: false, problem: `"${text.trim().slice(0, 40)}" is not ${FORM_WORDS}` };
      },
    },
  ],
  check: ({ at }, settings) => {
    if (settings === null || at.eventClass === null || at.eventClass === 0) return [];
    const words = eventsProblem(at.eventClass, settings);
    return words === null ? [] : [{ severity: 'warning', field: 'eventClass', words }];
  },
  sendable: ({ at: { sentAs } }, counts) => {
    const whole = isWholeForm(sentAs) ? Math.round(counts) : counts;
    const [low, high] = SETPOINT_LIMITS[SETPOINT_FORMS[sentAs]];
    return whole >= low && whole <= high
      ? { ok: true, value: whole }
      : { ok: false, problem: `${whole} counts do not fit ${sentAs}, which holds ${low} to ${high}` };
  },
  writable: (_point, text) => octetText(text, MAX_TEXT_OCTETS, true),
  form: ({ kind, at }) => (kind === 'text' ? 'octet string' : at.sentAs),
};
