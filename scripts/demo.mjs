import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { build } from './lib/build.mjs';
import { installDebian, installNpm } from './lib/install.mjs';
import { requireFree } from './lib/ports.mjs';
import { dataFolder, Postgres } from './lib/postgres.mjs';
import { isAlive } from './lib/run.mjs';
import { fail, say, step, Trouble } from './lib/say.mjs';
import { DEMO_PORTS, System } from './lib/system.mjs';

const SIGN_INS = [
  ['viewer', 'viewer-demo'],
  ['operator', 'operator-demo'],
  ['engineer', 'engineer-demo'],
];

const home = dataFolder('demo');
const lock = join(home, 'lock.json');
const reset = process.argv.includes('--reset');
const postgres = new Postgres(join(home, 'postgres'), DEMO_PORTS.postgres, { durable: true });
/** @type {System | null} */
let system = null;
let haveLock = false;
let stopping = false;

/** One run at a time; what a killed run left behind is stopped, for it is ours. */
function takeLock() {
  mkdirSync(home, { recursive: true });
  if (existsSync(lock)) {
    const { pid, children } = JSON.parse(readFileSync(lock, 'utf8'));
    if (isAlive(pid) && commandOf(pid).includes('demo.mjs'))
      throw new Trouble(
        `The data folder ${home} is used by another run of the demo (process ${pid}). Stop that one first.`,
      );
    for (const child of children) if (isAlive(child) && isOurs(child)) process.kill(child, 'SIGKILL');
  }
  writeFileSync(lock, JSON.stringify({ pid: process.pid, children: [] }));
  haveLock = true;
}

/** @param {number} pid */
function commandOf(pid) {
  try {
    return readFileSync(`/proc/${pid}/cmdline`, 'utf8').replaceAll('\0', ' ');
  } catch {
    return '';
  }
}

/** @param {number} pid */
const isOurs = (pid) => /(dist\/(engine|bench)|web\/build\/index)\.js/.test(commandOf(pid));

/** @param {number} code */
async function stop(code) {
  if (stopping) return;
  stopping = true;
  await system?.stopAll();
  await postgres.stop();
  if (haveLock) rmSync(lock, { force: true });
  process.exit(code);
}

for (const signal of /** @type {const} */ (['SIGINT', 'SIGTERM', 'SIGHUP']))
  process.on(signal, () => {
    say('\nstopping …');
    void stop(0);
  });

try {
  say('Halvix demo');
  takeLock();
  await installDebian(['postgresql-15']);
  await installNpm();
  await build();
  if (reset) await step('beginning anew', () => postgres.reset());
  await postgres.recover();
  await requireFree(DEMO_PORTS);
  await step('starting PostgreSQL', () => postgres.start());
  system = new System({ databaseUrl: postgres.url(), ports: DEMO_PORTS, logs: join(home, 'logs') });
  await step('loading the demo configuration', () => /** @type {System} */ (system).loadDemo());
  for (const name of /** @type {const} */ (['bench', 'engine', 'web']))
    await step(`starting ${name}`, async () => {
      const started = /** @type {System} */ (system).start(name);
      const children = [...(system?.processes.values() ?? [])].map(({ child }) => child.pid);
      writeFileSync(lock, JSON.stringify({ pid: process.pid, children }));
      void started.ended.then((code) => {
        if (stopping) return;
        say(`${name} ended with ${code}; see ${started.logFile}`);
        void stop(1);
      });
      await system?.waitFor(name);
    });
  say(`\nHalvix runs at http://127.0.0.1:${DEMO_PORTS.web}\n`);
  for (const [name, password] of SIGN_INS) say(`  sign in as ${name.padEnd(10)} with ${password}`);
  say(
    `\nBench control: http://127.0.0.1:${DEMO_PORTS.bench}/devices   Logs: ${join(home, 'logs')}\nCtrl-C stops everything.`,
  );
} catch (error) {
  fail(error);
  await stop(1);
}
