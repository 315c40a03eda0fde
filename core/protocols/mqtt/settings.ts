import '../../words/index.ts';
import { z } from 'zod';
import { publishingShape, whole, type PublishingLimits } from '../publishing/settings.ts';

export const LIMITS: PublishingLimits = { mostValues: [1000, 100] };

// eslint-disable-next-line no-control-regex
const CONTROL = /[\u0000-\u001f\u007f-\u009f<>]/;
const text = (what: string, most: number): z.ZodString =>
  z
    .string({ error: `${what} is a text` })
    .max(most, `${what} has at most ${most} characters`)
    .refine((value) => !CONTROL.test(value), `${what} has no < or > and no control characters`);

/** A topic to which something is published: no wildcards (MQTT 5.0, 4.7). */
export const topicName = (what: string): z.ZodString =>
  text(what, 200).refine(
    (value) => !/[+#]/.test(value),
    `${what} has no + and no #: nothing is published to wildcards`,
  );

const common = {
  /** 5.0, or 3.1.1 as it is called on the wire. */
  version: z.enum(['5', '3.1.1']).default('5'),
  /** By which the broker knows us: of two with the same, each ends the other's connection. */
  clientId: text('A client id', 100).min(1, 'A client id has at least 1 character').default('halvix'),
  user: text('A user', 200).default(''),
  password: z.string().max(500, 'A password has at most 500 characters').default(''),
  keepAliveS: whole('The keep-alive', 0, 65_535).default(60),
  /** What the broker says to others when our connection ends without a goodbye; an empty topic: nothing. */
  willTopic: topicName('The topic of the last words').default(''),
  willText: text('The text of the last words', 1000).default('offline'),
  willRetain: z.boolean().default(true),
  /** What is said to the same topic once we are in; empty: nothing. */
  onlineText: text('The text once connected', 1000).default('online'),
};

/** Settings of our publishing client. */
export const publisherSettings = z.object({
  ...common,
  /** Whether the broker keeps the last message of each topic for whoever comes later. */
  retain: z.boolean().default(false),
  ...publishingShape(LIMITS),
});
export type PublisherSettings = z.infer<typeof publisherSettings>;
