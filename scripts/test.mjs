import { existsSync, mkdirSync, readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { build } from './lib/build.mjs';
import { installDebian, installNpm } from './lib/install.mjs';
import { ROOT, run } from './lib/run.mjs';
import { fail, say, step } from './lib/say.mjs';

/**
 * Everything that must hold; all of it runs even when a part fails. What is independent runs side by side: most of the time
 * whole systems wait for each other.
 */
const results = join(ROOT, 'test-results');
let failed = 0;
let passed = 0;

/** @param {string} words @param {string} command @param {string[]} args */
async function check(words, command, args) {
  const began = Date.now();
  const { code, output } = await run(command, args, { allowFailure: true });
  // In one piece: others run beside it.
  say(`\n── ${words}, ${Math.round((Date.now() - began) / 1000)} s\n${output.trimEnd()}`);
  if (code !== 0) say(`── ${words}: failed`);
  return code === 0;
}

/** @param {string} words @param {string} command @param {string[]} args */
async function plain(words, command, ...args) {
  if (await check(words, command, args)) passed++;
  else failed++;
}

/**
 * @param {string} name
 * @param {string[]} projects
 * @param {string[]} [more]
 */
async function vitest(name, projects, more = []) {
  const file = join(results, `${name}.json`);
  const good = await check(`${name} tests`, 'npx', [
    ...['vitest', 'run', ...projects.map((project) => `--project=${project}`)],
    ...['--reporter=default', '--reporter=json', `--outputFile=${file}`, ...more],
  ]);
  count(good, file, (json) => [json.numPassedTests, json.numFailedTests]);
}

/** Whole-system tests that run after the browser's, beside the others: both ways take about as long. */
const AFTER_BROWSER = ['database', 'dissector', 'faults', 'impairments', 'modbus', 'stations', 'supervision'];
const systemFile = (/** @type {string} */ name) => `e2e/system/${name}.test.ts`;

/**
 * @param {boolean} good
 * @param {string} file
 * @param {(json: any) => [number, number]} numbers
 */
function count(good, file, numbers) {
  const [yes, no] = existsSync(file) ? numbers(JSON.parse(readFileSync(file, 'utf8'))) : [0, 0];
  passed += yes;
  failed += good ? no : Math.max(1, no);
}

try {
  await installDebian([
    'postgresql-15',
    'chromium',
    'tshark',
    'socat',
    'openssl',
    'mbpoll',
    'mosquitto',
    'mosquitto-clients',
    'python3-pymodbus',
    'python3-serial-asyncio',
  ]);
  await installNpm();
  rmSync(results, { recursive: true, force: true });
  mkdirSync(results, { recursive: true });
  const statics = async () => {
    await plain('format', 'npx', 'prettier', '--check', '.');
    await plain('lint', 'npx', 'eslint', '.');
    await plain('types', 'npx', 'tsc', '-p', 'tsconfig.json');
    await plain('types of the web', 'npm', 'run', 'check', '-w', 'web');
  };
  // What tests of the web are read by.
  await run('npx', ['svelte-kit', 'sync'], { cwd: join(ROOT, 'web') });
  await Promise.all([statics(), vitest('unit', ['unit', 'engine'])]);
  await step('building', build);
  const browser = async () => {
    const good = await check('browser tests', 'npx', ['playwright', 'test']);
    count(good, join(results, 'browser.json'), ({ stats }) => [stats.expected, stats.unexpected + stats.flaky]);
    await vitest('further system', ['system'], AFTER_BROWSER.map(systemFile));
  };
  const others = AFTER_BROWSER.map((name) => `--exclude=${systemFile(name)}`);
  await Promise.all([vitest('system', ['system'], others), browser()]);
  say(`\n${passed} passed, ${failed} failed`);
  process.exitCode = failed > 0 ? 1 : 0;
} catch (error) {
  fail(error);
  say(`\n${passed} passed, ${failed + 1} failed`);
}
