import '../../words/index.ts';
import { z } from 'zod';
import { booleanField, DAY_MS, NEVER, numberField, textField, type SettingField } from '../settingfield.ts';

/* What every destination to which we push is asked for: what is recorded, how it is gathered, and how much may wait. */

/** A whole number within limits, with words for whoever typed another. */
export const whole = (what: string, low: number, high: number): z.ZodNumber =>
  z
    .number({ error: `${what} is a number` })
    .int(`${what} is a whole number`)
    .min(low, `${what} is at least ${low}`)
    .max(high, `${what} is at most ${high}`);

const WEEK_MS = 7 * DAY_MS;
const YEAR_MS = 366 * DAY_MS;

export interface PublishingLimits {
  mostValues: readonly [most: number, usual: number];
}

/** Shape of the settings; `mostValues`: how many values a packet may have in that protocol. */

export const publishingShape = ({ mostValues: [most, usual] }: PublishingLimits) => ({
  /** Each change beyond the deadband, and each event, is recorded. */
  onChange: z.boolean().default(true),
  /** All points are recorded at each whole period since 1970 UTC, milliseconds; 0: never. */
  everyMs: whole('The period', 0, WEEK_MS)
    .refine((ms) => ms === 0 || ms >= 1000, 'The period is at least 1000 ms, or 0')
    .default(0),
  /** All points are recorded when the one with that name at the destination goes from off to on; empty: never. */
  trigger: z.string().max(401, 'The name of a trigger has at most 401 characters').default(''),
  /** The trigger is operated off again, once what it asked for is recorded. */
  setsBack: z.boolean().default(false),
  /** Values of so long make one packet, milliseconds; 0: each goes as soon as it can. */
  afterMs: whole('The time until it is sent', 0, 3_600_000).default(1000),
  mostValues: whole('The number of values sent at once', 1, most).default(usual),
  mostWaiting: whole('The number of values that may wait', 1000, 1_000_000).default(100_000),
  /** What is given up when more would wait. */
  whenFull: z.enum(['oldest', 'new']).default('oldest'),
  /** What is older is not sent any more, milliseconds; 0: it is sent however old. */
  mostAgeMs: whole('The longest age', 0, YEAR_MS).default(0),
});

export type PublishingSettings = z.infer<z.ZodObject<ReturnType<typeof publishingShape>>>;

/** Settings that a running session adopts. */
export const PUBLISHING_ADOPTS = [
  ...(['onChange', 'everyMs', 'trigger', 'setsBack', 'afterMs', 'mostValues'] as const),
  ...(['mostWaiting', 'whenFull', 'mostAgeMs'] as const),
] as const;

const hasTrigger = (document: unknown): boolean =>
  Boolean((document as { settings?: { trigger?: string } } | null)?.settings?.trigger);

export const publishingFields = ({ mostValues: [most] }: PublishingLimits): readonly SettingField[] => [
  booleanField('settings.onChange', 'Changes are recorded', { help: 'beyond the deadband; and every event' }),
  numberField('settings.everyMs', 'All points are recorded every', 'ms', [0, WEEK_MS], {
    help: '900000: at each quarter of an hour; 0: never',
  }),
  textField('settings.trigger', 'All points are recorded when this one turns on', {
    help: 'as the mapping calls it; empty: none',
  }),
  booleanField('settings.setsBack', 'It is operated off again', {
    applies: hasTrigger,
    help: 'where it may be operated',
  }),
  numberField('settings.afterMs', 'Values are gathered for', 'ms', [0, 3_600_000]),
  numberField('settings.mostValues', 'Values sent at once', '', [1, most]),
  numberField('settings.mostWaiting', 'Values that may wait', '', [1000, 1_000_000], {
    help: 'while the destination is away',
  }),
  {
    ...{ path: 'settings.whenFull', title: 'When more would wait', type: 'choice' },
    choices: [
      ['oldest', 'the oldest are dropped'],
      ['new', 'new ones are not taken'],
    ],
  },
  numberField('settings.mostAgeMs', 'Values are dropped when older than', 'ms', [0, YEAR_MS], { help: NEVER }),
];

/** Targets that they name. */
export const publishingNames = ({ trigger }: PublishingSettings): readonly string[] =>
  trigger === '' ? [] : [trigger];

/** What does not fit within them. */
export const publishingProblems = ({ onChange, everyMs, trigger }: PublishingSettings): string[] =>
  onChange || everyMs > 0 || trigger !== ''
    ? []
    : ['nothing is ever recorded: neither changes, nor a period, nor a trigger is set'];
