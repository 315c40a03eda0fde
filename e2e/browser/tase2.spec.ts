import { expect, test } from '@playwright/test';
import type { Rig } from '../rig/rig.ts';
import { Hands } from './hands.ts';
import { complaintsOf, firstEngineer, startRig, visit } from './rig.ts';

let rig: Rig;
test.beforeEach(async () => {
  rig = await startRig('tase2', { demo: false, peers: true });
});
test.afterEach(() => rig.stop());

/** What the agreement names, as a spreadsheet has it. */
const LIST = [
  ['Device', 'Kind', 'Object name', 'Name', 'Unit'],
  ['NMK', 'BI', 'NMK/NET_ALARM', 'Network alarm', ''],
  ['NMK', 'BI', 'NMK/TIE_LIVE', 'Tie line live', ''],
  ['NMK', 'AI', 'NMK/TIE_MW', 'Tie, active power', 'MW'],
  ['NMK', 'AI', 'NMK/TIE_KV', 'Tie, voltage', 'kV'],
  ['NMK', 'AI', 'NMK/FREQ', 'Frequency', 'Hz'],
]
  .map((row) => row.join('\t'))
  .join('\r\n');

test('a neighbour’s points, offered on to a second peer, from an empty draft', async ({ page }) => {
  test.setTimeout(120_000);
  page.setDefaultTimeout(15_000);
  const complaints = complaintsOf(page);
  await firstEngineer(page, rig);
  await page.locator('html[data-scheme]').waitFor();
  const hands = new Hands(page);
  const device = page.getByRole('region', { name: 'Device' });
  await hands.click('link', 'a device');
  await hands.fill('Station name', 'Northmark');
  await hands.choose('Protocol and our role', 'tase2');
  await hands.fill('Code', 'NMK', device);
  await hands.fill('Domain of the agreement', 'NMK');
  await hands.fill('Id of the bilateral table', 'NMK-VBU-4');
  await hands.fill('Address of the device', `127.0.0.1:${rig.ports.northmark}`);
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Points of NMK');
  await hands.paste(LIST);
  await hands.click('button', 'Take over 5 rows');
  await hands.click('link', 'Add a centre');
  await hands.choose('Protocol and our role', 'tase2');
  await hands.fill('Centre', 'Caldmere');
  await hands.fill('Our domain', 'VBU');
  await hands.fill('Our TCP port', String(rig.ports.agreement));
  await hands.choose('Sees at once', 'all');
  await hands.choose(/^\s*Value/, 'engineering');
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Mapping to Caldmere');
  const caldmere = new URL(page.url()).searchParams.get('outbound') ?? '';
  await hands.click('link', /^Draft:/);
  await hands.click('button', 'Apply…');
  await hands.click('button', 'Apply to the running system');
  await expect(page.getByTestId('applied')).toContainText('is applied');
  console.log(`      interactions: ${hands.count}`);
  expect(hands.count).toBeLessThanOrEqual(35);

  interface Seen {
    address: string;
    value: number;
    event: boolean;
  }
  const seen = async (name: string): Promise<Seen | undefined> =>
    (await rig.bench<Seen[]>('GET', '/centres/NMC/points')).find(({ address }) => address === `VBU/${name}`);
  // The second peer looks at what there is when it comes, and comes again when that has changed.
  await rig.until('the second peer sees all five', async () => (await seen('AN3')) !== undefined, 30_000);
  await rig.bench('PUT', '/devices/NMK/points/binary/1', { value: 1 });
  const took = await rig.until('the alarm is there', async () => (await seen('ST1'))?.value === 2);
  expect(took).toBeLessThan(2000);

  // How it comes, transfer set by transfer set, and what the last report changed.
  await visit(page, rig, '/run/device/NMK');
  await expect(page.getByTestId('value-binary-NMK/NET_ALARM')).toHaveText('1');
  await expect(page.getByText('bilateral table NMK-VBU-4')).toBeVisible();
  await page.getByRole('link', { name: 'Transfer sets' }).click();
  const sets = page.getByTestId('details-transferSets');
  await expect(sets).toContainText('NMK/DSTransferSet01');
  await expect(sets).toContainText('object change');
  await rig.bench('DELETE', '/devices/NMK/points/binary/1');

  // All that the neighbour lets us see, in the list or not.
  await page.goBack();
  await page.getByRole('link', { name: 'tell all that it has…' }).click();
  const table = page.getByRole('table', { name: 'All that NMK has' });
  await expect(table).toContainText('NMK/SPIN_RES');
  await expect(table).not.toContainText('Transfer_Set_Name');

  // Without anybody at the far side: one of its values goes by itself, and says that it is not its own.
  await visit(page, rig, '/prove/bench');
  await page.getByRole('button', { name: 'NMK: play values' }).click();
  const dialog = page.getByRole('dialog');
  await dialog.getByLabel('Point').selectOption({ label: 'Frequency' });
  await dialog.getByLabel('Low').fill('much');
  await dialog.getByRole('button', { name: 'Play it' }).click();
  await expect(dialog.getByRole('alert')).toHaveText('Low: much is not a number');
  await dialog.getByLabel('Low').fill('49');
  await dialog.getByLabel('High').fill('51');
  await dialog.getByRole('button', { name: 'Play it' }).click();
  await expect(dialog.getByRole('table', { name: 'Playing' })).toContainText('sine 49 to 51, 10 s');
  await visit(page, rig, '/run/device/NMK');
  const frequency = page.getByRole('row').filter({ hasText: 'NMK/FREQ' });
  await expect(frequency).toContainText('forced at the device');
  await visit(page, rig, '/prove/bench');
  await page.getByRole('button', { name: 'NMK: play values' }).click();
  await page.getByRole('button', { name: 'End Frequency' }).click();
  await expect(page.getByRole('table', { name: 'Playing' })).toBeHidden();

  // Were the neighbour the same party, all that came from it would come back to it: that is not applied.
  await visit(page, rig, `/build/outbound/${caldmere}`);
  await page
    .getByText(/more: /)
    .first()
    .click();
  await page.getByLabel('It is our device too').selectOption('NMK');
  await page.getByRole('button', { name: 'Save to the draft' }).click();
  await page.getByRole('link', { name: 'Agreement' }).click();
  const gives = page.getByRole('region', { name: 'Caldmere gives us' });
  await expect(gives).toContainText('NMK/TIE_MW');
  await expect(gives).toContainText('NMK-VBU-4');
  await expect(page.getByRole('region', { name: 'We give Caldmere' })).toContainText('NMK Network alarm');
  await page.getByRole('link', { name: /^Draft:/ }).click();
  await expect(page.getByText('NMK is Caldmere: the point would come back to where it is from').first()).toBeVisible();
  await expect(page.getByRole('button', { name: 'Apply…' })).toBeDisabled();
  expect(complaints).toEqual([]);
});
