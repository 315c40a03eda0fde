import { mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { chromium } from '@playwright/test';
import { CHROMIUM } from './lib/chromium.mjs';
import { ROOT } from './lib/run.mjs';
import { DEMO_PORTS } from './lib/system.mjs';

/* Renews the pictures in docs/screenshots from a running demo, at 1280 × 800. */
const folder = join(ROOT, 'docs/screenshots');
const web = `http://127.0.0.1:${DEMO_PORTS.web}`;
const relay = `http://127.0.0.1:${DEMO_PORTS.bench}/devices/HLM-F1`;
mkdirSync(folder, { recursive: true });

const browser = await chromium.launch(CHROMIUM);
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
const shot = (/** @type {string} */ name) => page.screenshot({ path: join(folder, `${name}.png`) });
const settle = (/** @type {number} */ ms) => page.waitForTimeout(ms);
/** @param {string} path @param {object} body */
const put = (path, body) => fetch(`${relay}/${path}`, { method: 'PUT', body: JSON.stringify(body) });
/** @param {string} name  of a point of the relay */
async function open(name) {
  await page.getByLabel(/^Search/).fill(name);
  await page.getByRole('option').filter({ hasText: 'HLM-F1 ·' }).first().click();
  await page.waitForURL(/\/run\/(point|device)\//);
}

await page.goto(web);
await page.getByLabel('Name').fill('operator');
await page.getByLabel('Password').fill('operator-demo');
await page.keyboard.press('Enter');
await page.waitForURL('**/run');

await page.goto(`${web}/run/device/HLM-F1`);
await settle(1500);
await open('ai 7');
await settle(1500);
await put('points/analog/7', { value: 43_210 });
await page.locator('.boxed').waitFor();
await settle(3000);
await shot('trail');
await page.goto(`${web}/run/device/HLM-F1`);
await page.getByLabel('Kind').selectOption('analog');
await settle(1500);
await shot('device');
await fetch(`${relay}/points/analog/7`, { method: 'DELETE' });

await open('trip/close');
await page.getByRole('button', { name: 'Operate…' }).click();
await page.getByRole('button', { name: 'Next: look it over' }).click();
await page.getByRole('button', { name: /^Send/ }).click();
await page.getByText('Confirmed:').waitFor();
await settle(700);
await shot('control');
await page.getByRole('button', { name: 'Another control' }).click();
await page.getByText('Close', { exact: true }).click();
await page.getByRole('button', { name: 'Next: look it over' }).click();
await page.getByRole('button', { name: /^Send/ }).click();
await page.getByText('Confirmed:').waitFor();
await page.getByRole('button', { name: 'Done' }).click();
await page.goto(`${web}/run`);
await settle(2000);
await shot('board');

await open('current l1');
await page.getByRole('link', { name: 'History' }).click();
await page.getByRole('button', { name: '15 min' }).waitFor();
await settle(2500);
await shot('history');
await open('inlet pressure');
await page.getByRole('link', { name: 'History' }).click();
await page.getByRole('button', { name: '15 min' }).click();
await page.getByTestId('late-words').waitFor();
await settle(1500);
await shot('backlog');

await page.goto(`${web}/run/device/HLM-F1/files`);
await page.getByRole('button', { name: 'Read the directory' }).click();
for (const name of ['REC00001.CFG', 'REC00001.DAT', 'REC00002.CFG', 'REC00002.DAT'])
  await page.getByRole('button', { name: `Fetch ${name}` }).click();
await page.getByRole('link', { name: 'Save REC00002.DAT' }).waitFor();
await settle(2500);
await shot('files');
await page.goto(`${web}/run/link/R1`);
await page.getByTestId('line-strip').waitFor();
await settle(14_000);
await shot('link');
await page.goto(`${web}/prove/bench`);
await page.getByRole('option', { name: /^R1/ }).click();
await settle(1200);
await shot('bench');
await page.goto(`${web}/prove`);
await settle(800);
await shot('controls');

// ---- Build, as the engineer: a second relay is being brought on line
await page.getByRole('button', { name: 'Sign out' }).click();
await page.getByLabel('Name').fill('engineer');
await page.getByLabel('Password').fill('engineer-demo');
await page.keyboard.press('Enter');
await page.waitForURL('**/run');
await fetch(`${relay.replace('F1', 'F2')}/power`, { method: 'PUT', body: JSON.stringify({ on: true }) });
const visit = async (/** @type {string} */ path) => {
  await page.goto(web + path);
  await page.locator('html[data-scheme]').waitFor();
  await settle(900);
};
await visit('/build/device/new?station=HLM');
const device = page.getByRole('region', { name: 'Device' });
await device.getByLabel('Code', { exact: true }).fill('HLM-F2');
await device.getByLabel('Name', { exact: true }).fill('F2 feeder relay');
await page.getByLabel('Their DNP3 address').fill('12');
await page.getByLabel('Address of the device').fill('127.0.0.1');
await page.getByLabel('TCP port of the device').fill('20002');
await page.getByRole('button', { name: 'Try it' }).click();
await page.getByTestId('try-outcome').waitFor();
await shot('build-device');
await page.getByRole('button', { name: 'Add it to the draft' }).click();
await page.waitForURL('**/build/points?device=HLM-F2');
await settle(1200);
const LIST = `Type\tIndex\tPoint name\tUnits\tScale\tState text\tDead band
BI\t0\tBreaker 52A\t\t\topen / closed\t
BI\t1\tEarth switch\t\t\topen / closed\t
BI\t2\tTrip target\t\t\treset / operated\t
BI\t6\tLocal/remote\t\t\tlocal / remote\t
AI\t0\tCurrent L1\tA\t0.025\t\t1
AI\t1\tCurrent L2\tA\t0.025\t\t1
AI\t2\tCurrent L3\tA\t0.025\t\t1
AI\t7\tVoltage L1-L2\tkV\t0.001\t\t0.05
AI\t8\tVoltage L2-L3\tkV\t0,001\t\t0.05
AI\t10\tFrequency\tHz\t0.01\t\t0.01
CT\t0\tEnergy out\tMWh\t0.1\t\t`;
const paste = (/** @type {string} */ text) =>
  page.evaluate((given) => {
    const data = new DataTransfer();
    data.setData('text/plain', given);
    const { body } = /** @type {any} */ (globalThis).document;
    body.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true }));
  }, text);
