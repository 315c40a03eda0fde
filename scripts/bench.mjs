import { build } from './lib/build.mjs';
import { CHROMIUM } from './lib/chromium.mjs';
import { installDebian, installNpm } from './lib/install.mjs';
import { freePorts } from './lib/ports.mjs';
import { dataFolder, Postgres } from './lib/postgres.mjs';
import { ROOT, run } from './lib/run.mjs';
import { fail } from './lib/say.mjs';
import { System } from './lib/system.mjs';

/*
 * `npm run bench [-- PREFIX]`: one JSON line for each figure whose name begins with PREFIX, on standard output;
 * everything else goes to standard error.
 */
const prefix = process.argv[2] ?? '';
process.stdout.write = (
  (write) =>
  (/** @type {any} */ text, /** @type {any[]} */ ...rest) => {
    const out = String(text).startsWith('{') ? write : process.stderr.write.bind(process.stderr);
    return out(text, ...rest);
  }
)(process.stdout.write.bind(process.stdout));

const SAMPLES = 60;
const GROUPS = { 'path.field_to_browser_ms': fieldToBrowser, 'ingest.copy_ratio': ingest };

/** @param {{ figure: string, value: number, unit: string, bound?: number, better: 'higher' | 'lower' }} figure */
function report(figure) {
  if (figure.figure.startsWith(prefix)) process.stdout.write(`${JSON.stringify(figure)}\n`);
}

/** @param {Postgres} postgres */
async function ingest(postgres) {
  await postgres.createDatabase('ingest');
  const { output } = await run(process.execPath, [`${ROOT}/dist/ingest-bench.js`], {
    env: { HALVIX_DATABASE_URL: postgres.url('ingest'), HALVIX_MIGRATIONS: `${ROOT}/db/migrations` },
  });
  for (const line of output.split('\n')) {
    if (line.startsWith('{')) report(JSON.parse(line));
    else if (line !== '') process.stderr.write(`${line}\n`);
  }
}

/**
 * From forcing an analog at the relay to its new value in a real browser's page. The relay is asked for events once a
 * second, so half a second of this is waiting for the poll.
 * @param {Postgres} postgres
 */
async function fieldToBrowser(postgres) {
  const [web, engine, bench, relay, relay2, quillstone, ambry] = await freePorts(7);
  const ports = { web, engine, bench, relay, relay2, quillstone, ambry, postgres: postgres.port };
  const system = new System({ databaseUrl: postgres.url(), ports, logs: dataFolder('bench-logs') });
  const { chromium } = await import('@playwright/test');
  const browser = await chromium.launch(CHROMIUM);
  try {
    await system.loadDemo();
    for (const name of /** @type {const} */ (['bench', 'engine', 'web'])) {
      system.start(name);
      await system.waitFor(name);
    }
    const page = await browser.newPage();
    await page.goto(`http://127.0.0.1:${web}/`);
    await page.getByLabel('Name').fill('viewer');
    await page.getByLabel('Password').fill('viewer-demo');
    await page.keyboard.press('Enter');
    await page.waitForURL('**/run');
    await page.goto(`http://127.0.0.1:${web}/run/device/HLM-F1`);
    await page.getByLabel('Kind').selectOption('analog');
    const cell = page.getByTestId('value-analog-7');
    await cell.waitFor();
    await page.waitForTimeout(2000);
    /** @type {number[]} */
    const times = [];
    for (let i = 0; i < SAMPLES; i++) {
      const value = 10_000 + i;
      const shown = `${(value / 1000).toFixed(3)}`;
      const seen = page.waitForFunction(
        (/** @type {string} */ text) =>
          /** @type {any} */ (globalThis).document.querySelector('[data-testid="value-analog-7"]')?.textContent ===
            text && Date.now(),
        shown,
        { polling: 'raf' },
      );
      const began = Date.now();
      await fetch(`http://127.0.0.1:${bench}/devices/HLM-F1/points/analog/7`, {
        method: 'PUT',
        body: JSON.stringify({ value }),
      });
      times.push(Number(await (await seen).jsonValue()) - began);
      // Spread over the poll period.
      await page.waitForTimeout(200 + ((i * 173) % 700));
    }
    times.sort((a, b) => a - b);
    const at = (/** @type {number} */ share) => times[Math.min(times.length - 1, Math.floor(times.length * share))];
    report({ figure: 'path.field_to_browser_ms', value: at(0.5), unit: 'ms', bound: 2000, better: 'lower' });
    report({ figure: 'path.field_to_browser_ms_p99', value: at(0.99), unit: 'ms', bound: 2000, better: 'lower' });
  } finally {
    await browser.close();
    await system.stopAll();
  }
}

/** @type {Postgres | null} */
let postgres = null;
try {
  await installDebian(['postgresql-15', 'chromium']);
  await installNpm();
  await build();
  const [port] = await freePorts(1);
  postgres = new Postgres(dataFolder('bench/postgres'), port, { durable: true });
  await postgres.reset();
  await postgres.start();
  for (const [figure, measure] of Object.entries(GROUPS))
    if (figure.startsWith(prefix) || prefix.startsWith(figure)) await measure(postgres);
} catch (error) {
  fail(error);
} finally {
  await postgres?.remove();
}
