import { z } from 'zod';
import { credentialsSchema } from '../protocols/index.ts';

/** What a person asks about a device's files. */
export const fileOrderSchema = z.object({
  /** Made by whoever asks; the same one twice is the same question. */
  id: z.uuid(),
  device: z.string().max(24),
  what: z.enum(['directory', 'readFile', 'deleteFile']),
  /** Empty: the uppermost directory. */
  name: z.string().regex(/^[ -~]{0,200}$/, 'A file name has at most 200 printable ASCII characters'),
  /** Handed to the device and kept nowhere. */
  as: credentialsSchema.optional(),
});
export type FileOrderRequest = z.infer<typeof fileOrderSchema>;

/** The entries of a directory as they are kept. */
export const fileEntriesSchema = z.array(
  z.object({ name: z.string(), isDirectory: z.boolean(), size: z.number(), time: z.number() }),
);
