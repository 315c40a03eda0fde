import { expect, test } from '@playwright/test';
import { randomUUID } from 'node:crypto';
import type { Rig } from '../rig/rig.ts';
import { complaintsOf, signIn, startRig, urlOf, visit } from './rig.ts';

/* The shared line, the bench and what came late, with the stations of the radio channel and the logger. */
let rig: Rig;
test.beforeAll(async () => {
  rig = await startRig('line', { stations: true });
});
test.afterAll(() => rig.stop());

test('the board draws the stations of one channel as one line', async ({ page }) => {
  const complaints = complaintsOf(page);
  await signIn(page, rig, 'viewer');
  await expect(page.getByText('Radio channel R1')).toHaveCount(1);
  await expect(page.getByRole('heading', { level: 1 })).toContainText('All five devices answer');
  expect(complaints).toEqual([]);
});

test('who had the line, what its time went into, and each of its devices', async ({ page }) => {
  const complaints = complaintsOf(page);
  await signIn(page, rig, 'viewer');
  await visit(page, rig, '/run/device/SKA');
  await page.getByRole('link', { name: 'Radio channel R1' }).click();
  await expect(page.getByTestId('link-words')).toContainText(/Each device is asked every .* of the time/);
  await expect(page.getByTestId('line-use')).toContainText('being answered');
  const strip = page.getByTestId('line-strip');
  for (const device of ['SKA', 'TOL', 'PKM']) await expect(strip).toContainText(device);
  await expect.poll(() => strip.locator('g').count()).toBeGreaterThan(5);
  await page.getByRole('button', { name: '1 min' }).click();
  await expect(page.getByRole('row', { name: /PKM/ })).toContainText('answered');
  // On a busy machine the octets of a line come a little late: less than a tenth of a second is as good as right.
  const right = /right, ± \d+ ms|[−+]\d{1,2} ms ± \d+/;
  await expect(page.getByRole('row', { name: /TOL/ })).toContainText(right);
  expect(complaints).toEqual([]);
});

test('a station that is switched off at the bench is seen to be silent, the others go on', async ({ page }) => {
  await signIn(page, rig, 'operator');
  await visit(page, rig, '/prove/bench');
  await page.getByRole('button', { name: 'PKM: switch off' }).click();
  await expect(page.getByTestId('bench-PKM')).toContainText(', off');
  await visit(page, rig, '/run/link/R1');
  await expect(page.getByRole('row', { name: /PKM/ })).toContainText('no answer to 3 requests');
  await expect(page.getByRole('row', { name: /SKA/ })).toContainText('answered');
  await rig.bench('PUT', '/devices/PKM/power', { on: true });
});

test('the bench impairs a link, takes no nonsense, and is only looked at by a viewer', async ({ page }) => {
  await signIn(page, rig, 'operator');
  await visit(page, rig, '/prove/bench');
  await page.getByRole('option', { name: /^HLM-F1/ }).click();
  await page.getByLabel('Latency, ms').fill('120');
  await page.keyboard.press('Tab');
  await expect(page.getByRole('option', { name: /^HLM-F1/ })).toContainText('120 ms late');
  await page.getByLabel('Frames dropped, %').fill('130');
  await page.keyboard.press('Tab');
  await expect(page.getByRole('alert')).toContainText('Frames dropped: 130 is not a number from 0 to 100');
  // It stays until something else is asked for, however often the page looks meanwhile.
  await page.waitForTimeout(1500);
  await expect(page.getByRole('alert')).toBeVisible();
  await page.getByRole('button', { name: 'Nothing wrong' }).click();
  await expect(page.getByRole('alert')).toHaveCount(0);
  await expect(page.getByRole('option', { name: /^HLM-F1/ })).toContainText('nothing wrong');
  await page.getByRole('button', { name: 'Sign out' }).click();
  await signIn(page, rig, 'viewer');
  await visit(page, rig, '/prove/bench');
  await expect(page.getByTestId('bench-HLM-F1')).toBeVisible();
  await expect(page.getByRole('button', { name: /switch off/ })).toHaveCount(0);
  const refused = await page.request.put(urlOf(rig, '/api/bench/devices/HLM-F1/power'), {
    data: { on: false },
    headers: { origin: new URL(page.url()).origin },
  });
  expect(refused.status()).toBe(403);
});

