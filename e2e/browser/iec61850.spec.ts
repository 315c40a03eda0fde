import { readFileSync } from 'node:fs';
import { expect, test } from '@playwright/test';
import { Quality } from '@halvix/core/point';
import { bayFile } from '../../bench/scenario/sclfiles.ts';
import { modelClient } from '../rig/latest.ts';
import type { Rig } from '../rig/rig.ts';
import { Hands } from './hands.ts';
import { complaintsOf, firstEngineer, startRig, urlOf, visit } from './rig.ts';

/* Each begins with an empty draft. */
let rig: Rig;
test.beforeEach(async () => {
  rig = await startRig('iec61850', { demo: false, models: true });
});
test.afterEach(() => rig.stop());

test('a device’s model from its file to a DNP3 centre', async ({ page }) => {
  page.setDefaultTimeout(60_000);
  const complaints = complaintsOf(page);
  await firstEngineer(page, rig);
  await page.locator('html[data-scheme]').waitFor();
  await visit(page, rig, '/build');
  const hands = new Hands(page);
  await hands.click('link', 'Take from a file');
  await hands.file('bay.cid', bayFile(rig.ports.bay ?? 0));
  await expect(page.getByTestId('about')).toHaveText('HLMB1, edition 2.1, version 1, by Halvix, 1 IED');
  await hands.click('button', /^Take 1 device with \d+ points into the draft$/);
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Points of HLMB1');
  await hands.click('link', 'Add a centre');
  await hands.fill('Centre', 'Quillstone');
  await hands.fill('Our TCP port', String(rig.ports.quillstone));
  await hands.choose('Sees at once', 'all');
  await hands.choose(/^\s*Value/, 'engineering');
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Mapping to Quillstone');
  await hands.click('link', /^Draft:/);
  await hands.click('button', 'Apply…');
  await hands.click('button', 'Apply to the running system');
  await expect(page.getByTestId('applied')).toContainText('Revision 1 is applied');
  console.log(`      interactions: ${hands.count}`);
  expect(hands.count).toBeLessThanOrEqual(12);

  await visit(page, rig, '/run/device/HLMB1');
  await expect(page.getByTestId('value-binary-HLMB1/CILO1.EnaOpn.stVal[ST]')).toHaveText('1');
  await rig.bench('PUT', '/devices/HLM-B1/points/binary/1', { value: 0 });
  await expect(page.getByTestId('value-binary-HLMB1/CILO1.EnaOpn.stVal[ST]')).toHaveText('0');
  await rig.until('the centre has the bay', async () => {
    const points = await rig.bench<{ kind: string; index: number; value: number }[]>('GET', '/centres/QST/points');
    // In the order of their references: closing released, opening released.
    return points.find(({ kind, index }) => kind === 'binary' && index === 1)?.value === 0;
  });
  await rig.bench('DELETE', '/devices/HLM-B1/points/binary/1');

  // How it comes, block by block, and what the last report changed.
  await page.getByRole('link', { name: 'Reports and delays' }).click();
  await expect(page.getByTestId('details-reports')).toContainText('HLMB1/LLN0$BR$brcbMeasured01');
  await page.getByRole('button', { name: 'HLMB1/LLN0$BR$brcbMeasured01' }).click();
  await expect(page.getByTestId('details-reports')).toContainText('HLMB1/MMXU1.');

  // Its switch is operated from here, by the control model that it has.
  await page.getByRole('link', { name: 'Bay controller' }).click();
  await page
    .getByRole('row')
    .filter({ hasText: 'HLMB1/CSWI1.Pos[CO]' })
    .getByRole('button', { name: 'operate…' })
    .click();
  await page.getByRole('button', { name: 'Next: look it over' }).click();
  await page.waitForTimeout(700);
  await page.getByRole('button', { name: /^Send/ }).click();
  await expect(page.getByTestId('control-progress')).toContainText(/Confirmed|Operated/);
  await page.keyboard.press('Escape');

  // All that it has, in the list or not; a part of an address shows what is in it.
  await page.getByRole('link', { name: 'tell all that it has…' }).click();
  const table = page.getByRole('table', { name: 'All that HLMB1 has' });
  await expect(table).toContainText('HLMB1/CILO1.');
  await page.getByRole('button', { name: 'CILO1.' }).first().click();
  await expect(page.getByRole('navigation', { name: 'Scope' })).toContainText('CILO1');
  await expect(table).not.toContainText('HLMB1/CSWI1.');
  await expect(table).toContainText('good');

  // The file against the list that was made of it; then with a point less.
  await visit(page, rig, '/build/take');
  const file = { name: 'bay.cid', mimeType: 'text/xml', buffer: Buffer.from(bayFile(rig.ports.bay ?? 0)) };
  await page.locator('input[type=file]').setInputFiles(file);
  await page.getByRole('button', { name: 'compare with HLMB1' }).click();
  await expect(page.getByTestId('comparison')).toContainText('File and list of HLMB1 agree.');
  const less = Buffer.from(bayFile(rig.ports.bay ?? 0).replace(/<FCDA [^>]*doName="OpCnt"[^>]*>/, ''));
  await page.locator('input[type=file]').setInputFiles({ ...file, buffer: less });
  await page.getByRole('button', { name: 'compare with HLMB1' }).click();
  await expect(page.getByTestId('comparison')).toContainText('1 are in the list, not in the file');

  // A password is typed once, and seen by nobody afterwards; another one takes its place.
  await visit(page, rig, '/build/device/HLMB1');
  const unfold = (): Promise<void> => page.getByText(/^\d+ more: .*selector/).click();
  await unfold();
  const password = page
    .getByRole('group')
    .getByLabel(/^Password/)
    .and(page.locator('input'));
  const save = async (): Promise<void> => {
    await page.getByRole('button', { name: 'Save to the draft' }).click();
    await expect(page.getByText('is stored', { exact: true })).toBeVisible();
  };
  await password.fill('sluice gate 12');
  await expect(password).toHaveAttribute('type', 'password');
  await save();
  const [kept] = await rig.sql`select document->'settings'->>'password' as password from draft_object
    where kind = 'device' and document is not null`;
  expect(kept.password).toMatch(/^secret:/);
  await page.getByRole('button', { name: 'Password: another or none' }).click();
  await expect(password).toHaveValue('');
  await password.fill('sluice gate 13');
  await save();
  await page.reload();
  await unfold();
  await expect(page.getByText('is stored', { exact: true })).toBeVisible();

  const answer = await page.request.get(urlOf(rig, '/api/draft?after=0'));
  expect(await answer.text()).not.toContain('sluice gate');
  expect(complaints).toEqual([]);
});

