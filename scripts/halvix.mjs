import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { spawnSync } from 'node:child_process';
import { build } from './lib/build.mjs';
import { installNpm } from './lib/install.mjs';
import { dataFolder } from './lib/postgres.mjs';
import { ROOT } from './lib/run.mjs';
import { fail } from './lib/say.mjs';
import { DEMO_PORTS, secretsKeyFile } from './lib/system.mjs';

/*
 * `npm run halvix -- COMMAND`: the configuration from the command line. Without HALVIX_DATABASE_URL it speaks to the
 * demo's database. What it says of its own set-up goes to standard error.
 */
const output = process.stdout.write.bind(process.stdout);
process.stdout.write = /** @type {any} */ (process.stderr.write.bind(process.stderr));
try {
  await installNpm();
  await build({ web: false });
  const secret = join(dataFolder('demo/postgres'), 'password');
  const demo = existsSync(secret)
    ? {
        HALVIX_DATABASE_URL: `postgres://halvix:${readFileSync(secret, 'utf8')}@127.0.0.1:${DEMO_PORTS.postgres}/halvix`,
        HALVIX_SECRETS_KEY_FILE: secretsKeyFile(join(dataFolder('demo'), 'logs')),
      }
    : {};
  const { status, stdout, stderr } = spawnSync(
    process.execPath,
    ['--enable-source-maps', join(ROOT, 'dist/halvix.js'), ...process.argv.slice(2)],
    { env: { HALVIX_MIGRATIONS: join(ROOT, 'db/migrations'), ...demo, ...process.env }, maxBuffer: 1 << 30 },
  );
  process.stderr.write(stderr);
  output(stdout);
  process.exitCode = status ?? 1;
} catch (error) {
  fail(error);
}
