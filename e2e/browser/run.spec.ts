/// <reference lib="dom" />
import { expect, test } from '@playwright/test';
import type { Rig } from '../rig/rig.ts';
import { complaintsOf, signIn, startRig, urlOf, visit } from './rig.ts';

let rig: Rig;
test.beforeAll(async () => {
  rig = await startRig('run');
});
test.afterAll(() => rig.stop());

test('a value forced at the relay shows within two seconds, with the clock it comes from', async ({ page }) => {
  const complaints = complaintsOf(page);
  await signIn(page, rig, 'viewer');
  await visit(page, rig, '/run/device/HLM-F1');
  await expect(page.getByTestId('value-binary-0')).toHaveText('closed');
  await expect(page.getByTestId('time-binary-1')).toContainText('receipt');
  await page.getByLabel('Kind').selectOption('analog');
  await expect(page.getByTestId('value-analog-7')).toHaveText(/3\d\.\d{3}/);
  await page.waitForTimeout(500);
  const began = Date.now();
  await rig.force('analog', 7, 43_210);
  await expect(page.getByTestId('value-analog-7')).toHaveText('43.210');
  const took = Date.now() - began;
  await expect(page.getByTestId('quality-analog-7')).toHaveText('forced at the device');
  await expect(page.getByTestId('time-analog-7')).toContainText('device');
  console.log(`      forced to shown: ${took} ms`);
  expect(took).toBeLessThan(15_000);
  await rig.release('analog', 7);
  await expect(page.getByTestId('quality-analog-7')).toHaveText('');
  expect(complaints).toEqual([]);
});

test('the trail shows the octets, what they mean, and when the centre confirmed', async ({ page }) => {
  const complaints = complaintsOf(page);
  await signIn(page, rig, 'viewer');
  await visit(page, rig, `/run/point/${await rig.pointId('analog', 7)}`);
  await rig.force('analog', 7, 4321);
  // g32v3: flags online and locally forced, then 4321 as four octets, low one first, then the time.
  const marked = page.getByTestId('octets').locator('.bg-mark');
  await expect(marked.nth(1)).toHaveText('e1');
  expect((await marked.allTextContents()).slice(0, 5)).toEqual(['11', 'e1', '10', '00', '00']);
  await expect(marked).toHaveCount(11);
  await expect(page.getByLabel('Decoded')).toContainText('g32v3 i7');
  await expect(page.getByLabel('Decoded')).toContainText('online, local forced');
  await expect(page.getByLabel('Scaled')).toContainText('4.321 kV');
  await expect(page.getByTestId('story')).toContainText(
    /Reached Quillstone \d+ ms after F1 feeder relay measured it, and Quillstone confirmed it/,
  );
  await expect(page.getByTestId('story')).toContainText('Ambry has not fetched it yet; it waits there as event');
  await expect(page.getByTestId('sent-QST')).toContainText('online, remote forced');
  await rig.release('analog', 7);
  expect(complaints).toEqual([]);
});

test('a relay that is off breaks the path at the right hop, and it heals by itself', async ({ page }) => {
  await signIn(page, rig, 'viewer');
  await visit(page, rig, '/run/device/HLM-F1');
  await rig.power(false);
  await expect(page.getByTestId('hop-link')).toContainText('refused, nothing listens there');
  await expect(page.getByTestId('quality-binary-0')).toContainText('no communication');
  await expect(page.getByTestId('value-binary-0')).toHaveText('closed');
  await visit(page, rig, '/run');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('The device does not answer');
  await expect(page.locator('[data-break="link"]')).toBeVisible();
  await expect(page.getByTestId('advice')).toContainText('between Station LAN and the engine');
  await rig.power(true);
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('The device answers');
  await visit(page, rig, '/run/device/HLM-F1');
  await expect(page.getByTestId('quality-binary-0')).toHaveText('');
});

test('history as a chart and a table', async ({ page }) => {
  const complaints = complaintsOf(page);
  await signIn(page, rig, 'viewer');
  await visit(page, rig, `/run/history/${await rig.pointId('analog', 12)}`);
  for (const value of [1000, 2000, 3000]) {
    await rig.force('analog', 12, value);
    await page.waitForTimeout(1200);
  }
  const rows = page.getByRole('table', { name: /History of/ }).getByRole('row');
  await expect(rows.nth(1)).toContainText('3.000');
  await expect(rows.nth(2)).toContainText('2.000');
  await expect(page.getByTestId('history-chart').locator('path[stroke="var(--accent)"]')).toHaveAttribute('d', /^M/);
  await page.getByRole('button', { name: '7 d' }).click();
  await expect(page.getByRole('button', { name: '7 d' })).toHaveAttribute('aria-pressed', 'true');
  await expect(rows.nth(1)).toContainText('3.000');
  await rig.release('analog', 12);
  expect(complaints).toEqual([]);
});

