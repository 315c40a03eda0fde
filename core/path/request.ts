import '../words/index.ts';
import { credentialsSchema, orderSchema } from '../protocols/index.ts';
import { z } from 'zod';

/** PostgreSQL notification channels. */
export const CHANNELS = {
  /** Something in latest, hop_state, trail, command or journal changed. */
  live: 'halvix_live',
  command: 'halvix_command',
  revision: 'halvix_revision',
  request: 'halvix_request',
  /** Something in the draft changed. */
  draft: 'halvix_draft',
} as const;

/** What a person may ask of an engine through the web. */
const PERSONAL = [
  z.object({ type: z.literal('pollNow'), device: z.string() }),
  /** Of a link that is made on demand. */
  z.object({ type: z.literal('callNow'), link: z.string() }),
  z.object({ type: z.literal('order'), device: z.string(), order: orderSchema, by: z.string() }),
  z.object({ type: z.literal('resetCounters'), device: z.string() }),
  z.object({ type: z.literal('resetOutboundCounters'), outbound: z.string() }),
  z.object({
    type: z.literal('outboundOrder'),
    outbound: z.string(),
    order: z.string().max(64),
    text: z.string().max(2000, 'A text has at most 2000 characters').default(''),
    by: z.string(),
  }),
  /** A packet is to go to its destination once more, as it went. */
  z.object({
    type: z.literal('sendPacket'),
    outbound: z.string(),
    packet: z.number().int('A packet is a whole number').min(0, 'A packet is at least 0'),
    by: z.string(),
  }),
  /** What history has of a span is to go there once more, as new values. */
  z.object({
    type: z.literal('sendSpan'),
    outbound: z.string(),
    from: z.number().int('must be milliseconds since 1970'),
    to: z.number().int('must be milliseconds since 1970'),
    by: z.string(),
  }),
] as const;
export const personalRequestSchema = z.discriminatedUnion('type', PERSONAL);

/** What the web asks of whichever engine has the device; sent as a notification, at most once, no answer. */
export const requestSchema = z.discriminatedUnion('type', [
  ...PERSONAL,
  z.object({ type: z.literal('watch'), pointId: z.number().int() }),
  z.object({ type: z.literal('watchLink'), link: z.string() }),
  z.object({ type: z.literal('watchDevice'), device: z.string() }),
  /** A probe row waits. */
  z.object({ type: z.literal('probe'), id: z.string() }),
  z.object({ type: z.literal('cancelProbe'), id: z.string() }),
  /** A row about a device's files waits; what the device wants to know is said here and kept nowhere. */
  z.object({ type: z.literal('file'), id: z.string(), as: credentialsSchema.optional() }),
]);
export type EngineRequest = z.infer<typeof requestSchema>;
