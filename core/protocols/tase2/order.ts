import { z } from 'zod';
import { INHIBITS, MOST_REASON, tagWords } from './tags.ts';

/** What a person may ask of a peer beyond its points. */
export const orderSchema = z.discriminatedUnion('what', [
  /** Which version it speaks, which features it has, and the id of its bilateral table. */
  z.object({ what: z.literal('agreement') }),
  /** The tags of what it lets us operate. */
  z.object({ what: z.literal('tags') }),
  /** Sets one, or takes it off; `point`: as its list has it. */
  z.object({
    what: z.literal('tag'),
    point: z.string().max(70),
    inhibits: z.enum(INHIBITS),
    reason: z
      .string()
      .max(MOST_REASON, `A reason has at most ${MOST_REASON} characters`)
      .regex(/^[ -~]*$/, 'A reason has printable ASCII characters only')
      .default(''),
  }),
]);
export type Order = z.infer<typeof orderSchema>;

export function orderWords(order: Order): string {
  switch (order.what) {
    case 'agreement':
      return 'tell its version and its bilateral table';
    case 'tags':
      return 'tell its tags';
    case 'tag':
      return `${order.point}: ${tagWords(order)}`;
    default:
      return order satisfies never;
  }
}
