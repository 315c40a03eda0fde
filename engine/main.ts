import { CHANNELS, requestSchema } from '@halvix/core/path';
import { readSettings } from '@halvix/core/settings';
import {
  closeInterrupted,
  closeTransfers,
  dropOldJournal,
  makePartitions,
  migrateDatabase,
  openDatabase,
  type Database,
} from '@halvix/db';
import { clock } from '@halvix/wire';
import { serveHealth } from './health.ts';
import { log, reason } from './log.ts';
import { Runtime } from './runtime.ts';
import { engineSettings } from './settings.ts';

const HOUR_MS = 3_600_000;
/** A question about a file that nobody has taken by then has failed. */
const STALE_MS = 30_000;
const JOURNAL_KEPT_MS = 30 * 24 * HOUR_MS;

const settings = readSettings(engineSettings, process.env);
if (!settings.ok) {
  for (const problem of settings.problem) log('error', `setting ${problem}`);
  process.exit(2);
}
const { HALVIX_DATABASE_URL, HALVIX_ENGINE_NAME, HALVIX_ENGINE_HOST, HALVIX_ENGINE_PORT, HALVIX_MIGRATIONS } =
  settings.value;

const database = openDatabase(HALVIX_DATABASE_URL, { connections: 6, name: HALVIX_ENGINE_NAME });
const liveDatabase = openDatabase(HALVIX_DATABASE_URL, {
  connections: 1,
  name: `${HALVIX_ENGINE_NAME} live`,
  relaxed: true,
});
await untilItWorks('prepare the database', async () => {
  await migrateDatabase(database, HALVIX_MIGRATIONS);
  const closed = await closeInterrupted(database, HALVIX_ENGINE_NAME, clock.now());
  if (closed > 0) log('warning', 'commands were interrupted by the last stop; they are not sent again', { closed });
  await closeTransfers(database, HALVIX_ENGINE_NAME, clock.now() - STALE_MS);
  await housekeeping();
});

const runtime = new Runtime(database, liveDatabase, HALVIX_ENGINE_NAME);
const server = serveHealth(HALVIX_ENGINE_HOST, HALVIX_ENGINE_PORT, database, runtime);
await untilItWorks('listen for notifications', () => listen(database));
await untilItWorks('apply the configuration', () => runtime.apply());
log('info', 'engine runs', { name: HALVIX_ENGINE_NAME, revision: runtime.revision });

const timers = [
  setInterval(() => {
    runtime.publisher.heartbeat();
    void runtime.commands.tick();
  }, 1000),
  // A notification that was lost with a connection is made up for.
  setInterval(() => void runtime.apply().catch(() => {}), 5000),
  setInterval(() => void runtime.files.tidy().catch(() => {}), 10_000),
  setInterval(() => void housekeeping().catch(() => {}), HOUR_MS),
];

let stopping = false;
for (const signal of ['SIGTERM', 'SIGINT'] as const)
  process.on(signal, () => {
    if (stopping) return;
    stopping = true;
    void stop();
  });
process.on('unhandledRejection', (error) => log('error', 'unhandled rejection', { reason: reason(error) }));

async function stop(): Promise<void> {
  timers.forEach(clearInterval);
  server.close();
  await runtime.stop();
  await Promise.all([database, liveDatabase].map(({ $client }) => $client.end({ timeout: 2 })));
  process.exit(0);
}

async function listen({ $client }: Database): Promise<void> {
  await $client.listen(CHANNELS.command, () => void runtime.commands.work());
  await $client.listen(
    CHANNELS.revision,
    () =>
      void runtime
        .apply()
        .catch((error: unknown) => log('error', 'a revision was not applied', { reason: reason(error) })),
  );
  await $client.listen(CHANNELS.request, onRequest);
}

function onRequest(payload: string): void {
  let json: unknown;
  try {
    json = JSON.parse(payload);
  } catch {
    return;
  }
  const request = requestSchema.safeParse(json);
  if (!request.success) return;
  switch (request.data.type) {
    case 'watch':
      runtime.publisher.watch(request.data.pointId);
      break;
    case 'watchLink':
      runtime.publisher.watchLink(request.data.link);
      break;
    case 'callNow':
      runtime.links.get(request.data.link)?.call();
      break;
    case 'order':
      runtime.devices.get(request.data.device)?.order(request.data.order, request.data.by);
      break;
    case 'pollNow':
      runtime.devices.get(request.data.device)?.pollNow();
      break;
    case 'resetCounters':
      runtime.devices.get(request.data.device)?.resetCounters();
      break;
    case 'resetOutboundCounters':
      runtime.outbounds.get(request.data.outbound)?.resetCounters();
      break;
    case 'file':
      void runtime.files.begin(request.data);
      break;
    case 'probe':
      void runtime.probes.begin(request.data.id);
      break;
    case 'cancelProbe':
      runtime.probes.cancel(request.data.id);
      break;
    default:
      request.data satisfies never;
  }
}

async function housekeeping(): Promise<void> {
  for (const problem of await makePartitions(database, clock.now(), 4))
    log('warning', 'a day of history has no partition of its own', { reason: problem });
  await dropOldJournal(database, clock.now() - JOURNAL_KEPT_MS);
}

async function untilItWorks(what: string, attempt: () => Promise<unknown>): Promise<void> {
  for (let pause = 250; ; pause = Math.min(5000, pause * 2)) {
    try {
      await attempt();
      return;
    } catch (error) {
      log('error', `cannot ${what}; trying on`, { reason: reason(error), nextTryMs: pause });
      await new Promise((resolve) => setTimeout(resolve, pause));
    }
  }
}
