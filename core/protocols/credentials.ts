import { z } from 'zod';

/** What a device wants to know before it lets anybody at its files. */
export const credentialsSchema = z.object({
  user: z.string().regex(/^[ -~]{0,64}$/, 'A user has at most 64 printable ASCII characters'),
  password: z.string().regex(/^[ -~]{0,64}$/, 'A password has at most 64 printable ASCII characters'),
});
export type Credentials = z.infer<typeof credentialsSchema>;