test('the keyboard alone: search, move in the table, open, keys, back out', async ({ page }) => {
  await signIn(page, rig, 'viewer');
  await page.keyboard.press('/');
  await page.keyboard.type('hlm-f1 bi 0');
  await expect(page.getByRole('option').first()).toContainText('Breaker 52A');
  await page.keyboard.press('Enter');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Breaker 52A');
  await page.keyboard.press('?');
  await expect(page.getByRole('dialog')).toBeVisible();
  await page.keyboard.press('Escape');
  await expect(page.getByRole('dialog')).toBeHidden();
  await visit(page, rig, '/run/device/HLM-F1');
  await page.getByRole('rowgroup').focus();
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('Control+c');
  expect(await page.evaluate(() => navigator.clipboard.readText())).toMatch(
    /^Address\tPoint\t.*\nBI 1\tEarth switch\t0\topen/,
  );
  await page.keyboard.press('Enter');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Earth switch');
  await page.keyboard.press('g');
  await page.keyboard.press('m');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Mapping to Quillstone');
});

test('the table sorts, filters by column and counts its rows', async ({ page }) => {
  await signIn(page, rig, 'viewer');
  await visit(page, rig, '/run/device/HLM-F1');
  await expect(page.getByTestId('row-count')).toHaveText('80 rows');
  await page.getByRole('button', { name: 'Filter', exact: true }).click();
  await page.getByLabel('Filter Point').fill('current l');
  await expect(page.getByTestId('row-count')).toHaveText('6 of 80 rows');
  await page.getByRole('button', { name: 'Address' }).click();
  await page.getByRole('button', { name: 'Address ↑' }).click();
  await expect(page.getByRole('row').nth(1)).toContainText('Last fault current L3');
  await page.getByLabel('Filter Point').fill('no such point');
  await expect(page.getByRole('table')).toContainText('No row passes the filters');
});

test('when the server is gone the page says so, and catches up when it is back', async ({ page }) => {
  await signIn(page, rig, 'viewer');
  await visit(page, rig, '/run/device/HLM-F1');
  await page.getByLabel('Kind').selectOption('analog');
  await expect(page.getByTestId('value-analog-10')).toHaveText(/^\d/);
  await rig.system.kill('web');
  await expect(page.getByTestId('connection-lost')).toBeVisible();
  await rig.force('analog', 10, 4888);
  rig.system.start('web');
  await rig.system.waitFor('web');
  await expect(page.getByTestId('value-analog-10')).toHaveText('48.88');
  await expect(page.getByTestId('connection-lost')).toBeHidden();
  await rig.release('analog', 10);
});

test('at most four updates a second, and only of what is on screen', async ({ page }) => {
  await signIn(page, rig, 'viewer');
  await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 300 });
  const shown = await rig.pointId('analog', 20);
  const { messages, points } = await page.evaluate(async (id) => {
    const source = new EventSource(`/api/live?points=${id}`);
    let messages = 0;
    const points = new Set<string>();
    source.onmessage = (event: MessageEvent<string>) => {
      messages++;
      const message = JSON.parse(event.data) as { points?: object };
      Object.keys(message.points ?? {}).forEach((point) => points.add(point));
    };
    await new Promise((resolve) => setTimeout(resolve, 5000));
    source.close();
    return { messages, points: [...points] };
  }, shown);
  await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 0 });
  expect(messages).toBeGreaterThan(4);
  expect(messages).toBeLessThanOrEqual(21);
  expect(points).toEqual([String(shown)]);
});

test('a stopped engine is said to be stopped', async ({ page }) => {
  await signIn(page, rig, 'viewer');
  await rig.system.kill('engine');
  await expect(page.getByRole('heading', { level: 1 })).toContainText('The engine stopped');
  const health = await page.request.get(urlOf(rig, '/healthz'));
  expect(health.status()).toBe(503);
  await rig.startEngine();
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('The device answers');
});

test('on a telephone the board still says how things stand', async ({ page }) => {
  await page.setViewportSize({ width: 390, height: 800 });
  await signIn(page, rig, 'viewer');
  await expect(page.getByRole('heading', { level: 1 })).toBeVisible();
  await expect(page.getByRole('listitem').filter({ hasText: 'F1 feeder relay' })).toContainText('answered');
  expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(390);
});
