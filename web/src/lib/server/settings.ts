import { building } from '$app/environment';
import { databaseSetting, readSettings, secretKeysSetting } from '@halvix/core/settings';
import { useSecretKeys } from '@halvix/db';
import { z } from 'zod';

const settings = readSettings(
  z.object({
    HALVIX_DATABASE_URL: databaseSetting,
    HALVIX_SECRETS_KEY_FILE: secretKeysSetting,
    /** Origin that people use, e.g. https://halvix.example: with https the session cookie is sent only there. */
    HALVIX_WEB_ORIGIN: z
      .string()
      .regex(/^https?:\/\/[^/\s]+$/, 'must be like http://127.0.0.1:4600, without a path')
      .default('http://127.0.0.1:4600'),
    /** The bench's control, where one runs; its screen is empty without it. */
    HALVIX_BENCH_URL: z
      .string()
      .regex(/^(https?:\/\/[^/\s]+)?$/, 'must be like http://127.0.0.1:4602, without a path')
      .default(''),
    /** The engine's health endpoint: asked when the engine has written nothing for a while. */
    HALVIX_ENGINE_URL: z
      .string()
      .regex(/^https?:\/\/[^/\s]+$/, 'must be like http://127.0.0.1:4601, without a path')
      .default(`http://127.0.0.1:${process.env.HALVIX_ENGINE_PORT ?? 4601}`),
    HALVIX_SESSION_HOURS: z.coerce
      .number({ error: 'must be a number of hours' })
      .min(0.1, 'must be at least 0.1 hours')
      .max(720, 'must be at most 720 hours')
      .default(12),
    HALVIX_SESSION_IDLE_MINUTES: z.coerce
      .number({ error: 'must be a number of minutes' })
      .min(1, 'must be at least 1 minute')
      .max(43_200, 'must be at most 43200 minutes')
      .default(120),
    /** What the first account is made with, once; without it the web makes one and prints it. */
    HALVIX_SETUP_SECRET: z.string().max(200, 'must have at most 200 characters').default(''),
  }),
  // A build looks at the routes without running them.
  building ? { HALVIX_DATABASE_URL: 'postgres://none' } : process.env,
);

if (!settings.ok) {
  for (const problem of settings.problem) process.stderr.write(`setting ${problem}\n`);
  process.exit(2);
}

const keysProblem = useSecretKeys(settings.value.HALVIX_SECRETS_KEY_FILE);
if (keysProblem !== null) {
  process.stderr.write(`setting HALVIX_SECRETS_KEY_FILE (set): ${keysProblem}\n`);
  process.exit(2);
}

export const webSettings = settings.value;
