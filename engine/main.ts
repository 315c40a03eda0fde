import { CHANNELS, requestSchema } from '@halvix/core/path';
import { readSettings } from '@halvix/core/settings';
import {
  closeDatabase,
  closeInterrupted,
  closeTransfers,
  listen,
  migrateDatabase,
  openDatabase,
  takeWriters,
  useSecretKeys,
} from '@halvix/db';
import { clock } from '@halvix/wire';
import { hostname } from 'node:os';
import { join } from 'node:path';
import { Aside } from './store/aside.ts';
import { Authority } from './store/authority.ts';
import { serveHealth, type Watched } from './told/health.ts';
import { WRITERS } from './store/historian.ts';
import { HistoryKeeper } from './store/keeper.ts';
import { log, reason } from './log.ts';
import { Runtime } from './runtime.ts';
import { engineSettings } from './settings.ts';
import { decodePlace, LAST_RUN, STORED_UP_TO, WaitingFile } from './store/waitingfile.ts';

/** A question about a file that nobody has taken by then has failed. */
const STALE_MS = 30_000;
/** So long the machine's clock has to stand behind ours before that is taken for true. */
const SET_BACK_MS = 3000;
/** Long statements of housekeeping. */
const HOUSEKEEPING_MS = 10 * 60_000;
/** Whoever supervises this process starts it anew: it stands by then. */
const EXIT_LOST_LEASE = 75;
const EXIT_CLOCK_SET_BACK = 76;

// A log that cannot be written is no reason to end.
process.stdout.on('error', () => {});
process.stderr.on('error', () => {});
// What nobody foresaw leaves the process in a state that nobody knows: it ends, and is started anew.
process.on('uncaughtException', (error) => {
  log('error', 'an error that nobody foresaw; ending', { reason: reason(error), stack: error.stack });
  process.exit(1);
});
process.on('unhandledRejection', (error) => log('error', 'unhandled rejection', { reason: reason(error) }));

const settings = readSettings(engineSettings, process.env);
if (!settings.ok) {
  for (const problem of settings.problem) log('error', `setting ${problem}`);
  process.exit(2);
}
const keysProblem = useSecretKeys(settings.value.HALVIX_SECRETS_KEY_FILE);
if (keysProblem !== null) {
  log('error', `setting HALVIX_SECRETS_KEY_FILE (set): ${keysProblem}`);
  process.exit(2);
}
const {
  HALVIX_DATABASE_URL,
  HALVIX_OWNER_URL,
  HALVIX_ENGINE_NAME,
  HALVIX_ENGINE_HOST,
  HALVIX_ENGINE_PORT,
  HALVIX_MIGRATIONS,
  HALVIX_LEASE_MS,
  HALVIX_STATE,
  HALVIX_OUT,
} = settings.value;

const run = `${HALVIX_ENGINE_NAME} ${hostname()}.${process.pid}.${clock.now()}`;
const database = openDatabase(HALVIX_DATABASE_URL, { connections: 6, name: HALVIX_ENGINE_NAME });
const leaseDatabase = openDatabase(HALVIX_DATABASE_URL, {
  connections: 1,
  name: `${HALVIX_ENGINE_NAME} lease`,
  deadlineMs: Math.max(1000, HALVIX_LEASE_MS / 2),
});
const keepingDatabase = openDatabase(HALVIX_OWNER_URL ?? HALVIX_DATABASE_URL, {
  connections: 1,
  name: `${HALVIX_ENGINE_NAME} housekeeping`,
  deadlineMs: HOUSEKEEPING_MS,
});
const liveDatabase = openDatabase(HALVIX_DATABASE_URL, {
  connections: 1,
  name: `${HALVIX_ENGINE_NAME} live`,
  relaxed: true,
});

const ledgerDatabase = openDatabase(HALVIX_DATABASE_URL, {
  connections: 1,
  name: `${HALVIX_ENGINE_NAME} ledger`,
  relaxed: true,
});

function endAtOnce(words: string): void {
  log('error', words);
  process.exit(EXIT_LOST_LEASE);
}

const authority = new Authority(leaseDatabase, { run, name: HALVIX_ENGINE_NAME }, HALVIX_LEASE_MS, () =>
  endAtOnce('another engine has taken over; ending'),
);
const keeper = new HistoryKeeper(keepingDatabase);
const watched: Watched = { authority, runtime: null };
const server = serveHealth(HALVIX_ENGINE_HOST, HALVIX_ENGINE_PORT, watched);

let stopping = false;
let timers: NodeJS.Timeout[] = [];
let stopListening: () => Promise<void> = async () => {};
for (const signal of ['SIGTERM', 'SIGINT'] as const)
  process.on(signal, () => {
    if (stopping) return;
    stopping = true;
    void stop();
  });

await untilItWorks('prepare the database', async () => {
  const { readable } = await migrateDatabase(keepingDatabase, HALVIX_MIGRATIONS);
  if (readable > 0)
    log('warning', 'passwords stand readable in the configuration: set HALVIX_SECRETS_KEY_FILE', {
      passwords: readable,
    });
  await keeper.prepare();
});
await authority.acquire();
const { keeps, marks } = await untilItWorks('take over', async () => {
  const kept = await takeWriters(database, WRITERS, run);
  const closed = await closeInterrupted(database, clock.now());
  if (closed > 0) log('warning', 'commands were interrupted by the last stop; they are not sent again', { closed });
  await closeTransfers(database, null, clock.now() - STALE_MS);
  return kept;
});

