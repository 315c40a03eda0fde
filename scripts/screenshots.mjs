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
/** @param {string} name */
async function open(name) {
  await page.getByLabel(/^Search/).fill(name);
  await page.getByRole('option').first().waitFor();
  await page.keyboard.press('Enter');
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

await put('power', { on: false });
await settle(6000);
await shot('no-communication');
await put('power', { on: true });
await settle(5000);
await open('current l1');
await page.getByRole('link', { name: 'History' }).click();
await page.getByRole('button', { name: '15 min' }).waitFor();
await settle(2500);
await shot('history');
await page.goto(`${web}/build`);
await settle(800);
await shot('mapping');
await page.goto(`${web}/prove`);
await settle(800);
await shot('controls');
await browser.close();