test('orders to a device: an operator freezes counters; restart, clock and clearing are the engineer’s, and who asked is in the security log', async ({
  page,
}) => {
  await signIn(page, rig, 'operator');
  await visit(page, rig, '/run/device/SKA');
  await page.getByRole('button', { name: 'freeze its counters' }).click();
  await expect(page.getByText('Asked.')).toBeVisible();
  for (const name of ['restart…', 'take our time'])
    await expect(page.getByRole('button', { name, exact: true })).toHaveCount(0);
  for (const order of [
    { what: 'restart', how: 'cold' },
    { what: 'freeze', clear: true, range: null, acknowledged: true },
    { what: 'synchronise' },
    { what: 'broadcast', job: 'freeze' },
  ]) {
    const refused = await page.request.post(urlOf(rig, '/api/requests'), {
      data: { type: 'order', device: 'SKA', order, by: 'somebody else' },
      headers: { origin: new URL(page.url()).origin },
    });
    expect(refused.status(), JSON.stringify(order)).toBe(403);
  }
  await visit(page, rig, '/run/link/R1');
  await expect(page.getByText('Tell all devices at once')).toHaveCount(0);
  await page.getByRole('button', { name: 'Sign out' }).click();
  // All of a line at once; nobody answers that.
  await signIn(page, rig, 'engineer');
  await visit(page, rig, '/run/link/R1');
  await page.getByRole('button', { name: 'take our time' }).click();
  await expect(page.getByText('A broadcast is not answered')).toBeVisible();
  await visit(page, rig, '/run');
  await expect(page.getByText('freeze counters, asked by operator: done')).toBeVisible();
  await expect(page.getByText('to all on the line: set the clock, asked by engineer: done')).toBeVisible();
  await visit(page, rig, '/upkeep/security');
  const log = page.getByRole('table', { name: 'Security log' });
  for (const [who, words] of [
    ['operator', 'SKA: freeze counters'],
    ['engineer', 'to all on the line: set the clock'],
  ])
    await expect(log.getByRole('row').filter({ hasText: who }).filter({ hasText: words })).toContainText('order');
});

test('a level is set in its unit, within its limits, and the station shows what it took', async ({ page }) => {
  const complaints = complaintsOf(page);
  await signIn(page, rig, 'operator');
  await visit(page, rig, '/run/device/SKA');
  await page.getByLabel('Kind').selectOption('setpoint');
  await page.getByRole('button', { name: 'operate…' }).click();
  const dialog = page.getByTestId('control-dialog');
  await dialog.getByLabel(/^Value, m/).fill('9');
  await expect(dialog.getByRole('alert')).toContainText('9 is above its highest, 4 m');
  await expect(dialog.getByRole('button', { name: /Next/ })).toBeDisabled();
  await dialog.getByLabel(/^Value, m/).fill('2.2');
  await expect(dialog).toContainText('sent as 2200 counts, as int16');
  await dialog.getByRole('button', { name: /Next/ }).click();
  await expect(page.getByTestId('control-summary')).toContainText('Set to 2.2 m goes to Skarn RTU');
  await dialog.getByRole('button', { name: 'Send “set to 2.2 m” to SKA' }).click();
  await expect(page.getByTestId('control-progress')).toContainText('Confirmed: Upstream level wanted: 2.2 m');
  await dialog.getByRole('button', { name: 'Done' }).click();
  await page.getByLabel('Kind').selectOption('text');
  await expect(page.getByTestId('value-text-0')).toContainText('level 2.200 m');
  await page.getByRole('link', { name: 'Last order', exact: true }).click();
  await page.getByRole('link', { name: 'History' }).click();
  await expect(page.getByRole('row', { name: /level 2.200 m/ }).first()).toBeVisible();
  await visit(page, rig, '/prove');
  await expect(page.getByRole('row', { name: /Upstream level wanted Set to 2.200 m/ })).toContainText('confirmed');
  expect(complaints).toEqual([]);
});

