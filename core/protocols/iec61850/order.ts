import { z } from 'zod';

/** What a person may ask of a device beyond its points and files. */
export const orderSchema = z.discriminatedUnion('what', [
  /** What it says of itself (ISO 9506-2, 10.5). */
  z.object({ what: z.literal('identify') }),
  /** All values that are reported, at once (IEC 61850-7-2, 17.2: general interrogation). */
  z.object({ what: z.literal('interrogate') }),
]);
export type Order = z.infer<typeof orderSchema>;

export const ORDER_WORDS: Record<Order['what'], string> = {
  identify: 'identify itself',
  interrogate: 'report all values',
};
