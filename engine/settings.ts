import { isNetwork } from '@halvix/core/config';
import { databaseSetting, hostSetting, portSetting, secretKeysSetting } from '@halvix/core/settings';
import { z } from 'zod';

export const engineSettings = z.object({
  HALVIX_DATABASE_URL: databaseSetting,
  /** As the tables' owner, for migrations and partitions; without it the same as above. */
  HALVIX_OWNER_URL: databaseSetting.optional(),
  HALVIX_ENGINE_NAME: z
    .string()
    .regex(/^[a-z0-9-]{1,32}$/, 'must be 1 to 32 lower-case letters, digits and hyphens')
    .default('engine-1'),
  /** Where the health and metrics endpoint listens. */
  HALVIX_ENGINE_HOST: hostSetting,
  HALVIX_ENGINE_PORT: portSetting(4601),
  /** Where it keeps what the database cannot take. */
  HALVIX_STATE: z.string().min(1, 'must be a folder').default('.data/engine'),
  /** Below it stand the files that outbounds write; without it `out` in the one above. */
  HALVIX_OUT: z.string().min(1, 'must be a folder').optional(),
  /** How long another engine waits for a sign of life of the one that runs, milliseconds. */
  HALVIX_LEASE_MS: z.coerce.number().int().min(600).max(60_000).default(6000),
  /** Networks in which devices and centres are that it connects to, for tries too; empty: any. Read by `wire`. */
  HALVIX_FIELD_NETWORKS: z
    .string()
    .refine(
      (text) => text.trim() === '' || text.split(',').every((one) => isNetwork(one.trim())),
      'must be addresses and networks like 10.20.0.0/16, with commas between them',
    )
    .default(''),
  HALVIX_SECRETS_KEY_FILE: secretKeysSetting,
  /** Folder of the SQL migrations. */
  HALVIX_MIGRATIONS: z.string().min(1, 'must be a folder').default('db/migrations'),
});
export type EngineSettings = z.infer<typeof engineSettings>;
