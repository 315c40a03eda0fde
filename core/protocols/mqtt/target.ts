import { z } from 'zod';
import type { AddressText, TargetAddressing } from '../definition.ts';
import { topicName, type PublisherSettings } from './settings.ts';

export const targetAtSchema = z.object({
  protocol: z.literal('mqtt'),
  topic: topicName('A topic').min(1, 'A topic has at least 1 character'),
  /** By which the receiver knows the point in the message. */
  name: z
    .string()
    .min(1, 'A name has at least 1 character')
    .max(200, 'A name has at most 200 characters')
    // eslint-disable-next-line no-control-regex
    .regex(/^[^\u0000-\u001f\u007f<>]*$/, 'A name has no < or > and no control characters'),
});
export type BrokerTargetAt = z.infer<typeof targetAtSchema>;

/** A topic to which is published has no such sign, so that one text says both. */
const APART = '#';
export const printed = ({ topic, name }: { topic: string; name: string }): string => `${topic}${APART}${name}`;
export function placeOf(address: string): { topic: string; name: string } {
  const at = address.indexOf(APART);
  return { topic: address.slice(0, at), name: address.slice(at + 1) };
}

/** What somebody typed, without what no topic and no name has. */
// eslint-disable-next-line no-control-regex
const plain = (text: string): string => text.replace(/[\u0000-\u001f\u007f-\u009f<>]/g, '').trim();
const USUAL = 'halvix/{device}';

const inOrder = (text: string): string => text.replace(/\d+/g, (digits) => digits.padStart(6, '0'));

export const address: AddressText<BrokerTargetAt> = {
  print: ({ at }) => printed(at),
  // Numbers in names in their order.
  sort: ({ at }) => inOrder(printed(at)),
};

/** Names, not numbers: each is a series of its own. */
export const targets: TargetAddressing<BrokerTargetAt, PublisherSettings> = {
  at: targetAtSchema,
  series: ({ at }) => printed(at),
  number: () => 0,
  width: () => 1,
  highest: Number.MAX_SAFE_INTEGER,
  propose: (kind, number, _value, { topic = '' }, source) => {
    const device = source?.device ?? 'points';
    const said = plain(topic.replace(/[+#]/g, ''));
    return targetAtSchema.parse({
      protocol: 'mqtt',
      topic: (said === '' ? USUAL : said).replaceAll('{device}', device).slice(0, 200),
      name: plain(source?.point ?? `${kind} ${number}`).slice(0, 200),
    });
  },
  ruleFields: [{ path: 'topic', title: 'Topic', type: 'text', help: `north/{device}; empty: ${USUAL}` }],
  misfit: () => null,
  problems: () => [],
  words: () => 'JSON',
  fields: [
    { path: 'topic', title: 'Topic', type: 'text', help: 'levels set apart by /' },
    { path: 'name', title: 'Name', type: 'text', help: 'in the message' },
  ],
  sheet: [
    { title: 'Topic', text: ({ at }) => at.topic },
    { title: 'Name', text: ({ at }) => at.name },
  ],
};
