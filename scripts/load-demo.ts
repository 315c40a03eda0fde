import { checkConfiguration } from '@halvix/core/config';
import { portSetting, readSettings, databaseSetting } from '@halvix/core/settings';
import { addAccount, applyConfiguration, migrateDatabase, newestRevision, openDatabase } from '@halvix/db';
import { hash } from '@node-rs/argon2';
import { z } from 'zod';
import { DEMO_PORTS, demoConfiguration } from '../bench/scenario/configuration.ts';

/** The demo's accounts: made-up people with passwords that everybody knows. */
const ACCOUNTS = [
  { name: 'viewer', role: 'viewer', password: 'viewer-demo' },
  { name: 'operator', role: 'operator', password: 'operator-demo' },
  { name: 'engineer', role: 'engineer', password: 'engineer-demo' },
] as const;

/** Of the Modbus servers; 0: the demo without them. */
const optionalPort = z.coerce.number().int().min(0).max(65_535).default(0);
const settings = readSettings(
  z.object({
    HALVIX_DATABASE_URL: databaseSetting,
    HALVIX_MIGRATIONS: z.string().min(1),
    HALVIX_BENCH_RELAY_PORT: portSetting(DEMO_PORTS.relay),
    HALVIX_BENCH_RELAY2_PORT: portSetting(DEMO_PORTS.relay2),
    HALVIX_BENCH_STATIONS: z.enum(['all', 'relays']).default('all'),
    HALVIX_BENCH_RADIO_PORT: portSetting(DEMO_PORTS.radio),
    HALVIX_BENCH_LOGGER_PORT: portSetting(DEMO_PORTS.logger),
    HALVIX_BENCH_FLOW_PORT: optionalPort,
    HALVIX_BENCH_MONITOR_PORT: optionalPort,
    HALVIX_BENCH_METERS_PORT: optionalPort,
    HALVIX_BENCH_BAY_PORT: optionalPort,
    HALVIX_BENCH_PARK_PORT: optionalPort,
    HALVIX_BENCH_MODEL_PORT: optionalPort,
    HALVIX_BENCH_NORTHMARK_PORT: optionalPort,
    HALVIX_BENCH_CALDMERE_PORT: optionalPort,
    HALVIX_BENCH_AGREEMENT_PORT: optionalPort,
    HALVIX_BENCH_QUILLSTONE_PORT: portSetting(DEMO_PORTS.quillstone),
    HALVIX_BENCH_AMBRY_PORT: portSetting(DEMO_PORTS.ambry),
  }),
  process.env,
);
if (!settings.ok) {
  process.stderr.write(`${settings.problem.join('\n')}\n`);
  process.exit(2);
}

const database = openDatabase(settings.value.HALVIX_DATABASE_URL, { connections: 2, name: 'load-demo' });
await migrateDatabase(database, settings.value.HALVIX_MIGRATIONS);
for (const { name, role, password } of ACCOUNTS)
  await addAccount(database, name, role, await hash(password), Date.now());
if ((await newestRevision(database)) === null) {
  const configuration = demoConfiguration({
    relay: settings.value.HALVIX_BENCH_RELAY_PORT,
    relay2: settings.value.HALVIX_BENCH_RELAY2_PORT,
    ...(settings.value.HALVIX_BENCH_STATIONS === 'all'
      ? { radio: settings.value.HALVIX_BENCH_RADIO_PORT, logger: settings.value.HALVIX_BENCH_LOGGER_PORT }
      : {}),
    flow: settings.value.HALVIX_BENCH_FLOW_PORT,
    monitor: settings.value.HALVIX_BENCH_MONITOR_PORT,
    meters: settings.value.HALVIX_BENCH_METERS_PORT,
    bay: settings.value.HALVIX_BENCH_BAY_PORT,
    park: settings.value.HALVIX_BENCH_PARK_PORT,
    model: settings.value.HALVIX_BENCH_MODEL_PORT,
    northmark: settings.value.HALVIX_BENCH_NORTHMARK_PORT,
    caldmere: settings.value.HALVIX_BENCH_CALDMERE_PORT,
    agreement: settings.value.HALVIX_BENCH_AGREEMENT_PORT,
    quillstone: settings.value.HALVIX_BENCH_QUILLSTONE_PORT,
    ambry: settings.value.HALVIX_BENCH_AMBRY_PORT,
  });
  const problem = checkConfiguration(configuration).find(({ severity }) => severity === 'problem');
  if (problem !== undefined) throw new Error(`${problem.where}: ${problem.words}`);
  await applyConfiguration(database, configuration, 'demo', 'demo configuration');
}
await database.$client.end();
