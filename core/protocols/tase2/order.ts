import { z } from 'zod';

/** What a person may ask of a peer beyond its points. */
export const orderSchema = z.discriminatedUnion('what', [
  /** Which version it speaks, which features it has, and the id of its bilateral table. */
  z.object({ what: z.literal('agreement') }),
]);
export type Order = z.infer<typeof orderSchema>;

export const orderWords = (_order: Order): string => 'tell its version and its bilateral table';
