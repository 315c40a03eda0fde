import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { isRoot, ROOT, run } from './run.mjs';
import { step, Trouble } from './say.mjs';

/** Debian packages, and a file that each of them brings. */
const PACKAGES = {
  'postgresql-15': '/usr/lib/postgresql/15/bin/postgres',
  chromium: '/usr/bin/chromium',
  tshark: '/usr/bin/tshark',
  socat: '/usr/bin/socat',
  openssl: '/usr/bin/openssl',
  mbpoll: '/usr/bin/mbpoll',
  mosquitto: '/usr/sbin/mosquitto',
  'mosquitto-clients': '/usr/bin/mosquitto_sub',
  'python3-pymodbus': '/usr/lib/python3/dist-packages/pymodbus/__init__.py',
  'python3-serial-asyncio': '/usr/lib/python3/dist-packages/serial_asyncio/__init__.py',
};

/** @param {(keyof typeof PACKAGES)[]} wanted */
export async function installDebian(wanted) {
  const missing = wanted.filter((name) => !existsSync(PACKAGES[name]));
  if (missing.length === 0) return;
  if (!existsSync('/usr/bin/apt-get'))
    throw new Trouble(`Missing: ${missing.join(', ')}. This is not Debian, so please install them yourself.`);
  const admin = isRoot ? [] : ['sudo'];
  // In that run level nothing that is installed is started: servers are here to be started by tests.
  const env = ['env', 'DEBIAN_FRONTEND=noninteractive', 'RUNLEVEL=1'];
  const apt = (/** @type {string[]} */ ...args) => {
    const [command, ...rest] = [...admin, ...env, 'apt-get', ...args];
    return run(command, rest);
  };
  await step(`installing ${missing.join(', ')}`, async () => {
    await apt('update', '-qq');
    if (missing.includes('postgresql-15')) {
      // Debian makes and starts a database cluster of its own on installation, unless it is told not to.
      await apt('install', '-y', '-qq', '--no-install-recommends', 'postgresql-common');
      const conf = '/etc/postgresql-common/createcluster.conf';
      const [command, ...rest] = [
        ...admin,
        'sh',
        '-c',
        `grep -q '^create_main_cluster = false' ${conf} || echo 'create_main_cluster = false' >> ${conf}`,
      ];
      await run(command, rest);
    }
    await apt('install', '-y', '-qq', '--no-install-recommends', ...missing);
  });
}

/** Installs the npm packages of the lock file, when they are not those already there. */
export async function installNpm() {
  const lock = createHash('sha256')
    .update(readFileSync(join(ROOT, 'package-lock.json')))
    .digest('hex');
  const stamp = join(ROOT, 'node_modules', '.halvix-lock');
  if (existsSync(stamp) && readFileSync(stamp, 'utf8') === lock) return;
  await step('installing npm packages', () => run('npm', ['ci', '--no-audit', '--no-fund']));
  mkdirSync(join(ROOT, 'node_modules'), { recursive: true });
  writeFileSync(stamp, lock);
}
