import { z } from 'zod';
import { publishingShape, type PublishingLimits } from '../publishing/settings.ts';

/** Names of files below one folder: no way out of it, and none that hide. */
const FILE = /^[A-Za-z0-9][A-Za-z0-9._-]*(\/[A-Za-z0-9][A-Za-z0-9._-]*)*$/;
export const LIMITS: PublishingLimits = { mostValues: [10_000, 1000] };

export const settings = z.object({
  file: z
    .string({ error: 'A file name is a text' })
    .max(200, 'A file name has at most 200 characters')
    .regex(
      FILE,
      'A file name has letters, digits, points, hyphens and underscores; folders are set apart by /, and each begins with a letter or digit',
    ),
  ...publishingShape(LIMITS),
});
export type LinesSettings = z.infer<typeof settings>;