/** Both lists as one table, as a spreadsheet has them. */
const LIST = [
  ['Device', 'Kind', 'Address', 'Name', 'Unit', 'Form', 'Octet order'],
  ['M1', 'AI', 'IR 4', 'Active power', 'kW', 'float32', 'CDAB'],
  ['F1', 'BI', '12', 'Door', '', '', ''],
]
  .map((row) => row.join('\t'))
  .join('\r\n');

test('a register and a relay’s status in our model, from an empty draft, seen by report and by polling', async ({
  page,
}) => {
  page.setDefaultTimeout(60_000);
  const complaints = complaintsOf(page);
  await firstEngineer(page, rig);
  await page.locator('html[data-scheme]').waitFor();
  const hands = new Hands(page);
  const device = page.getByRole('region', { name: 'Device' });
  await hands.click('link', 'a device');
  await hands.fill('Station name', 'Orlane Solar');
  await hands.fill('Code', 'F1', device);
  await hands.fill('Their DNP3 address', '11');
  await hands.fill('Address of the device', `127.0.0.1:${rig.ports.relay}`);
  await hands.click('button', 'Add it, and another');
  await expect(page.getByTestId('added')).toHaveText('F1 is in the draft.');
  await hands.choose('Protocol and our role', 'modbus');
  await hands.fill('Code', 'M1', device);
  await hands.fill('Unit identifier', '11');
  await hands.choose('Framing', 'rtu');
  await hands.fill('Address of the device', `127.0.0.1:${rig.ports.meters}`);
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Points of M1');
  await hands.paste(LIST);
  await hands.click('button', 'Take over 2 rows');
  await hands.click('link', 'Add a centre');
  await hands.choose('Protocol and our role', 'iec61850');
  await hands.fill('Centre', 'Modelled');
  await hands.fill('Our TCP port', String(rig.ports.model));
  await hands.choose('Sees at once', 'all');
  await hands.choose(/^\s*Value/, 'engineering');
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Mapping to Modelled');
  await hands.click('link', /^Draft:/);
  await hands.click('button', 'Apply…');
  await hands.click('button', 'Apply to the running system');
  await expect(page.getByTestId('applied')).toContainText('is applied');
  console.log(`      interactions: ${hands.count}`);
  expect(hands.count).toBeLessThanOrEqual(30);

  await rig.bench('PUT', '/devices/ORL-M1/points/analog/4', { value: 61.5 });
  await rig.bench('PUT', '/devices/HLM-F1/points/binary/12', { value: 1 });
  const references = await mappedTo(page, ['M1', 'F1']);
  const [power, door] = references;
  const list = [
    ['analog', `${power.replace('[MX]', '.mag.f[MX]')}`],
    ['binary', `${door.replace('[ST]', '.stVal[ST]')}`],
  ] as const;
  const reported = modelClient(rig.ports.model ?? 0, list, {});
  const polled = modelClient(rig.ports.model ?? 0, list, { reports: 'none', pollMs: 200 });
  const has = (client: typeof reported, value: number, on: number) => async (): Promise<boolean> =>
    Math.abs((client.latest.get(list[0][1])?.raw ?? NaN) - value) < 1e-3 && client.latest.get(list[1][1])?.raw === on;
  await rig.until('by report', has(reported, 61.5, 1));
  await rig.until('by polling', has(polled, 61.5, 1));
  await rig.bench('PUT', '/devices/ORL-M1/points/analog/4', { value: 40.25 });
  await rig.bench('PUT', '/devices/HLM-F1/points/binary/12', { value: 0 });
  await rig.until('the change by report', has(reported, 40.25, 0));
  await rig.until('the change by polling', has(polled, 40.25, 0));
  // Forced at the relay is substituted in a model, and comes back as forced at the device.
  expect(reported.latest.get(list[1][1])).toMatchObject({ event: true, quality: Quality.forcedAtDevice });
  expect(polled.latest.get(list[1][1])).toMatchObject({ event: false, quality: Quality.forcedAtDevice });
  reported.close();
  polled.close();

  // What is offered goes to the people there as a file.
  await visit(page, rig, '/build/mapping?outbound=MOD');
  const download = page.waitForEvent('download');
  await page.getByRole('button', { name: 'Model as a file (CID)' }).click();
  expect((await download).suggestedFilename()).toBe('MOD.cid');
  expect(complaints).toEqual([]);
});

