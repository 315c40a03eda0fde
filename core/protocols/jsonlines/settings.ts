import { z } from 'zod';

/** Names of files below one folder: no way out of it, and none that hide. */
const FILE = /^[A-Za-z0-9][A-Za-z0-9._-]*(\/[A-Za-z0-9][A-Za-z0-9._-]*)*$/;
const whole = (what: string, low: number, high: number): z.ZodNumber =>
  z
    .number({ error: `${what} is a number` })
    .int(`${what} is a whole number`)
    .min(low, `${what} is at least ${low}`)
    .max(high, `${what} is at most ${high}`);

export const settings = z.object({
  file: z
    .string({ error: 'A file name is a text' })
    .max(200, 'A file name has at most 200 characters')
    .regex(
      FILE,
      'A file name has letters, digits, points, hyphens and underscores; folders are set apart by /, and each begins with a letter or digit',
    ),
  /** Values of so long are written at once, milliseconds; 0: each as soon as it can be. */
  afterMs: whole('The time until it is written', 0, 3_600_000).default(1000),
  mostValues: whole('The number of values written at once', 1, 10_000).default(1000),
  /** Beyond it the oldest are dropped. */
  mostWaiting: whole('The number of values that may wait', 1000, 1_000_000).default(100_000),
});
export type LinesSettings = z.infer<typeof settings>;
