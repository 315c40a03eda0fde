import { z } from 'zod';
import { OPERATIONS } from '../point/index.ts';

/**
 * The life of a command row:
 *
 *   requested ──▶ claimed ──▶ operated ──▶ confirmed | unconfirmed
 *       │            ├──▶ refused      the device said no, with its status
 *       │            ├──▶ failed       nothing was operated
 *       │            ├──▶ unknown      sent, and no answer came
 *       │            └──▶ interrupted  the engine stopped meanwhile; never sent again
 *       └──▶ expired                   nobody took it in time
 *
 * operated without a feedback point, and selected alone (a centre's select), are ends too.
 */
export const COMMAND_STATES = [
  'requested',
  'claimed',
  'operated',
  'selected',
  'confirmed',
  'unconfirmed',
  'refused',
  'failed',
  'unknown',
  'interrupted',
  'expired',
] as const;
export type CommandState = (typeof COMMAND_STATES)[number];

/** States after which more is to come, given a feedback point. */
export const COMMAND_OPEN: readonly CommandState[] = ['requested', 'claimed'];

/** How people order a binary control; a select alone is a centre's. */
export const ORDER_MODES = ['selectOperate', 'direct', 'directNoAnswer'] as const;

const order = {
  /** Made by whoever orders; the same one twice is the same command. */
  id: z.uuid(),
  pointId: z.number().int().positive(),
  mode: z.enum(ORDER_MODES),
};

/** A binary control as a person orders it. */
const operateSchema = z.object({
  ...order,
  operation: z.enum(OPERATIONS),
  onMs: z.number().int().min(0, 'The on time is at least 0 ms').max(600_000, 'The on time is at most 600 000 ms'),
  offMs: z.number().int().min(0, 'The off time is at least 0 ms').max(600_000, 'The off time is at most 600 000 ms'),
  count: z.number().int().min(1, 'The count is at least 1').max(255, 'The count is at most 255'),
});

/** An analog output as a person sets it. */
const setSchema = z.object({
  ...order,
  operation: z.literal('set'),
  /** In the point's unit. */
  value: z.number('The value is a number'),
});

/** A text as a person writes it. */
const writeSchema = z.object({
  ...order,
  operation: z.literal('write'),
  text: z.string('The text is a text').max(255, 'The text has at most 255 characters'),
});

export const commandOrderSchema = z.discriminatedUnion('operation', [operateSchema, setSchema, writeSchema]);
export type CommandOrder = z.infer<typeof commandOrderSchema>;
