import { z } from 'zod';

/** What a person may ask of a server beyond its points. */
export const orderSchema = z.discriminatedUnion('what', [
  /** What it says of itself: basic and regular identification (Modbus Application Protocol V1.1b3, 6.21). */
  z.object({ what: z.literal('identify') }),
  /** A request that comes back as it is (6.8, sub-function 00). */
  z.object({ what: z.literal('echo') }),
  /** Its communications begin anew (6.8, sub-function 01). */
  z.object({ what: z.literal('restart') }),
]);
export type Order = z.infer<typeof orderSchema>;

export const ORDER_WORDS: Record<Order['what'], string> = {
  identify: 'identify itself',
  echo: 'echo a request',
  restart: 'begin its communications anew',
};