const aside = new Aside(HALVIX_STATE);
const file = new WaitingFile(HALVIX_STATE, run);
const wroteFile = file.open(decodePlace(keeps.get(STORED_UP_TO)));
const runtime = new Runtime(
  database,
  liveDatabase,
  ledgerDatabase,
  HALVIX_ENGINE_NAME,
  {
    run,
    keeps,
    file,
    fenced: () => endAtOnce('another engine writes history; ending'),
    refused: (readings, why) => aside.put(readings, why),
  },
  { folder: HALVIX_OUT ?? join(HALVIX_STATE, 'out') },
);
if (wroteFile !== null) {
  // A run of the same engine before this one, unless another engine ran since.
  const lastRan = new TextDecoder().decode(keeps.get(LAST_RUN));
  for (const [device, keep] of await runtime.historian.takeUp(wroteFile === lastRan, marks)) keeps.set(device, keep);
}
runtime.historian.add({
  ...{ device: LAST_RUN, readings: [], keep: new TextEncoder().encode(run), owed: [] },
  ...{ mayDrop: false, confirms: false, stored: () => {} },
});
await untilItWorks('apply the configuration', () => runtime.apply());
watched.runtime = runtime;
stopListening = await listen(HALVIX_DATABASE_URL, `${HALVIX_ENGINE_NAME} listening`, {
  [CHANNELS.command]: () => void runtime.commands.work(),
  [CHANNELS.revision]: () =>
    void runtime
      .apply()
      .catch((error: unknown) => log('error', 'a revision was not applied', { reason: reason(error) })),
  [CHANNELS.request]: onRequest,
});
keeper.start();
log('info', 'engine runs', { name: HALVIX_ENGINE_NAME, revision: runtime.revision });

timers = [
  setInterval(lookAtClock, 1000),
  setInterval(() => {
    runtime.publisher.heartbeat();
    void runtime.commands.tick();
  }, 1000),
  // A notification that was lost with a connection is made up for.
  setInterval(() => void runtime.apply().catch(() => {}), 5000),
  setInterval(() => void runtime.files.tidy().catch(() => {}), 10_000),
];

let stepSaid = 0;
let aheadSince: number | null = null;
/**
 * A clock that was set forward is followed, and said. One that was set back cannot be: what waits for a time would wait for
 * so much longer. Nothing is lost by beginning anew, so that is done.
 */
function lookAtClock(): void {
  const note = (words: string): void => {
    log('warning', words);
    runtime.journal.note(HALVIX_ENGINE_NAME, 'warning', words);
  };
  if (clock.stepMs !== stepSaid)
    note(
      `the machine's clock was set forward by ${Math.round(clock.stepMs / 1000)} s; times by it are marked for a while`,
    );
  stepSaid = clock.stepMs;
  const { aheadMs } = clock;
  if (aheadMs === 0) aheadSince = null;
  else aheadSince ??= performance.now();
  if (aheadSince === null || performance.now() - aheadSince < SET_BACK_MS || stopping) return;
  note(`the machine's clock was set back by ${Math.round(aheadMs / 1000)} s; the engine begins anew`);
  stopping = true;
  // What was noted is published first.
  setTimeout(() => void stop(EXIT_CLOCK_SET_BACK), 1000);
}

async function stop(code = 0): Promise<void> {
  timers.forEach(clearInterval);
  keeper.stop();
  server.close();
  await watched.runtime?.stop();
  await authority.release();
  await stopListening();
  await Promise.all(
    [database, leaseDatabase, keepingDatabase, liveDatabase, ledgerDatabase].map((one) => closeDatabase(one)),
  );
  // Node waits for what the operating system has not answered, and that may be for ever: nothing is lost by not waiting.
  if (watched.runtime?.isCarrying) process.kill(process.pid, 'SIGKILL');
  process.exit(code);
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
    case 'watchDevice':
      runtime.publisher.watchDevice(request.data.device);
      break;
    case 'watchLink':
      runtime.publisher.watchLink(request.data.link);
      break;
    case 'callNow':
      runtime.links.get(request.data.link)?.call?.();
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
    case 'outboundOrder':
      runtime.outbounds.get(request.data.outbound)?.order(request.data);
      break;
    case 'sendPacket':
      void runtime.sendPacket(request.data);
      break;
    case 'sendSpan':
      runtime.sendSpan(request.data);
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

async function untilItWorks<Result>(what: string, attempt: () => Promise<Result>): Promise<Result> {
  for (let pause = 250; ; pause = Math.min(5000, pause * 2)) {
    try {
      return await attempt();
    } catch (error) {
      log('error', `cannot ${what}; trying on`, { reason: reason(error), nextTryMs: pause });
      await new Promise((resolve) => setTimeout(resolve, pause));
    }
  }
}
