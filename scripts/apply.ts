import { readConfiguration } from '@halvix/core/config';
import { databaseSetting, readSettings } from '@halvix/core/settings';
import { applyConfiguration, migrateDatabase, openDatabase } from '@halvix/db';
import { readFileSync } from 'node:fs';
import { z } from 'zod';

/** `apply FILE`: checks a configuration document and makes it the newest revision. */
const settings = readSettings(
  z.object({ HALVIX_DATABASE_URL: databaseSetting, HALVIX_MIGRATIONS: z.string().min(1).default('db/migrations') }),
  process.env,
);
const [, , file] = process.argv;
if (!settings.ok || file === undefined) {
  process.stderr.write(`${settings.ok ? 'usage: apply FILE' : settings.problem.join('\n')}\n`);
  process.exit(2);
}
let document: unknown;
try {
  document = JSON.parse(readFileSync(file, 'utf8'));
} catch (error) {
  process.stderr.write(`${file}: ${error instanceof Error ? error.message : String(error)}\n`);
  process.exit(1);
}
const configuration = readConfiguration(document);
if (!configuration.ok) {
  for (const { where, words } of configuration.problem) process.stderr.write(`${where}: ${words}\n`);
  process.exit(1);
}
const database = openDatabase(settings.value.HALVIX_DATABASE_URL, { connections: 2, name: 'apply' });
await migrateDatabase(database, settings.value.HALVIX_MIGRATIONS);
const revision = await applyConfiguration(database, configuration.value, 'command line', file);
process.stdout.write(`revision ${revision} applied\n`);
await database.$client.end();
