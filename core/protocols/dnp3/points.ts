import { z } from 'zod';
import { addressWords, kindOf, kindRank } from '../../point/index.ts';
import type { Placed, PointAddressing } from '../definition.ts';
import { pointIndex } from './address.ts';
import { SETPOINT_FORMS, type SetpointForm } from './control.ts';

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

export const addressing: PointAddressing<Dnp3At, Dnp3DraftAt, Dnp3TargetAt> = {
  protocol: 'dnp3',
  at: pointAtSchema,
  draftAt: draftAtSchema,
  targetAt: targetAtSchema,
  print: ({ kind, at }) => (at.index === null ? '' : addressWords(kind, at.index)),
  parse,
  sort: ({ kind, at }) => `${kindRank(kind)} ${at.index === null ? '~' : String(at.index).padStart(5, '0')}`,
};
