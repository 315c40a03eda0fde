import { measureLatePolls } from './lib/latepolls.mjs';
import { build } from './lib/build.mjs';
import { CHROMIUM } from './lib/chromium.mjs';
import { installDebian, installNpm } from './lib/install.mjs';
import { freePorts } from './lib/ports.mjs';
import { dataFolder, Postgres } from './lib/postgres.mjs';
import { NODE_FLAGS, ROOT, run } from './lib/run.mjs';
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
const GRID_ROWS = 100_000;
const GROUPS = {
  'path.field_to_browser_ms': fieldToBrowser,
  'ingest.copy_ratio': ingest,
  'apply.late_polls': latePolls,
  grid,
  line,
  'line.modbus': () => registers('line'),
  'modbus.poll_rate_ratio': () => registers('rate'),
  scale,
  'scale.modbus': () => registers('many'),
  'mms.report': () => models('report'),
  'mms.discover_s': () => models('discover'),
  'mms.lost': () => models('lost'),
  tase2: agreements,
  flood,
  quirks,
  history,
  owed,
  faults,
};

/** @param {{ figure: string, value: number, unit: string, bound?: number, better: 'higher' | 'lower' }} figure */
function report(figure) {
  if (figure.figure.startsWith(prefix)) process.stdout.write(`${JSON.stringify(figure)}\n`);
}

/** Foreign devices in virtual time. */
async function quirks() {
  await measureBy('quirks-bench', {});
}

/** @param {Postgres} postgres */
async function history(postgres) {
  await postgres.createDatabase('history');
  await measureBy('history-bench', {
    HALVIX_DATABASE_URL: postgres.url('history'),
    HALVIX_MIGRATIONS: `${ROOT}/db/migrations`,
  });
}

/**
 * A program that prints figures as lines of JSON.
 * @param {string} program
 * @param {Record<string, string>} env
 * @param {string[]} [flags]
 */
async function measureBy(program, env, flags = /** @type {string[]} */ ([])) {
  const { output } = await run(process.execPath, [...flags, `${ROOT}/dist/${program}.js`], { env });
  for (const line of output.split('\n')) {
    if (line.startsWith('{')) report(JSON.parse(line));
    else if (line !== '') process.stderr.write(`${line}\n`);
  }
}

