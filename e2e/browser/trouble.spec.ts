import { expect, test } from '@playwright/test';
import { readFileSync } from 'node:fs';
import { freePorts } from '../../scripts/lib/ports.mjs';
import { DatabaseProxy } from '../rig/databaseproxy.ts';
import type { Rig } from '../rig/rig.ts';
import { signIn, startRig, urlOf, visit } from './rig.ts';

let rig: Rig;
let proxy: DatabaseProxy;
test.beforeAll(async () => {
  rig = await startRig('trouble');
  const [port] = await freePorts(1);
  const to = new URL(rig.databaseUrl);
  proxy = new DatabaseProxy(port, Number(to.port));
  to.port = String(port);
  await rig.system.stop('web');
  rig.system.start('web', { HALVIX_DATABASE_URL: to.href });
  await rig.system.waitFor('web');
});
test.afterAll(async () => {
  proxy.close();
  await rig.stop();
});

test('when the database is away the page says that, not that the engine stopped; what was opened meanwhile comes by itself', async ({
  page,
  context,
}) => {
  await signIn(page, rig, 'operator');
  await visit(page, rig, '/run/device/HLM-F1');
  proxy.closed = true;
  proxy.cut();
  await expect(page.getByTestId('trouble')).toContainText('The database does not answer');
  await expect(page.getByTestId('engine-lost')).toHaveCount(0);
  const other = await context.newPage();
  await other.goto(urlOf(rig, '/run'));
  await expect(other.getByRole('heading', { level: 1 })).toHaveText('That did not work');
  proxy.closed = false;
  await expect(page.getByTestId('trouble')).toHaveCount(0);
  await expect(other.getByRole('heading', { level: 1 })).not.toHaveText('That did not work');
  await other.close();
});

test('when the engine is dead every page says so, and a control does not go on for ever', async ({ page }) => {
  await signIn(page, rig, 'operator');
  const id = await rig.pointId('output', 0);
  await visit(page, rig, `/run/point/${id}`);
  await page.getByRole('button', { name: 'Operate…' }).click();
  await page.getByRole('button', { name: 'Next: look it over' }).click();
  await rig.system.kill('engine');
  await page.getByRole('button', { name: /^Send/ }).click();
  await expect(page.getByTestId('engine-lost')).toContainText('nothing is polled, passed on or operated');
  await expect(page.getByTestId('control-stranded')).toContainText('Nothing was sent');
  await page.keyboard.press('Escape');
  await visit(page, rig, '/build');
  await expect(page.getByTestId('engine-lost')).toBeVisible();
  await rig.startEngine();
  await expect(page.getByTestId('engine-lost')).toHaveCount(0);
});

test('ten windows share one stream: values go on in all of them, and nothing else is held up', async ({ context }) => {
  const first = await context.newPage();
  await signIn(first, rig, 'viewer');
  const windows = [first];
  for (let i = 0; i < 9; i++) windows.push(await context.newPage());
  const id = await rig.pointId('analog', 10);
  for (const [i, window] of windows.entries()) {
    await visit(window, rig, i % 2 === 0 ? '/run/device/HLM-F1' : `/run/point/${id}`);
    if (i % 2 === 0) await window.getByLabel('Kind').selectOption('analog');
  }
  await rig.force('analog', 10, 4711);
  for (const window of windows) await expect(window.getByText('47.11').first()).toBeVisible();
  // Each shows its own: a trail where a point is looked at, and its link's state everywhere.
  for (const window of windows) await expect(window.getByTestId('connection-lost')).toHaveCount(0);
  await rig.release('analog', 10);
  for (const window of windows.slice(1)) await window.close();
});

/** Connections that the web has at this moment (state 01 of Linux's table: established). */
const connections = (): number =>
  readFileSync('/proc/net/tcp', 'utf8')
    .split('\n')
    .map((line) => line.trim().split(/\s+/))
    .filter(([, local, , state]) => state === '01' && Number.parseInt(local.split(':')[1], 16) === rig.ports.web)
    .length;

test('a link that is followed while the page is brought up to date is followed all the same', async ({ page }) => {
  await signIn(page, rig, 'operator');
  await visit(page, rig, '/prove');
  // What brings the page up to date asks first whether the server loads; the page behind the link takes its time.
  await page.route('**/healthz', async (route) => {
    await new Promise((resolve) => setTimeout(resolve, 700));
    await route.continue();
  });
  await page.route('**/__data.json*', async (route) => {
    await new Promise((resolve) => setTimeout(resolve, 2500));
    await route.continue();
  });
  await page.waitForRequest('**/healthz');
  await page.getByRole('link', { name: 'Build', exact: true }).click();
  await page.waitForURL('**/build');
});

test('a tab that nobody sees holds no stream', async ({ page }) => {
  await signIn(page, rig, 'viewer');
  await visit(page, rig, '/run/device/HLM-F1');
  await page.getByLabel('Kind').selectOption('analog');
  const look = (state: 'hidden' | 'visible'): Promise<void> =>
    page.evaluate((value) => {
      // As a browser does when another tab comes to the front, or this one.
      Object.defineProperty(document, 'visibilityState', { value, configurable: true });
      document.dispatchEvent(new Event('visibilitychange'));
    }, state);
  await page.waitForTimeout(1500);
  const before = connections();
  await look('hidden');
  await expect.poll(connections).toBe(before - 1);
  await rig.force('analog', 10, 4712);
  await look('visible');
  await expect(page.getByTestId('value-analog-10')).toHaveText('47.12');
  await rig.release('analog', 10);
  await expect(page.getByTestId('connection-lost')).toHaveCount(0);
});