test('the records of a relay: listed, fetched, saved as they are, deleted there by an engineer only', async ({
  page,
}) => {
  const complaints = complaintsOf(page);
  await signIn(page, rig, 'operator');
  await visit(page, rig, '/run/device/HLM-F1');
  await page.getByRole('link', { name: 'give its files…' }).click();
  await expect(page.getByTestId('directory-words')).toContainText('not known here yet');
  await page.getByRole('button', { name: 'Read the directory' }).click();
  await expect(page.getByRole('row', { name: /REC00001.CFG/ })).toContainText('387 octets');
  await expect(page.getByRole('button', { name: /Delete/ })).toHaveCount(0);
  await page.getByRole('button', { name: 'Fetch REC00001.CFG' }).click();
  const save = page.getByRole('link', { name: 'Save REC00001.CFG' });
  await expect(save).toBeVisible();
  const saved = await page.request.get(urlOf(rig, (await save.getAttribute('href')) ?? ''));
  expect(saved.headers()['content-disposition']).toBe('attachment; filename="HLM-F1-REC00001.CFG"');
  expect((await saved.text()).split('\r\n')[1]).toBe('7,6A,1D');
  const order = { id: randomUUID(), device: 'HLM-F1', what: 'deleteFile', name: 'REC00001.CFG' };
  const origin = { origin: new URL(page.url()).origin };
  const refused = await page.request.post(urlOf(rig, '/api/files'), { data: order, headers: origin });
  expect(refused.status()).toBe(403);
  await page.getByRole('button', { name: 'Sign out' }).click();
  await signIn(page, rig, 'engineer');
  await visit(page, rig, '/run/device/HLM-F1/files');
  await page.getByRole('button', { name: 'Delete REC00001.CFG there' }).click();
  await page.getByRole('button', { name: 'Delete it there' }).click();
  const inDevice = page.getByRole('table', { name: 'Files in HLM-F1' });
  await expect(inDevice.getByRole('row', { name: /REC00001.CFG/ })).toHaveCount(0);
  // What was fetched is still here.
  await expect(page.getByRole('link', { name: 'Save REC00001.CFG' })).toBeVisible();
  expect(
    await rig.sql`select who, what, words from security_log where words like '%REC00001.CFG%' order by id`,
  ).toEqual([
    { who: 'operator', what: 'file', words: 'HLM-F1: read file REC00001.CFG' },
    { who: 'operator', what: 'export', words: 'the file REC00001.CFG of HLM-F1' },
    { who: 'engineer', what: 'file', words: 'HLM-F1: delete file REC00001.CFG' },
  ]);
  expect(complaints).toEqual([]);
});

test('what the logger had kept is drawn at its own times and marked as late', async ({ page }) => {
  const [{ id }] = await rig.sql`
    select id from point_identity where device = 'LMB' and address = 'AI 0'`;
  // Half a minute of samples that nobody takes.
  await rig.bench('PUT', '/links/LMB/impairments', { silence: true });
  await page.waitForTimeout(36_000);
  await rig.bench('PUT', '/links/LMB/impairments', {});
  await signIn(page, rig, 'viewer');
  await visit(page, rig, `/run/history/${id}`);
  await expect(page.getByTestId('late-words')).toContainText('values came late');
  // In the table, whose newest rows came in time.
  await page.getByRole('button', { name: 'Filter', exact: true }).click();
  await page.getByLabel('Filter Came by').fill('late');
  await expect(page.getByRole('row', { name: /event, \d+ s late/ }).first()).toBeVisible();
});

test('a new device joins the channel of the others', async ({ page }) => {
  await signIn(page, rig, 'engineer');
  await visit(page, rig, '/build/device/new?station=PKM');
  const device = page.getByRole('region', { name: 'Device' });
  await device.getByLabel('Code', { exact: true }).fill('PKM-2');
  await device.getByLabel('Name', { exact: true }).fill('Second RTU');
  await page.getByLabel('Their DNP3 address').fill('23');
  await page.getByLabel('Line', { exact: true }).selectOption('R1');
  await expect(page.getByTestId('neighbours')).toContainText('SKA, TOL, PKM');
  await page.getByRole('button', { name: 'Add it to the draft' }).click();
  await page.waitForURL('**/build/points?device=PKM-2');
  await visit(page, rig, '/build/changes');
  await expect(page.getByText('another device on link R1 has the address 23')).toBeVisible();
});

test('whoever goes elsewhere while a device is being added is left there', async ({ page }) => {
  await signIn(page, rig, 'engineer');
  await visit(page, rig, '/build/device/new?station=PKM');
  const device = page.getByRole('region', { name: 'Device' });
  await device.getByLabel('Code', { exact: true }).fill('PKM-3');
  await device.getByLabel('Name', { exact: true }).fill('Third RTU');
  await page.getByLabel('Their DNP3 address').fill('24');
  await page.getByLabel('Line', { exact: true }).selectOption('R1');
  await page.route('**/api/draft', async (route) => {
    const answer = await route.fetch();
    await new Promise((resolve) => setTimeout(resolve, 700));
    await route.fulfill({ response: answer });
  });
  const added = page.waitForResponse('**/api/draft');
  await page.getByRole('button', { name: 'Add it to the draft' }).click();
  // What is not in the draft yet is asked about.
  page.on('dialog', (dialog) => void dialog.accept());
  await page.getByRole('link', { name: 'Mapping', exact: true }).click();
  await expect(page.getByRole('heading', { level: 1 })).toContainText('Mapping');
  await added;
  await page.waitForTimeout(500);
  await expect(page).toHaveURL(/\/build\/mapping/);
  await visit(page, rig, '/build/points?device=PKM-3');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Points of PKM-3');
});