/** Where the first point of each device is offered in our model, as the mapping shows it. */
async function mappedTo(page: import('@playwright/test').Page, devices: readonly string[]): Promise<string[]> {
  const [row] = await rig.sql`select document->'outbounds' as outbounds from revision order by id desc limit 1`;
  const outbounds = row.outbounds as {
    protocol: string;
    mappings: { device: string; target: { at: Record<string, string> } }[];
  }[];
  const mappings = outbounds.find(({ protocol }) => protocol === 'iec61850')?.mappings ?? [];
  expect(page.url()).toContain('/build');
  return devices.map((device) => {
    const at = mappings.find((one) => one.device === device)?.target.at;
    return `${at?.device}/${at?.node}.${at?.object}[${at?.fc}]`;
  });
}

test('setting groups and logs of a device, and a model from its file with points mapped onto it', async ({ page }) => {
  page.setDefaultTimeout(60_000);
  const complaints = complaintsOf(page);
  await firstEngineer(page, rig);
  await page.locator('html[data-scheme]').waitFor();
  await visit(page, rig, '/build/take');
  const hands = new Hands(page);
  const file = bayFile(rig.ports.bay ?? 0);
  await hands.file('bay.cid', file);
  await hands.click('button', /^Take 1 device with \d+ points into the draft$/);
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Points of HLMB1');
  await hands.click('link', 'Add a centre');
  await hands.choose('Protocol and our role', 'iec61850');
  await hands.fill('Centre', 'Modelled');
  await hands.fill('Our TCP port', String(rig.ports.model));
  // A file that is none is said at once, and the right one takes its place.
  await hands.file('broken.cid', file.replace('</SCL>', ''));
  await expect(page.getByRole('alert')).toContainText('broken.cid: line');
  await hands.click('button', 'Take it out');
  await hands.file('bay.cid', file);
  await hands.choose('Sees at once', 'all');
  await hands.choose(/^\s*Value/, 'engineering');
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Mapping to Modelled');
  await hands.click('link', /^Draft:/);
  await hands.click('button', 'Apply…');
  await hands.click('button', 'Apply to the running system');
  await expect(page.getByTestId('applied')).toContainText('is applied');

  // The same model as the device's, and its values in it where they were mapped.
  const list = [['binary', 'HLMB1/GGIO1.Ind2.stVal[ST]']] as const;
  const client = modelClient(rig.ports.model ?? 0, list, {});
  await rig.bench('PUT', '/devices/HLM-B1/points/binary/6', { value: 1 });
  await rig.until('the value in the model', () => Promise.resolve(client.latest.get(list[0][1])?.raw === 1));
  await rig.bench('DELETE', '/devices/HLM-B1/points/binary/6');
  client.close();

  // What is offered goes to the other end as the file came, but for its address.
  await visit(page, rig, '/build/mapping');
  const [saved] = await Promise.all([
    page.waitForEvent('download'),
    page.getByRole('button', { name: 'Model as a file (CID)' }).click(),
  ]);
  const written = readFileSync(await saved.path(), 'utf8');
  expect(written.replace(/<P type="MMS-Port">\d+/, '')).toBe(file.replace(/<P type="MMS-Port">\d+/, ''));
  expect(written).toContain(`<P type="MMS-Port">${rig.ports.model}`);

  await visit(page, rig, '/run/device/HLMB1');
  await page.getByRole('link', { name: 'tell its groups, logs, attributes…' }).click();
  const groups = page.getByRole('region', { name: 'Setting groups' });
  await expect(groups).toContainText('HLMB1');
  await groups.getByRole('button', { name: 'use another…' }).click();
  const group = page.getByLabel('Group', { exact: true });
  await group.fill('9');
  await expect(page.getByRole('alert')).toHaveText('Group: 1 to 4, not 9');
  await expect(page.getByRole('button', { name: 'Use another', exact: true })).toBeDisabled();
  await group.fill('3');
  await page.getByRole('button', { name: /^Use setting group 3/ }).click();
  await expect(page.getByRole('status')).toHaveText('Group 3 is in use in HLMB1.');
  await expect(groups.getByRole('cell').nth(1)).toHaveText('3');
  await groups.getByRole('button', { name: 'values of a group…' }).click();
  await page.getByRole('button', { name: /^Tell group 3/ }).click();
  const values = page.getByRole('region', { name: /^Group 3 of HLMB1, which is in use/ });
  const start = values.getByRole('row', { name: /start value/ });
  await expect(start).toContainText('640');
  await start.getByRole('button', { name: 'set…' }).click();
  await page.getByLabel('Value', { exact: true }).fill('655');
  await page.keyboard.press('Enter');
  await expect(start).toContainText('655');
  // Who changed what is written down.
  await visit(page, rig, '/run');
  await expect(page.getByText(/StrVal.setMag.f\[SE\] to 655 in group 3, asked by/)).toBeVisible();
  expect(complaints).toEqual([]);
});
