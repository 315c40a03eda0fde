import { z } from 'zod';

const device = z.string().min(1).max(64);
const group = z
  .number({ error: 'A setting group is a whole number' })
  .int('A setting group is a whole number')
  .min(1, 'A setting group is at least 1')
  .max(255, 'A setting group is at most 255');
const reference = z.string().min(1).max(200);
const value = z.string().min(1, 'A value has at least 1 character').max(255, 'A value has at most 255 characters');

/** What is asked for a person, with an answer in tables; which comes next is in the answer before. */
const QUESTIONS = [
  /** Its setting groups, its logs, and what can be replaced or held. */
  z.object({ what: z.literal('overview') }),
  z.object({ what: z.literal('attributes'), device }),
  z.object({ what: z.literal('groupValues'), device, group }),
  z.object({ what: z.literal('useGroup'), device, group }),
  z.object({ what: z.literal('setInGroup'), device, group, reference, value }),
  z.object({
    what: z.literal('readLog'),
    log: z.string().regex(/^[^/]{1,64}\/[^/]{1,64}$/, 'A log is a logical device and a name, as in HLM/LLN0$EventLog'),
    minutes: z
      .number({ error: 'The time is a number of minutes' })
      .min(1, 'The time is at least 1 min')
      .max(527_040, 'The time is at most 527040 min'),
  }),
  z.object({ what: z.literal('replaceable'), device }),
  z.object({ what: z.literal('replace'), reference, value }),
  z.object({ what: z.literal('letGo'), reference }),
  z.object({ what: z.literal('block'), reference, on: z.boolean() }),
] as const;
export type Question = z.infer<(typeof QUESTIONS)[number]>;

/** What a person may ask of a device beyond its points and files. */
export const orderSchema = z.discriminatedUnion('what', [
  /** What it says of itself (ISO 9506-2, 10.5). */
  z.object({ what: z.literal('identify') }),
  /** All values that are reported, at once (IEC 61850-7-2, 17.2: general interrogation). */
  z.object({ what: z.literal('interrogate') }),
  ...QUESTIONS,
]);
export type Order = z.infer<typeof orderSchema>;

export function orderWords(order: Order): string {
  switch (order.what) {
    case 'identify':
      return 'identify itself';
    case 'interrogate':
      return 'report all values';
    case 'overview':
      return 'tell its setting groups, its logs and what can be replaced';
    case 'attributes':
      return `tell all attributes of ${order.device}`;
    case 'groupValues':
      return `tell group ${order.group} of ${order.device}`;
    case 'useGroup':
      return `use setting group ${order.group} in ${order.device}`;
    case 'setInGroup':
      return `set ${order.reference} to ${order.value} in group ${order.group}`;
    case 'readLog':
      return `give its log ${order.log}`;
    case 'replaceable':
      return `tell what can be replaced in ${order.device}`;
    case 'replace':
      return `show ${order.value} for ${order.reference}`;
    case 'letGo':
      return `let go of ${order.reference}`;
    case 'block':
      return order.on ? `hold ${order.reference}` : `let ${order.reference} change`;
    default:
      return order satisfies never;
  }
}

const CHANGES: ReadonlySet<Order['what']> = new Set(['useGroup', 'setInGroup', 'replace', 'letGo', 'block']);
/** Whether it changes how the device works. */
export const changesDevice = ({ what }: Order): boolean => CHANGES.has(what);