await paste(LIST);
await page.getByTestId('paste-wrong').waitFor();
await settle(400);
await shot('paste');
await page.getByRole('button', { name: 'Cancel' }).click();
await paste(LIST.replace('0,001', '0.001'));
await page.getByRole('button', { name: /^Take over/ }).click();
await page.getByText('11 points', { exact: true }).waitFor();
// Two mistakes, as they happen.
await page.getByRole('button', { name: 'Add a run…' }).click();
await page.getByLabel('Count, 1 to 65536').fill('3');
await page.getByLabel('Name pattern').fill('Demand L{n}');
await page.getByRole('button', { name: 'Add 3 points' }).click();
await settle(600);
await page.getByRole('gridcell', { name: 'Demand L2', exact: true }).click();
await page.keyboard.press('ArrowLeft');
await page.keyboard.type('0');
await page.keyboard.press('Enter');
await page.getByText('1 problem', { exact: true }).waitFor();
await settle(500);
await shot('points');
await page.getByRole('button', { name: 'Mend 1' }).click();
await visit('/build');
await shot('build');
await settle(400);
await visit('/build/mapping?outbound=QST');
await page.getByLabel('Show').selectOption('unmapped');
await settle(400);
await page.getByLabel('Show').selectOption('all');
await shot('mapping');
await page.getByRole('button', { name: 'Map by rule…' }).click();
await page.getByLabel(/^Source: device/).fill('HLM-F2*');
await page.getByLabel('Address there').selectOption('keep');
await page.getByLabel('Plus', { exact: true }).fill('30');
await settle(400);
await page.getByRole('button', { name: /^Map \d+ points/ }).click();
await settle(600);
await visit('/build/plan');
await shot('plan');
await visit('/build/changes');
await page.getByRole('button', { name: 'Apply…' }).click();
await settle(500);
await shot('changes');
await visit('/run/device/HLM-B1/session');
await page.getByRole('button', { name: /brcbMeasured01$/ }).click();
await settle(700);
await shot('reports');
// What we offer by model comes back as a file of somebody's.
await visit('/build/mapping?outbound=QSM');
const saved = page.waitForEvent('download');
await page.getByRole('button', { name: 'Model as a file (CID)' }).click();
const file = await (await saved).path();
await visit('/build/take');
await page.locator('input[type=file]').setInputFiles(file);
await page.getByTestId('about').waitFor();
await shot('fromfile');
await browser.close();
