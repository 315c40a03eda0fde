import { expect, test, type Download } from '@playwright/test';
import type { Rig } from '../rig/rig.ts';
import { Hands } from './hands.ts';
import { complaintsOf, firstEngineer, signIn, startRig, visit } from './rig.ts';

let rig: Rig;
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
  rig = await startRig('tase2', { demo: false, peers: true });
  page.setDefaultTimeout(60_000);
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
  expect(took).toBeLessThan(15_000);

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

test('with two neighbours: reports side by side, tags, a message, their file, a value that is made up', async ({
  page,
}) => {
  rig = await startRig('neighbours', { peers: true });
  page.setDefaultTimeout(60_000);
  const complaints = complaintsOf(page);
  await signIn(page, rig, 'engineer');

  // Marked reports stand side by side, and stay while others come.
  await visit(page, rig, '/run/device/NMK/session');
  await page.getByRole('button', { name: 'NMK/DSTransferSet01' }).click();
  const marks = page.getByRole('group', { name: 'Mark those to compare' }).getByRole('checkbox');
  await expect.poll(() => marks.count()).toBeGreaterThan(4);
  // While somebody chooses, the list stays as it is.
  await page.getByLabel('only what differs').uncheck();
  for (const at of [0, 1, 2]) await marks.nth(at).check();
  const side = page.getByRole('table', { name: 'Reports of NMK/DSTransferSet01 side by side' });
  await expect(side.getByRole('columnheader')).toHaveCount(4);
  const times = await side.getByRole('columnheader').allTextContents();
  await page.waitForTimeout(1500);
  expect(await side.getByRole('columnheader').allTextContents()).toEqual(times);

  // A tag inhibits closing, and says so to whoever tries.
  await visit(page, rig, '/run/device/NMK');
  await page.getByRole('link', { name: 'tell its tags…' }).click();
  const tags = page.getByRole('region', { name: 'Tags' });
  await expect(tags).toContainText('NMK/TIE_CB_CMD');
  await tags.getByRole('button', { name: 'inhibit close…' }).click();
  await tags.getByLabel('Reason').fill('crew on the line');
  await tags.locator('form').getByRole('button').first().click();
  await expect(tags).toContainText('tagged, inhibits close: crew on the line');
  await visit(page, rig, '/run/device/NMK');
  await expect(page.getByTestId('value-analog-NMK/FREQ')).not.toHaveText('–');
  await page.waitForTimeout(1500);
  await page.getByRole('row').filter({ hasText: 'NMK/TIE_CB_CMD' }).getByRole('button', { name: 'operate…' }).click();
  const dialog = page.getByRole('dialog');
  await page.getByTestId('control-dialog').getByText('Close', { exact: true }).click();
  await page.getByRole('button', { name: 'Next: look it over' }).click();
  await page.waitForTimeout(700);
  await page.getByRole('button', { name: /^Send/ }).click();
  await expect(dialog).toContainText('crew on the line');
  await page.keyboard.press('Escape');

  // A message to the other centre, and what came of it.
  await visit(page, rig, '/run/outbound/NMC');
  await expect(page.getByTestId('details-transferSets')).toContainText('integrity time-out, object change');
  const send = page.getByRole('button', { name: 'tell them a message' });
  await expect(send).toBeDisabled();
  await page.getByLabel('Message', { exact: true }).fill('Tie opens at 14:00');
  await send.click();
  await visit(page, rig, '/run');
  await expect(
    page.getByText('tell them a message (Tie opens at 14:00), asked by engineer: told 1 peer'),
  ).toBeVisible();

  // Their file against ours: what they give and we lack is taken over.
  await visit(page, rig, '/build/outbound/NMC/agreement');
  const download = page.waitForEvent('download');
  await page.getByRole('link', { name: 'JSON' }).click();
  const own = JSON.parse(await readText(await download)) as { got: object[]; given: object[] };
  const theirs = {
    ...{ ...own, by: 'Northmark', with: 'Varrow Basin Utilities', got: own.given },
    given: [...own.got.slice(1), { address: 'NMK/SPARE_MW', kind: 'analog', name: 'Spare', unit: 'MW' }],
  };
  const choose = page.locator('input[type=file]');
  const file = (content: string) => ({
    name: 'theirs.json',
    mimeType: 'application/json',
    buffer: Buffer.from(content),
  });
  await choose.setInputFiles(file('{"schema":"other"}'));
  await expect(dialog.getByRole('alert')).toContainText('schema');
  await dialog.getByRole('button', { name: 'Close' }).or(dialog).first().press('Escape');
  await choose.setInputFiles(file(JSON.stringify(theirs)));
  await expect(page.getByTestId('agreement-verdict')).toContainText('2 differences from our draft');
  await expect(dialog.getByRole('region', { name: 'Northmark gives, and our list lacks' })).toContainText(
    'NMK/SPARE_MW',
  );
  await dialog.getByRole('button', { name: 'Take over 1 point into NMK' }).click();
  await expect(page.getByTestId('agreement-verdict')).toContainText('1 difference from our draft');
  await page.keyboard.press('Escape');
  await expect(page.getByRole('region', { name: 'Northmark gives us' })).toContainText('NMK/SPARE_MW');

  // On test a value of ours is made up; not before.
  await visit(page, rig, '/run/device/NMK');
  await expect(page.getByRole('button', { name: 'Poll now' })).toBeVisible();
  await expect(page.getByRole('button', { name: 'Play values…' })).toBeHidden();
  await visit(page, rig, '/build/device/NMK');
  await page
    .getByText(/more: /)
    .first()
    .click();
  await page.getByLabel('Life').selectOption('onTest');
  await page.getByRole('button', { name: 'Save to the draft' }).click();
  await page.getByRole('link', { name: /^Draft:/ }).click();
  await page.getByRole('button', { name: 'Apply…' }).click();
  await page.getByRole('button', { name: 'Apply to the running system' }).click();
  await expect(page.getByTestId('applied')).toContainText('is applied');
  await visit(page, rig, '/run/device/NMK');
  await page.getByRole('button', { name: 'Play values…' }).click();
  await dialog.getByLabel('Point').selectOption({ label: 'Network alarm' });
  await dialog.getByLabel('High').fill('5');
  await dialog.getByRole('button', { name: 'Play it' }).click();
  await expect(dialog.getByRole('alert')).toHaveText('value: 5 is no state of NMK/NET_ALARM, which has 0 to 1');
  await dialog.getByLabel('Point').selectOption({ label: 'Frequency' });
  await dialog.getByLabel('Low').fill('49');
  await dialog.getByLabel('High').fill('51');
  await dialog.getByRole('button', { name: 'Play it' }).click();
  await expect(dialog.getByRole('table', { name: 'Playing' })).toContainText('sine 49 to 51, 10 s, by engineer');
  await page.keyboard.press('Escape');
  await expect(page.getByTestId('playing')).toContainText('1 value is made up here: NMK/FREQ (sine 49 to 51, 10 s).');
  await expect(page.getByTestId('quality-analog-NMK/FREQ')).toContainText('forced here');
  await page.getByRole('button', { name: 'Play values…' }).click();
  await dialog.getByRole('button', { name: 'End Frequency' }).click();
  await expect(dialog.getByRole('table', { name: 'Playing' })).toBeHidden();
  await page.keyboard.press('Escape');
  await expect(page.getByTestId('quality-analog-NMK/FREQ')).not.toContainText('forced here');
  expect(complaints).toEqual([]);
});

async function readText(download: Download): Promise<string> {
  const stream = await download.createReadStream();
  const pieces: Buffer[] = [];
  for await (const piece of stream) pieces.push(piece as Buffer);
  return Buffer.concat(pieces).toString('utf8');
}
