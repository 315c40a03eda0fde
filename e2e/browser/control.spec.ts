import { expect, test, type Page } from '@playwright/test';
import type { Rig } from '../rig/rig.ts';
import { complaintsOf, signIn, startRig, urlOf, visit } from './rig.ts';

let rig: Rig;
test.beforeAll(async () => {
  rig = await startRig('control');
});
test.afterAll(() => rig.stop());

const operations = async (): Promise<number> =>
  (await rig.bench<{ operations: number }>('GET', '/devices/HLM-F1')).operations;
const progress = (page: Page): ReturnType<Page['getByTestId']> => page.getByTestId('control-progress');

async function openDialog(page: Page): Promise<void> {
  await visit(page, rig, `/run/point/${await rig.pointId('output', 0)}`);
  await page.getByRole('button', { name: 'Operate…' }).click();
}

test('trip and close as operator, step by step to the feedback point', async ({ page }) => {
  const complaints = complaintsOf(page);
  await signIn(page, rig, 'operator');
  await openDialog(page);
  await page.getByRole('button', { name: 'Next: look it over' }).click();
  await expect(page.getByTestId('control-summary')).toContainText('Trip goes to F1 feeder relay');
  await expect(page.getByTestId('control-summary')).toContainText('Breaker 52A has to become open');
  await page.getByRole('button', { name: 'Send “trip” to HLM-F1' }).click();
  await expect(progress(page)).toContainText('Select sent to the device');
  await expect(progress(page)).toContainText('Selected: the device is ready');
  await expect(progress(page)).toContainText('Operated: the device accepted');
  await expect(progress(page)).toContainText('Confirmed: Breaker 52A: open');
  expect((await rig.relayPoint('binary', 0)).value).toBe(0);
  await page.getByRole('button', { name: 'Another control' }).click();
  await page.getByText('Close', { exact: true }).click();
  await page.getByRole('button', { name: 'Next: look it over' }).click();
  await page.getByRole('button', { name: 'Send “close” to HLM-F1' }).click();
  await expect(progress(page)).toContainText('Confirmed: Breaker 52A: closed');
  await page.getByRole('button', { name: 'Done' }).click();
  await visit(page, rig, '/prove');
  await expect(page.getByRole('row').nth(1)).toContainText('Close');
  await expect(page.getByRole('row').nth(2)).toContainText('confirmed: Breaker 52A: open');
  expect(complaints).toEqual([]);
});

test('in local the refusal shows the status of the relay', async ({ page }) => {
  await rig.force('binary', 6, 0);
  await signIn(page, rig, 'operator');
  await openDialog(page);
  await page.getByRole('button', { name: 'Next: look it over' }).click();
  await page.getByRole('button', { name: /^Send/ }).click();
  await expect(progress(page)).toContainText('Refused by the device: status 7, the device is in local');
  await rig.release('binary', 6);
});

test('a double click, a lost answer and a reload send a control once', async ({ page }) => {
  await signIn(page, rig, 'operator');
  const before = await operations();
  await openDialog(page);
  await page.getByRole('button', { name: 'Next: look it over' }).click();
  // The request arrives, its answer gets lost.
  let dropped = 0;
  await page.route('**/api/commands', async (route) => {
    if (dropped++ > 0) return route.continue();
    await route.fetch();
    await route.abort();
  });
  const send = page.getByRole('button', { name: /^Send/ });
  await send.dblclick();
  await expect(page.getByRole('alert')).toContainText('Pressing again is safe');
  await send.dblclick();
  await expect(progress(page)).toContainText('Confirmed: Breaker 52A: open');
  await page.reload();
  await page.waitForTimeout(1500);
  expect(await operations()).toBe(before + 1);
});

test('wrong times name the field, the value and the limit', async ({ page }) => {
  await signIn(page, rig, 'operator');
  await openDialog(page);
  await page.getByLabel('On time, ms').fill('700000');
  await expect(page.getByRole('alert')).toHaveText('On time: 700000 is not from 0 to 600 000 ms');
  await expect(page.getByRole('button', { name: 'Next: look it over' })).toBeDisabled();
});

test('a viewer sees no control, and is refused by the server', async ({ page }) => {
  await signIn(page, rig, 'viewer');
  const pointId = await rig.pointId('output', 0);
  await visit(page, rig, `/run/point/${pointId}`);
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Trip/close 52A');
  await expect(page.getByRole('button', { name: 'Operate…' })).toHaveCount(0);
  const before = await operations();
  const post = (path: string, data: object, origin = urlOf(rig, '').replace(/\/$/, '')): Promise<number> =>
    page.request.post(urlOf(rig, path), { data, headers: { origin } }).then((answer) => answer.status());
  const order = {
    id: crypto.randomUUID(),
    pointId,
    operation: 'trip',
    mode: 'direct',
    onMs: 500,
    offMs: 250,
    count: 1,
  };
  expect(await post('/api/commands', order)).toBe(403);
  expect(await post('/api/requests', { type: 'pollNow', device: 'HLM-F1' })).toBe(403);
  await page.waitForTimeout(1200);
  expect(await operations()).toBe(before);
});

test('the server takes no order that is malformed, from elsewhere, or for what is no control', async ({ page }) => {
  await signIn(page, rig, 'operator');
  const origin = urlOf(rig, '').replace(/\/$/, '');
  const order = {
    id: crypto.randomUUID(),
    pointId: await rig.pointId('output', 0),
    operation: 'trip',
    mode: 'direct',
    onMs: 500,
    offMs: 250,
    count: 1,
  };
  const post = async (data: object, from = origin): Promise<[number, string]> => {
    const answer = await page.request.post(urlOf(rig, '/api/commands'), { data, headers: { origin: from } });
    return [answer.status(), await answer.text()];
  };
  expect(await post(order, 'http://elsewhere.invalid')).toEqual([403, expect.anything()]);
  expect((await post({ ...order, count: 300 }))[1]).toContain('The count is at most 255');
  expect((await post({ ...order, operation: 'latchOn' }))[1]).toContain('takes trip, close, not latchOn');
  expect((await post({ ...order, pointId: await rig.pointId('binary', 0) }))[1]).toContain('Breaker 52A is no control');
  expect((await post({ ...order, pointId: 999_999 }))[0]).toBe(404);
});
