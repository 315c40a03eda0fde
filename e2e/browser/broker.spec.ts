import { expect, test } from '@playwright/test';
import { Broker } from '../rig/broker.ts';
import type { Rig } from '../rig/rig.ts';
import { Hands } from './hands.ts';
import { complaintsOf, signIn, startRig, urlOf } from './rig.ts';

let rig: Rig;
let broker: Broker;
test.beforeAll(async () => {
  broker = await Broker.start();
  rig = await startRig('broker');
});
test.afterAll(async () => {
  broker.stop();
  await rig.stop();
});

test('points to a broker, from an empty draft to what its subscriber hears, in ten steps, and one for a port that is not the usual one; and what was sent', async ({
  page,
}) => {
  const complaints = complaintsOf(page);
  await signIn(page, rig, 'engineer');
  await page.goto(urlOf(rig, '/build'));
  await page.locator('html[data-scheme]').waitFor();
  const hands = new Hands(page);
  await hands.click('link', 'Add a centre');
  await hands.choose('Protocol and our role', 'mqtt');
  await hands.fill('Destination', 'Northern archive');
  await hands.fill('Code', 'NAR');
  await hands.fill('Address of the centre', '127.0.0.1');
  await hands.fill('TCP port of the centre', String(broker.port));
  await hands.choose('Sees at once', 'all');
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('heading', { level: 1 })).toContainText('Mapping');
  await hands.click('link', /^Draft:/);
  await hands.click('button', 'Apply…');
  await hands.click('button', 'Apply to the running system');
  await rig.force('analog', 7, 31_000);
  const heard = (): unknown[] =>
    broker.objects((topic) => topic === 'halvix/HLM-F1').flatMap(({ values }) => values['AI 7'] ?? []);
  await expect.poll(() => heard().at(-1)).toBe(31);
  console.log(`      interactions: ${hands.count}`);

  await page.goto(urlOf(rig, '/run/outbound/NAR'));
  await expect(page.getByTestId('outbound-words')).toContainText(/^Northern archive: delivered .* ago/);
  const packets = page.getByTestId('packets');
  await expect(packets).toContainText('delivered');
  const times = heard().length;
  const row = packets.locator('tbody tr').first();
  await row.getByRole('button').first().click();
  await expect(page.getByTestId('packet-content').first()).toContainText('halvix/HLM-F1');
  if (process.env.HALVIX_PICTURES)
    await page.screenshot({ path: `${process.env.HALVIX_PICTURES}/packets.png`, fullPage: true });
  const again = packets.getByRole('button', { name: /^Send packet \d+ again$/ }).first();
  const number = Number(/\d+/.exec((await again.getAttribute('aria-label')) ?? '')?.[0]);
  await again.click();
  await expect(page.getByRole('status')).toContainText('goes once more, with the same ids');
  await expect.poll(() => broker.objects().filter(({ id }) => id === number).length).toBe(2);

  await page.getByRole('button', { name: 'Send a span of history…' }).click();
  const sheet = page.getByRole('dialog');
  if (process.env.HALVIX_PICTURES) await page.screenshot({ path: `${process.env.HALVIX_PICTURES}/span.png` });
  const late = await sheet.getByLabel('To').inputValue();
  await sheet.getByLabel('From').fill(late);
  await sheet.getByRole('button', { name: 'Send it' }).click();
  await expect(sheet.getByRole('alert')).toHaveText('to: must be later than from');
  await sheet.getByLabel('To').fill('2096-01-01T00:00');
  await sheet.getByRole('button', { name: 'Send it' }).click();
  await expect(sheet.getByRole('alert')).toHaveText('to: must be at most 31 days after from');
  const end = await page.evaluate(() => {
    const later = new Date(Date.now() + 120_000);
    return new Date(later.getTime() - later.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
  });
  await sheet.getByLabel('From').fill(late.replace(/T.*/, 'T00:00'));
  await sheet.getByLabel('To').fill(end);
  await sheet.getByRole('button', { name: 'Send it' }).click();
  await expect(sheet).toHaveCount(0);
  await expect.poll(() => heard().length).toBeGreaterThan(times);
  expect(complaints.filter((words) => !/400/.test(words))).toEqual([]);
  expect(hands.count).toBeLessThanOrEqual(11);
});
