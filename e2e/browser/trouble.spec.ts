import { expect, test } from '@playwright/test';
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
  await expect(page.getByTestId('trouble')).toContainText('The database does not answer', { timeout: 15_000 });
  await expect(page.getByTestId('engine-lost')).toHaveCount(0);
  const other = await context.newPage();
  await other.goto(urlOf(rig, '/run'));
  await expect(other.getByRole('heading', { level: 1 })).toHaveText('That did not work');
  proxy.closed = false;
  await expect(page.getByTestId('trouble')).toHaveCount(0, { timeout: 15_000 });
  await expect(other.getByRole('heading', { level: 1 })).not.toHaveText('That did not work', { timeout: 15_000 });
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
  await expect(page.getByTestId('engine-lost')).toContainText('nothing is polled, passed on or operated', {
    timeout: 15_000,
  });
  await expect(page.getByTestId('control-stranded')).toContainText('Nothing was sent');
  await page.keyboard.press('Escape');
  await visit(page, rig, '/build');
  await expect(page.getByTestId('engine-lost')).toBeVisible({ timeout: 15_000 });
  await rig.startEngine();
  await expect(page.getByTestId('engine-lost')).toHaveCount(0, { timeout: 15_000 });
});

test('a tab that nobody sees holds no stream', async ({ page }) => {
  await signIn(page, rig, 'viewer');
  const streams = async (): Promise<number> =>
    page.evaluate(
      () => performance.getEntriesByType('resource').filter(({ name }) => name.includes('/api/live')).length,
    );
  await page.waitForTimeout(1500);
  const before = await streams();
  // As a browser does when another tab comes to the front.
  await page.evaluate(() => {
    Object.defineProperty(document, 'visibilityState', { value: 'hidden', configurable: true });
    document.dispatchEvent(new Event('visibilitychange'));
  });
  await page.waitForTimeout(7000);
  // A stream that is closed is an entry of the browser's list.
  expect(await streams()).toBeGreaterThan(before);
  await page.evaluate(() => {
    Object.defineProperty(document, 'visibilityState', { value: 'visible', configurable: true });
    document.dispatchEvent(new Event('visibilitychange'));
  });
  await expect(page.getByTestId('connection-lost')).toHaveCount(0);
});