/** @param {Postgres} postgres */
async function ingest(postgres) {
  await postgres.createDatabase('ingest');
  const env = { HALVIX_DATABASE_URL: postgres.url('ingest'), HALVIX_MIGRATIONS: `${ROOT}/db/migrations` };
  // As an engine is run.
  await measureBy('ingest-bench', env, NODE_FLAGS);
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

/** @param {Postgres} postgres  @param {number} [more]  further relays  @param {Record<string, number>} [others]  ports of other stations */
async function systemOn(postgres, more = 0, others = {}) {
  const [web, engine, bench, relay, relay2, quillstone, ambry, ...moreRelays] = await freePorts(7 + more);
  const ports = { web, engine, bench, relay, relay2, quillstone, ambry, ...others, postgres: postgres.port };
  const name = `bench_${Date.now()}`;
  await postgres.createDatabase(name);
  const databaseUrl = postgres.url(name);
  const system = new System({ databaseUrl, ports, logs: dataFolder('bench-logs'), moreRelays });
  return { system, ports, databaseUrl, moreRelays };
}

/**
 * An engine beside a program that applies its configuration, plays its devices and prints figures.
 * @param {Postgres} postgres  @param {string} program  @param {Record<string, string>} env
 */
async function besideEngine(postgres, program, env) {
  const { system, databaseUrl } = await systemOn(postgres);
  try {
    const engine = system.start('engine');
    const { output } = await run(process.execPath, [...NODE_FLAGS, `${ROOT}/dist/${program}.js`], {
      env: {
        ...env,
        HALVIX_ENGINE_PID: String(engine.child.pid),
        HALVIX_DATABASE_URL: databaseUrl,
        HALVIX_MIGRATIONS: `${ROOT}/db/migrations`,
      },
    });
    for (const row of output.split('\n')) {
      if (row.startsWith('{')) report(JSON.parse(row));
      else if (row !== '') process.stderr.write(`${row}\n`);
    }
  } finally {
    await system.stopAll();
  }
}

/** @param {Postgres} postgres */
async function line(postgres) {
  const [port] = await freePorts(1);
  await besideEngine(postgres, 'line-bench', { HALVIX_LINE_PORT: String(port) });
}

/** @param {'line' | 'rate' | 'many'} measure */
async function registers(measure) {
  const [port] = await freePorts(1);
  await besideEngine(/** @type {Postgres} */ (postgres), 'registers-bench', {
    HALVIX_MEASURE: measure,
    HALVIX_LINE_PORT: String(port),
  });
}

/** @param {'report' | 'discover' | 'lost'} measure */
async function models(measure) {
  // A hundred servers have ports side by side, below those that the system gives out by itself.
  const env = { HALVIX_MEASURE: measure, HALVIX_MODEL_PORT: '23100' };
  if (measure === 'lost') await besideEngine(/** @type {Postgres} */ (postgres), 'models-bench', env);
  // As an engine is run.
  else await measureBy('models-bench', env, NODE_FLAGS);
}

async function agreements() {
  await measureBy('agreements-bench', { HALVIX_MEASURE: 'report', HALVIX_MODEL_PORT: '23100' }, NODE_FLAGS);
}

/** The whole-system tests of impairments, killed processes and what outbounds owe print their counts as figures. */
async function faults() {
  for (const test of ['owed', 'faults']) {
    const { output } = await run('npx', ['vitest', 'run', '--project', 'long', `e2e/long/${test}.test.ts`], {
      allowFailure: true,
      env: { HALVIX_FAULTS: process.env.HALVIX_FAULTS ?? '300' },
    });
    process.stderr.write(output);
    for (const row of output.split('\n')) if (row.startsWith('{"figure":')) report(JSON.parse(row));
  }
}

/** @param {Postgres} postgres */
async function owed(postgres) {
  const { system, ports, databaseUrl } = await systemOn(postgres);
  const env = { HALVIX_DATABASE_URL: databaseUrl, HALVIX_CENTRE_PORT: String(ports.quillstone) };
  try {
    await system.loadDemo();
    await measureBy('owed-bench', { ...env, HALVIX_MEASURE: 'prepare' }, NODE_FLAGS);
    system.start('engine');
    await measureBy('owed-bench', { ...env, HALVIX_MEASURE: 'read', HALVIX_BEGAN: String(Date.now()) }, NODE_FLAGS);
  } finally {
    await system.stopAll();
  }
}

/**
 * Clients at full speed on each of the demo's servers.
 * @param {Postgres} postgres
 */
async function flood(postgres) {
  const [flow, monitor, meters, bay, park, model, northmark, agreement, registers] = await freePorts(9);
  const all = { flow, monitor, meters, bay, park, model, northmark, agreement };
  const { system, ports, databaseUrl } = await systemOn(postgres, 0, all);
  try {
    await system.loadDemo();
    await startAll(system, ['bench', 'engine']);
    await measureBy('flood-bench', {
      HALVIX_DATABASE_URL: databaseUrl,
      HALVIX_ENGINE_PORT: String(ports.engine),
      HALVIX_BENCH_PORT: String(ports.bench),
      HALVIX_FLOOD_DNP3: String(ports.ambry),
      HALVIX_FLOOD_MODBUS: String(registers),
      HALVIX_FLOOD_MODEL: String(model),
      HALVIX_FLOOD_AGREEMENT: String(agreement),
    });
  } finally {
    await system.stopAll();
  }
}

/** @param {Postgres} postgres */
async function scale(postgres) {
  await besideEngine(postgres, 'scale-bench', {});
}

/** @param {System} system @param {readonly ('bench' | 'engine' | 'web')[]} names */
async function startAll(system, names) {
  for (const name of names) {
    system.start(name);
    await system.waitFor(name);
  }
}

/**
 * Polls of twenty relays that are missed or late by more than a period while changes to another one are applied.
 * @param {Postgres} postgres
 */
async function latePolls(postgres) {
  const { system, ports, moreRelays } = await systemOn(postgres, 21);
  try {
    await startAll(system, ['bench', 'engine']);
    const { late, longestGapMs, polls } = await measureLatePolls({
      system,
      benchPort: ports.bench,
      ports: moreRelays,
      folder: dataFolder('bench-late'),
      until: async (what, holds) => {
        for (const deadline = Date.now() + 30_000; !(await holds());)
          if (Date.now() > deadline) throw new Error(`not in time: ${what}`);
          else await new Promise((resolve) => setTimeout(resolve, 100));
      },
    });
    process.stderr.write(`late polls: ${late} of ${polls}, longest gap ${longestGapMs} ms\n`);
    report({ figure: 'apply.late_polls', value: late, unit: 'polls', bound: 0, better: 'lower' });
  } finally {
    await system.stopAll();
  }
}

/**
 * The point grid with 100 000 points in a real browser.
 * @param {Postgres} postgres
 */
async function grid(postgres) {
  const { system, ports, databaseUrl } = await systemOn(postgres);
  const { chromium } = await import('@playwright/test');
  const { default: driver } = await import('postgres');
  const sql = driver(databaseUrl, { max: 1, onnotice: () => {} });
  const browser = await chromium.launch(CHROMIUM);
  try {
    await system.loadDemo();
    await sql`
      insert into draft_object (kind, parent, document, version, author, changed)
      select 'device', '', jsonb_set(jsonb_set(document, '{code}', '"BIG"'), '{link}', '"BIG"'), nextval('draft_version'), 'bench', now()
      from draft_object where kind = 'device' limit 1`;
    await sql`
      insert into draft_object (kind, parent, sort, document, version, author, changed)
      select 'point', 'BIG', case when n % 2 = 0 then '3 ' else '0 ' end || lpad((n / 2)::text, 5, '0'),
        jsonb_build_object('kind', case when n % 2 = 0 then 'analog' else 'binary' end,
        'at', jsonb_build_object('protocol', 'dnp3', 'index', n / 2), 'name', 'Bay ' || n % 97 || ' value ' || n, 'unit', case when n % 2 = 0 then 'kV' else '' end, 'gain', 0.025),
        1, 'bench', now()
      from generate_series(0, ${GRID_ROWS - 1}) as n`;
    await startAll(system, ['bench', 'engine', 'web']);
    // The grid is the browser's and the web's: field and engine would only take its processor away.
    await system.stop('engine');
    await system.stop('bench');
    const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
    await page.goto(`http://127.0.0.1:${ports.web}/`);
    await page.getByLabel('Name').fill('engineer');
    await page.getByLabel('Password').fill('engineer-demo');
    await page.keyboard.press('Enter');
    await page.waitForURL('**/run');
    const url = `http://127.0.0.1:${ports.web}/build/points?device=BIG`;
    /** @type {number[]} */
    const opens = [];
    for (let i = 0; i < 5; i++) {
      await page.goto(`http://127.0.0.1:${ports.web}/build/profiles`);
      await page.waitForTimeout(500);
      const began = Date.now();
      await page.goto(url, { waitUntil: 'commit' });
      await page.locator('[data-row="10"]').waitFor();
      opens.push(Date.now() - began);
      await page.getByText(`${GRID_ROWS} points`, { exact: true }).waitFor();
    }
    opens.sort((a, b) => a - b);
    process.stderr.write(`grid.open_ms of ${opens.join(', ')}\n`);
    report({ figure: 'grid.open_ms', value: opens[2], unit: 'ms', bound: 1000, better: 'lower' });
    await page.waitForTimeout(2500);
    await page.getByRole('button', { name: 'Filter', exact: true }).click();
    const filters = await page.evaluate(async () => {
      const doc = /** @type {any} */ (globalThis).document;
      const frame = () => new Promise((resolve) => /** @type {any} */ (globalThis).requestAnimationFrame(resolve));
      const times = [];
      for (const text of ['value 77', 'bay 5 ', 'bay 96', 'no such', 'value', 'value 9999', '']) {
        const input = doc.querySelector('[aria-label="Filter Name"]');
        const count = doc.querySelector('[data-testid="row-count"]');
        const before = count.textContent;
        const began = performance.now();
        input.value = text;
        input.dispatchEvent(new Event('input', { bubbles: true }));
        while (count.textContent === before && performance.now() - began < 5000) await frame();
        times.push(performance.now() - began);
        await new Promise((resolve) => setTimeout(resolve, 300));
      }
      return times.map(Math.round);
    });
    process.stderr.write(`grid.filter_ms of ${filters.join(', ')}\n`);
    report({ figure: 'grid.filter_ms', value: Math.max(...filters), unit: 'ms', bound: 100, better: 'lower' });
    const blank = await page.evaluate(async () => {
      const doc = /** @type {any} */ (globalThis).document;
      const scroller = doc.querySelector('[data-testid="grid"]');
      const frame = () =>
        /** @type {Promise<number>} */ (
          new Promise((resolve) => /** @type {any} */ (globalThis).requestAnimationFrame(resolve))
        );
      const covered = () => {
        const { top, bottom } = scroller.getBoundingClientRect();
        const rows = [...scroller.querySelectorAll('[data-row]')].map((row) => row.getBoundingClientRect());
        const head = scroller.querySelector('[role="row"]').getBoundingClientRect().bottom;
        return (
          Math.min(...rows.map((r) => r.top)) <= head + 1 &&
          Math.max(...rows.map((r) => r.bottom)) >= bottom - 20 &&
          top > 0
        );
      };
      let [longest, blankSince, frames, worstFrame] = [0, -1, 0, 0];
      let last = await frame();
      const began = last;
      while (last - began < 6000) {
        const now = await frame();
        worstFrame = Math.max(worstFrame, now - last);
        scroller.scrollTop += ((now - last) / 1000) * 1000 * 30;
        last = now;
        frames++;
        if (covered()) {
          if (blankSince >= 0) longest = Math.max(longest, now - blankSince);
          blankSince = -1;
        } else if (blankSince < 0) blankSince = now;
      }
      return {
        longest: Math.round(longest),
        frames,
        worstFrame: Math.round(worstFrame),
        rows: Math.round(scroller.scrollTop / 30),
      };
    });
    process.stderr.write(
      `grid.blank_ms: ${blank.rows} rows in ${blank.frames} frames, the longest frame ${blank.worstFrame} ms\n`,
    );
    report({ figure: 'grid.blank_ms', value: blank.longest, unit: 'ms', bound: 50, better: 'lower' });
    const rows = Array.from({ length: 5000 }, (_, n) => `AI\t${n + 49_000}\tPasted ${n}\tkV\t0.1`).join('\n');
    /** @type {number[]} */
    const pastes = [];
    for (let i = 0; i < 3; i++) {
      pastes.push(
        await page.evaluate(async (text) => {
          const doc = /** @type {any} */ (globalThis).document;
          const data = new DataTransfer();
          data.setData('text/plain', `Kind\tAddress\tName\tUnit\tGain\n${text}`);
          const began = performance.now();
          doc.body.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true }));
          while (!doc.querySelector('[data-testid="paste-new"]') && performance.now() - began < 10_000)
            await new Promise((resolve) => /** @type {any} */ (globalThis).requestAnimationFrame(resolve));
          return Math.round(performance.now() - began);
        }, rows),
      );
      await page.getByRole('button', { name: 'Cancel' }).click();
    }
    process.stderr.write(`grid.paste_ms of ${pastes.join(', ')}\n`);
    report({ figure: 'grid.paste_ms', value: Math.max(...pastes), unit: 'ms', bound: 1000, better: 'lower' });
  } finally {
    await browser.close();
    await sql.end();
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
