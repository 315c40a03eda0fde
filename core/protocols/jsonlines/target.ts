import { z } from 'zod';
import type { AddressText, TargetAddressing } from '../definition.ts';
import type { LinesSettings } from './settings.ts';

export const targetAtSchema = z.object({
  protocol: z.literal('jsonlines'),
  /** By which the receiver knows the point: `HLM-F1/AI 7`. */
  name: z
    .string()
    .min(1, 'A name has at least 1 character')
    .max(200, 'A name has at most 200 characters')
    // eslint-disable-next-line no-control-regex
    .regex(/^[^\u0000-\u001f\u007f<>]*$/, 'A name has no < or > and no control characters'),
});
export type LinesTargetAt = z.infer<typeof targetAtSchema>;

export const address: AddressText<LinesTargetAt> = {
  print: ({ at }) => at.name,
  // Numbers in names in their order.
  sort: ({ at }) => at.name.replace(/\d+/g, (digits) => digits.padStart(6, '0')),
};

/** Names, not numbers: each is a series of its own. */
export const targets: TargetAddressing<LinesTargetAt, LinesSettings> = {
  at: targetAtSchema,
  series: ({ at }) => at.name,
  number: () => 0,
  width: () => 1,
  highest: Number.MAX_SAFE_INTEGER,
  propose: (kind, number, _value, { prefix = '' }, source) => {
    const own = source ? `${source.device}/${source.point}` : `${kind} ${number}`;
    return targetAtSchema.parse({
      protocol: 'jsonlines',
      name: `${prefix.trim()}${own}`.replace(/[<>]/g, '').slice(0, 200),
    });
  },
  ruleFields: [{ path: 'prefix', title: 'Names begin with', type: 'text', help: 'north/ gives north/HLM-F1/AI 7' }],
  misfit: () => null,
  problems: () => [],
  words: () => 'line',
  fields: [{ path: 'name', title: 'Name', type: 'text' }],
  sheet: [{ title: 'Name', text: ({ at }) => at.name }],
};
