import { createHash } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { ROOT, run } from './run.mjs';
import { step } from './say.mjs';

const PROGRAMS = {
  engine: 'engine/main.ts',
  web: 'web/server/main.ts',
  bench: 'bench/main.ts',
  'load-demo': 'scripts/load-demo.ts',
  halvix: 'scripts/halvix.ts',
  'ingest-bench': 'engine/board/ingest.bench.ts',
  'line-bench': 'scripts/measures/line.ts',
  'scale-bench': 'scripts/measures/scale.ts',
  'registers-bench': 'scripts/measures/registers.ts',
  'models-bench': 'scripts/measures/models.ts',
  'agreements-bench': 'scripts/measures/agreements.ts',
  'history-bench': 'scripts/measures/history.ts',
  'owed-bench': 'scripts/measures/owed.ts',
  'flood-bench': 'scripts/measures/flood.ts',
  'quirks-bench': 'scripts/measures/quirks.ts',
  fuzz: 'scripts/measures/fuzz.ts',
};

/**
 * What a build depends on: the names, sizes and contents' times of all sources.
 * @param {string[]} folders
 */
function fingerprint(folders) {
  const hash = createHash('sha256');
  const visit = (/** @type {string} */ path) => {
    for (const entry of readdirSync(path, { withFileTypes: true }).sort((a, b) => (a.name < b.name ? -1 : 1))) {
      const child = join(path, entry.name);
      if (['node_modules', '.svelte-kit', 'dist'].includes(entry.name) || child === join(ROOT, 'web/build')) continue;
      if (entry.isDirectory()) visit(child);
      else if (!/\.test\.ts$/.test(entry.name)) {
        const { size, mtimeMs } = statSync(child);
        hash.update(`${child} ${size} ${mtimeMs}\n`);
      }
    }
  };
  for (const folder of folders) visit(join(ROOT, folder));
  return hash.update(readFileSync(join(ROOT, 'package-lock.json'))).digest('hex');
}

/**
 * @param {string} name
 * @param {string[]} folders
 * @param {string} result
 * @param {() => Promise<unknown>} make
 */
async function whenChanged(name, folders, result, make) {
  const stamp = join(ROOT, 'dist', `.${name}-stamp`);
  const now = fingerprint(folders);
  if (existsSync(join(ROOT, result)) && existsSync(stamp) && readFileSync(stamp, 'utf8') === now) return;
  await step(`building ${name}`, make);
  mkdirSync(join(ROOT, 'dist'), { recursive: true });
  writeFileSync(stamp, now);
}

/** Bundles engine and bench, and builds the web application; each only when its sources changed. */
export async function build({ web = true } = {}) {
  await whenChanged(
    'programs',
    ['core', 'db', 'wire', 'engine', 'bench', 'scripts', 'web/server'],
    'dist/engine.js',
    async () => {
      const { build: bundle } = await import('esbuild');
      await bundle({
        absWorkingDir: ROOT,
        entryPoints: PROGRAMS,
        outdir: 'dist',
        bundle: true,
        platform: 'node',
        format: 'esm',
        target: 'node20',
        sourcemap: true,
        logLevel: 'error',
        external: ['@node-rs/argon2', 'serialport', 'pg-native'],
        // Some packages within are CommonJS and ask for `require`.
        banner: {
          js: "import { createRequire as makeRequire } from 'node:module'; const require = makeRequire(import.meta.url);",
        },
      });
    },
  );
  if (!web) return;
  await whenChanged('web', ['core', 'db', 'web'], 'web/build/index.js', () =>
    run('npm', ['run', 'build', '-w', 'web']),
  );
}
