import { expect, test, type Page } from '@playwright/test';
import { once } from 'node:events';
import { readFile } from 'node:fs/promises';
import { createServer, type AddressInfo } from 'node:net';
import { FEEDER_RELAY } from '../../bench/scenario/feederrelay.ts';
import { KIND_WORDS } from '../../core/point/index.ts';
import type { Rig } from '../rig/rig.ts';
import { Hands } from './hands.ts';
import { complaintsOf, firstEngineer, startRig, urlOf, visit } from './rig.ts';

let rig: Rig;
test.describe.configure({ mode: 'serial' });
test.beforeAll(async () => {
  rig = await startRig('build', { demo: false });
});
test.afterAll(() => rig.stop());

/** The list of the relay as a spreadsheet puts it on the clipboard. */
const LIST = [
  ['Type', 'Index', 'Point name', 'Units', 'Scale', 'State text', 'Commands'],
  ...FEEDER_RELAY.map(({ kind, index, name, unit, gain, states, operations }) => [
    KIND_WORDS[kind].short,
    String(index),
    `HLM-F2 ${name}`,
    unit,
    kind === 'analog' || kind === 'counter' ? String(gain) : '',
    states?.join(' / ') ?? '',
    operations.map((one) => one.replace(/([A-Z])/g, (letter) => ` ${letter.toLowerCase()}`)).join(' / '),
  ]),
]
  .map((row) => row.join('\t'))
  .join('\r\n');

async function signInAs(page: Page, name: string): Promise<void> {
  await page.goto(urlOf(rig));
  await page.getByLabel('Name').fill(name);
  await page.getByLabel('Password').fill('long enough 1');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.waitForURL('**/run');
}

test('from an empty database to a relay seen at the centre, in at most 25 interactions', async ({ page }) => {
  const complaints = complaintsOf(page);
  await rig.bench('PUT', '/devices/HLM-F2/power', { on: true });
  await firstEngineer(page, rig);
  await page.locator('html[data-scheme]').waitFor();
  const hands = new Hands(page);
  await hands.click('link', 'Build');
  await hands.click('link', 'Add a device');
  const device = page.getByRole('region', { name: 'Device' });
  await hands.fill('Station code', 'HLM');
  await hands.fill('Station name', 'Hollowmere');
  await hands.fill('Code', 'HLM-F2', device);
  await hands.fill('Name', 'F2 feeder relay', device);
  await hands.fill('Their DNP3 address', '12');
  await hands.fill('Address of the device', '127.0.0.1');
  await hands.fill('TCP port of the device', String(rig.ports.relay2));
  await hands.click('button', 'Try it');
  await expect(page.getByTestId('try-outcome')).toHaveText('It answers.');
  await expect(page.getByTestId('try-steps')).toContainText(
    '28 binary inputs, 12 binary controls, 36 analog inputs, 4 counters',
  );
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Points of HLM-F2');
  await hands.paste(LIST);
  await expect(page.getByTestId('paste-new')).toHaveText('80 new');
  await hands.click('button', 'Take over 80 rows');
  await expect(page.getByTestId('row-count')).toHaveText('80 points');
  await hands.click('link', 'Mapping');
  await hands.click('link', 'Add a centre');
  await hands.fill('Code', 'QST');
  await hands.fill('Centre', 'Quillstone');
  await hands.fill('Our TCP port', String(rig.ports.quillstone));
  await hands.click('button', 'Add it to the draft');
  await hands.click('button', 'Map by rule…');
  await expect(page.getByTestId('rule-counts')).toContainText('80 new');
  await hands.click('button', 'Map 80 points');
  await expect(page.getByRole('main')).toContainText('80 of 80 points can be seen by Quillstone');
  await hands.click('link', /^Draft:/);
  await hands.click('button', 'Apply…');
  await expect(page.getByTestId('effects')).toContainText('2 sessions start: HLM-F2, QST');
  await hands.click('button', 'Apply to the running system');
  await expect(page.getByTestId('applied')).toContainText('Revision 1 is applied');
  console.log(`      interactions: ${hands.count}`);
  expect(hands.count).toBeLessThanOrEqual(25);

  await visit(page, rig, '/run/device/HLM-F2');
  await page.getByLabel('Kind').selectOption('analog');
  await rig.bench('PUT', '/devices/HLM-F2/points/analog/7', { value: 31_415 });
  await expect(page.getByTestId('value-analog-7')).toHaveText('31.415');
  await rig.until('the centre has it', async () => {
    const points = await rig.bench<{ kind: string; index: number; value: number }[]>('GET', '/centres/QST/points');
    return points.some((point) => point.kind === 'analog' && point.index === 7 && point.value === 31_415);
  });
  expect(complaints).toEqual([]);
});

test('a second relay from the profile of the first, in at most 8 interactions', async ({ page }) => {
  await signInAs(page, 'ada');
  await visit(page, rig, '/build/device/HLM-F2');
  await page.getByRole('button', { name: 'Save as profile…' }).click();
  await page.getByLabel('Code of the profile').fill('FEEDER');
  await page.getByRole('button', { name: 'Save the profile' }).click();
  await page.waitForURL('**/build/profiles');
  const hands = new Hands(page);
  await hands.click('button', 'Use FEEDER');
  await hands.fill('Code, row 1', 'HLM-F1');
  await hands.fill('Address of the device, row 1', '127.0.0.1');
  await hands.fill('TCP port, row 1', String(rig.ports.relay));
  await hands.fill('Their DNP3 address, row 1', '11');
  await hands.click('button', 'Add into the draft: 1 device');
  await page.waitForURL('**/build');
  await visit(page, rig, '/build/changes');
  await hands.click('button', 'Apply…');
  await expect(page.getByTestId('effects')).toContainText('1 session starts: HLM-F1');
  await expect(page.getByTestId('effects')).toContainText('2 sessions go on untouched: HLM-F2, QST');
  await hands.click('button', 'Apply to the running system');
  await expect(page.getByTestId('applied')).toContainText('Revision 2 is applied');
  console.log(`      interactions: ${hands.count}`);
  expect(hands.count).toBeLessThanOrEqual(8);
  await rig.until('it answers', async () => (await rig.hop('device', 'HLM-F1'))?.state === 'answering');
});

test('a try says what each failure usually means', async ({ page }) => {
  await signInAs(page, 'ada');
  await visit(page, rig, '/build/device/new?station=HLM');
  const device = page.getByRole('region', { name: 'Device' });
  const outcome = page.getByTestId('try-outcome');
  const steps = page.getByTestId('try-steps');
  await device.getByLabel('Code', { exact: true }).fill('T1');
  await page.getByLabel('Address of the device').fill('127.0.0.1');
  await page.getByLabel('TCP port of the device').fill('1');
  await page.getByLabel('Their DNP3 address').fill('12');
  await page.getByRole('button', { name: 'Try it' }).click();
  await expect(outcome).toHaveText('It does not work yet.');
  await expect(steps).toContainText('refused, nothing listens there');
  await expect(steps).toContainText('wrong port, or DNP3 is switched off');
  // A device that has its master already closes a second connection …
  const busy = createServer((socket) => socket.destroy()).listen(0, '127.0.0.1');
  await once(busy, 'listening');
  await page.getByLabel('TCP port of the device').fill(String((busy.address() as AddressInfo).port));
  await page.getByRole('button', { name: 'Try again' }).click();
  await expect(steps).toContainText('the other end closed the connection');
  await expect(steps).toContainText('it may accept one master at a time');
  busy.close();
  // … and our own outstation answers only the centre's address.
  await page.getByLabel('TCP port of the device').fill(String(rig.ports.quillstone));
  await page.getByLabel('Their DNP3 address').fill('10');
  await page.getByRole('button', { name: 'Try again' }).click();
  await expect(steps).toContainText('connected, but silent');
  await expect(outcome).toHaveText('It does not work yet.');
  await page.getByRole('button', { name: 'Try again' }).click();
  await page.getByRole('button', { name: 'Cancel' }).click();
  await expect(outcome).toHaveText('Cancelled.');
  page.on('dialog', (dialog) => void dialog.accept());
});

test('broken files tell row, column, value and reason, and change nothing', async ({ page }) => {
  await signInAs(page, 'ada');
  await visit(page, rig, '/build/points?device=HLM-F2');
  await expect(page.getByTestId('row-count')).toHaveText('80 points');
  const before = await rig.sql`select max(version) as version from draft_object`;
  const importing = async (name: string, content: string | Buffer): Promise<void> => {
    await page
      .getByLabel('Import…')
      .setInputFiles({ name, mimeType: 'text/csv', buffer: Buffer.from(content as string) });
  };
  const problems = page.getByTestId('paste-row-problem');
  const close = (): Promise<void> => page.getByRole('button', { name: 'Cancel' }).click();

  await importing(
    'latin1.csv',
    Buffer.from([...Buffer.from('Kind,Address,Name\nAI,100,Temp'), 0xe9, 0x72, 0x61, 0x0a]),
  );
  await expect(page.getByTestId('paste-problem')).toContainText('row 2: octet 0xe9 is not UTF-8');
  await page.keyboard.press('Escape');
  await importing('no-name.csv', 'Kind,Address\nAI,100\n');
  await expect(problems).toContainText('row 2, Name: it has no name');
  await close();
  await importing('twice.csv', 'Kind,Address,Name\nAI,100,One\nAI,100,Two\n');
  await expect(problems).toContainText('row 3, Address “AI 100”: row 2 has this address too');
  await close();
  await importing('comma.csv', 'Kind;Address;Name;Gain\nAI;100;One;0,025\n');
  await expect(problems).toContainText('row 2, Gain “0,025”: "0,025" has a comma: write 0.025');
  await close();
  await importing('formula.csv', 'Kind,Address,Name\nAI,100,"=HYPERLINK(""x"")"\n');
  await expect(problems).toContainText('looks like a formula');
  await close();
  await importing('script.csv', 'Kind,Address,Name\nAI,100,<script>alert(1)</script>\n');
  await expect(problems).toContainText('A name has no < or >');
  await close();
  await importing(
    'long.csv',
    `Kind,Address,Name\n${Array.from({ length: 200_000 }, (_, i) => `AI,${i % 65536},P${i}`).join('\n')}\n`,
  );
  await expect(page.getByTestId('paste-problem')).toContainText('more than 100000 rows');
  await page.keyboard.press('Escape');
  await importing('no.xlsx', 'this is no workbook');
  await expect(page.getByTestId('paste-problem')).toContainText('cannot be read');
  await page.keyboard.press('Escape');
  expect(await rig.sql`select max(version) as version from draft_object`).toEqual(before);
  await expect(page.getByTestId('row-count')).toHaveText('80 points');
});

test('a list goes out as a workbook and comes back as it was; a device is copied', async ({ page }) => {
  await signInAs(page, 'ada');
  await visit(page, rig, '/build/points?device=HLM-F2');
  await expect(page.getByTestId('row-count')).toHaveText('80 points');
  await page.getByRole('button', { name: 'Export' }).click();
  const [file] = await Promise.all([page.waitForEvent('download'), page.getByRole('button', { name: 'XLSX' }).click()]);
  expect(file.suggestedFilename()).toBe('halvix-points-HLM-F2.xlsx');
  const buffer = await readFile(await file.path());
  await page.getByLabel('Import…').setInputFiles({ name: 'again.xlsx', mimeType: 'application/zip', buffer });
  await expect(page.getByTestId('paste-same')).toHaveText('80 as it is');
  await page.getByRole('button', { name: 'Cancel' }).click();
  await visit(page, rig, '/build/device/HLM-F2');
  await page.getByRole('button', { name: 'Copy…' }).click();
  await page.getByLabel('Code, row 1').fill('HLM-F3');
  await page.getByRole('button', { name: 'Copy into the draft: 1 device' }).click();
  await expect(page.getByRole('alert')).toContainText('Their DNP3 address');
  await page.getByLabel('Their DNP3 address, row 1').fill('13');
  await page.getByLabel('TCP port, row 1').fill('20003');
  await page.getByRole('button', { name: 'Copy into the draft: 1 device' }).click();
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('HLM-F3 F2 feeder relay');
  await expect(page.getByRole('link', { name: '80 points' })).toBeVisible();
  await page.getByRole('button', { name: 'Delete…' }).click();
  await page.getByRole('button', { name: 'Delete from the draft' }).click();
  await expect(page.getByRole('link', { name: 'HLM-F3' })).toHaveCount(0);
});

test('the address plan goes out, comes in changed, and says what is wrong with it', async ({ page }) => {
  const complaints = complaintsOf(page);
  await signInAs(page, 'ada');
  await visit(page, rig, '/build/plan');
  const [file] = await Promise.all([
    page.waitForEvent('download'),
    page.getByRole('button', { name: 'Export CSV' }).click(),
  ]);
  const plan = await readFile(await file.path(), 'utf8');
  expect(plan).toContain('F2 feeder relay');
  const take = (name: string, text: string): Promise<void> =>
    page.getByLabel('Import CSV…').setInputFiles({ name, mimeType: 'text/csv', buffer: Buffer.from(text) });
  await take('same.csv', plan);
  await expect(page.getByText('Nothing changes.')).toBeVisible();
  await page.getByRole('button', { name: 'Cancel' }).click();
  await take('wrong.csv', plan.replace(/(device,HLM-F2,[^,]*,[^,]*,[^,]*),\d+/, '$1,70000'));
  await expect(page.getByRole('alert')).toContainText(/row \d+, Port “70000”/);
  await expect(page.getByRole('button', { name: /Take over/ })).toBeDisabled();
  await page.getByRole('button', { name: 'Cancel' }).click();
  await take('moved.csv', plan.replace(/(device,HLM-F2,[^,]*),[^,]*/, '$1,F2 relay moved'));
  await page.getByRole('button', { name: 'Take over 1' }).click();
  await expect(page.getByRole('row', { name: /HLM-F2/ })).toContainText('F2 relay moved');
  await page.getByRole('button', { name: 'Undo' }).click();
  await expect(page.getByRole('row', { name: /HLM-F2/ })).toContainText('F2 feeder relay');
  // Two radios whose radio sides clash are told of each other.
  for (const [code, wired] of [
    ['RAD-1', '192.168.1.1/24'],
    ['RAD-2', '192.168.1.1/24'],
  ]) {
    await page.getByRole('button', { name: 'Add a radio' }).click();
    await page.getByLabel('Code', { exact: true }).fill(code);
    await page.getByLabel('Name', { exact: true }).fill(`Radio ${code}`);
    await page.getByLabel('Radio side, address/prefix').fill('10.9.0.5/24');
    await page.getByLabel('Wired side, address/prefix').fill(wired);
    await page.getByRole('button', { name: 'Save to the draft' }).click();
    await expect(page.getByRole('row', { name: new RegExp(code) })).toBeVisible();
  }
  await expect(page.getByRole('row', { name: /RAD-2/ })).toContainText('10.9.0.5');
  await expect(page.getByText(/endpoints, checked as one:/)).toContainText('with a problem');
  for (const code of ['RAD-1', 'RAD-2']) {
    await page
      .getByRole('row', { name: new RegExp(code) })
      .getByRole('button', { name: 'edit' })
      .click();
    await page.getByRole('button', { name: 'Delete it' }).click();
    await expect(page.getByRole('row', { name: new RegExp(code) })).toHaveCount(0);
  }
  expect(complaints).toEqual([]);
});

test('the grid: edit, fill, series, replace, undo and redo, by keys', async ({ page }) => {
  const complaints = complaintsOf(page);
  await signInAs(page, 'ada');
  await visit(page, rig, '/build/points?device=HLM-F2');
  await expect(page.getByTestId('row-count')).toHaveText('80 points');
  const nameOf = async (index: number): Promise<string> => {
    const [row] = await rig.sql`
      select document->>'name' as name from draft_object
      where kind = 'point' and parent = 'HLM-F2' and document->>'kind' = 'binary' and (document->'at'->>'index')::int = ${index}`;
    return String(row.name);
  };
  const grid = page.getByTestId('grid');
  await grid.focus();
  for (const key of ['ArrowRight', 'ArrowRight']) await page.keyboard.press(key);
  await page.keyboard.type('Input L1');
  await page.keyboard.press('Enter');
  await expect(page.getByTestId('grid-message')).toContainText('Name of HLM-F2 BI 0');
  expect(await nameOf(0)).toBe('Input L1');
  await page.keyboard.press('ArrowUp');
  await page.keyboard.down('Shift');
  for (let i = 0; i < 3; i++) await page.keyboard.press('ArrowDown');
  await page.keyboard.up('Shift');
  await page.keyboard.press('Control+Shift+d');
  await expect(page.getByTestId('grid-message')).toContainText('series: 3 points');
  expect(await nameOf(3)).toBe('Input L4');
  await page.keyboard.press('Control+z');
  await expect(page.getByRole('gridcell', { name: 'Overcurrent picked up', exact: true })).toBeVisible();
  await page.keyboard.press('Control+y');
  await expect(page.getByRole('gridcell', { name: 'Input L4', exact: true })).toBeVisible();
  await page.keyboard.press('Control+z');
  await page.keyboard.press('Control+z');
  await expect(page.getByRole('gridcell', { name: 'Breaker 52A', exact: true })).toBeVisible();

  // A value that does not go: said beside the field, with its limit, and nothing is lost.
  await page.keyboard.press('Home');
  await page.keyboard.press('ArrowRight');
  await page.keyboard.press('Control+Home');
  await page.keyboard.press('ArrowRight');
  await page.keyboard.type('70000');
  await page.keyboard.press('Enter');
  await expect(page.getByRole('alert')).toContainText('70000 is not a whole number from 0 to 65535');
  await page.keyboard.press('Escape');

  // An address that is used already stands in the row as a problem, with a fix.
  await page.keyboard.type('1');
  await page.keyboard.press('Enter');
  await expect(page.getByRole('button', { name: /^[12] problems?/ })).toBeVisible();
  await page.getByRole('button', { name: 'Mend 1' }).click();
  await expect(page.getByRole('button', { name: '0 problems' })).toBeVisible();
  await page.getByRole('button', { name: 'Undo' }).click();
  await page.getByRole('button', { name: 'Undo' }).click();
  await expect(page.getByRole('button', { name: '0 problems' })).toBeVisible();

  await page.getByRole('button', { name: 'Find and replace…' }).click();
  await page.getByLabel('Find', { exact: true }).fill('^(Current) L(\\d)$');
  await page.getByLabel('Replace by').fill('Phase $2 current');
  await page.getByLabel('regular expression').check();
  await page.getByRole('button', { name: 'Replace in 3' }).click();
  await expect(page.getByTestId('grid-message')).toContainText('replace: 3 points');
  await page.getByRole('button', { name: 'Undo' }).click();
  await page.getByRole('button', { name: 'Filter', exact: true }).click();
  await page.getByLabel('Filter Name').fill('current l');
  await expect(page.getByTestId('row-count')).toHaveText('6 of 80 points');
  expect(complaints).toEqual([]);
});

test('a survey finds what the list lacks, and takes it over', async ({ page }) => {
  await signInAs(page, 'ada');
  await visit(page, rig, '/build/points?device=HLM-F2');
  await expect(page.getByTestId('row-count')).toHaveText('80 points');
  await page.getByTestId('grid').focus();
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('Shift+Delete');
  await expect(page.getByTestId('row-count')).toHaveText('79 points');
  // It shows at once; the page may be left when the server has it (who leaves before is asked).
  await expect(page.getByRole('button', { name: 'Undo' })).toBeEnabled();
  await visit(page, rig, '/build/device/HLM-F2');
  await page.getByRole('button', { name: 'Survey' }).click();
  const dialog = page.getByRole('dialog');
  await expect(page.getByTestId('attributes')).toContainText('product and model Feeder relay, simulated');
  await expect(dialog).toContainText('1 answer but are not in the list');
  await expect(dialog).toContainText('BI 1 (g1v2)');
  await dialog.getByRole('button', { name: 'Add all to the list' }).click();
  await expect(dialog).toContainText('List and device agree.');
  await page.keyboard.press('Escape');
  await page.getByRole('button', { name: 'Undo' }).click();
  await expect(page.getByRole('button', { name: 'Redo' })).toBeEnabled();
  await page.goto(urlOf(rig, '/build/points?device=HLM-F2'));
  await expect(page.getByTestId('row-count')).toHaveText('79 points');
  // The deletion was made on a page that has been left: it can be undone all the same.
  await page.locator('html[data-scheme]').waitFor();
  await page.getByRole('button', { name: 'Undo' }).click();
  await expect(page.getByTestId('row-count')).toHaveText('80 points');
  await page.getByRole('button', { name: 'Redo' }).click();
  await expect(page.getByTestId('row-count')).toHaveText('79 points');
  await page.reload();
  await page.locator('html[data-scheme]').waitFor();
  await page.getByRole('button', { name: 'Undo' }).click();
  await expect(page.getByTestId('row-count')).toHaveText('80 points');
});

test('two engineers see each other and cannot overwrite each other unseen', async ({ browser }) => {
  const [one, two] = [await browser.newPage(), await browser.newPage()];
  await signInAs(one, 'ada');
  const { hash } = await import('@node-rs/argon2');
  await rig.sql`insert into account (name, role, password_hash, created)
    values ('bo', 'engineer', ${await hash('long enough 1')}, now()) on conflict do nothing`;
  await signInAs(two, 'bo');
  await visit(one, rig, '/build/device/HLM-F2');
  await visit(two, rig, '/build/device/HLM-F2');
  const name = (page: Page): ReturnType<Page['getByLabel']> =>
    page.getByRole('region', { name: 'Device' }).getByLabel('Name', { exact: true });
  // Bo saves while Ada's page does not hear of it.
  await one.route('**/api/draft?after=*', (route) => route.abort());
  await name(two).fill('Feeder two');
  await two.getByRole('button', { name: 'Save to the draft' }).click();
  await expect(two.getByTestId('draft-state')).toContainText('touched');
  await name(one).fill('Second feeder');
  await one.getByRole('button', { name: 'Save to the draft' }).click();
  await expect(one.getByRole('dialog')).toContainText('changed by bo');
  await expect(one.getByRole('dialog')).toContainText('Name: Feeder two → Second feeder');
  await one.unroute('**/api/draft?after=*');
  await one.getByRole('button', { name: 'Keep theirs' }).click();
  await expect(name(one)).toHaveValue('Feeder two');
  await expect(one.getByTestId('other')).toContainText('bo changed the draft');
  await two.getByRole('button', { name: 'Undo' }).click();
  await expect(name(one)).toHaveValue('F2 feeder relay');

  // What is typed stays while Bo saves; it is not saved over his, and not lost in the dialog.
  await name(one).fill('Typed by Ada');
  await name(two).fill('Written by Bo');
  await two.getByRole('button', { name: 'Save to the draft' }).click();
  await expect(one.getByTestId('meanwhile')).toContainText('bo changed it meanwhile');
  await expect(name(one)).toHaveValue('Typed by Ada');
  await one.getByRole('button', { name: 'Save to the draft' }).click();
  await expect(one.getByRole('dialog')).toContainText('Name: Written by Bo → Typed by Ada');
  await one.keyboard.press('Escape');
  await expect(name(one)).toHaveValue('Typed by Ada');
  await one.getByRole('button', { name: 'Save to the draft' }).click();
  await one.getByRole('button', { name: 'Write mine over it' }).click();
  await expect(name(two)).toHaveValue('Typed by Ada');
  await expect(one.getByTestId('meanwhile')).toBeHidden();

  // A cell that is open stays what it was opened on, whatever comes and goes around it.
  await visit(one, rig, '/build/points?device=HLM-F2');
  await visit(two, rig, '/build/points?device=HLM-F2');
  const cell = (page: Page, words: string | RegExp): ReturnType<Page['locator']> =>
    page.getByTestId('grid').locator('[data-column]').filter({ hasText: words }).first();
  const opened = (page: Page): ReturnType<Page['locator']> => page.getByTestId('active-cell').locator('input');
  const [first, second] = (
    await rig.sql`
      select document->>'name' as name from draft_object where parent = 'HLM-F2' and document->>'kind' = 'binary'
      order by sort limit 2`
  ).map(({ name: words }) => String(words));
  await cell(one, first).dblclick();
  await opened(one).fill('HLM-F2 by Ada');
  // Bo makes a problem, which brings a column beside the name, and changes the same name.
  await cell(two, second).click();
  await two.keyboard.press('ArrowLeft');
  await two.keyboard.type('0');
  await two.keyboard.press('Enter');
  await cell(two, first).dblclick();
  await opened(two).fill('HLM-F2 by Bo');
  await two.keyboard.press('Enter');
  await expect(one.getByTestId('other')).toContainText('bo changed the draft');
  await expect(one.getByRole('button', { name: /^1 problem/ })).toBeVisible();
  await expect(opened(one)).toHaveValue('HLM-F2 by Ada');
  await expect(opened(one)).toHaveAttribute('aria-label', /^Name of /);
  await opened(one).press('Enter');
  await expect(one.getByRole('dialog')).toContainText('HLM-F2 by Bo → HLM-F2 by Ada');
  await one.getByRole('button', { name: 'Keep theirs' }).click();
  await expect(cell(one, 'HLM-F2 by Bo')).toBeVisible();

  // What Bo does after the dialog was opened is not applied by it.
  await visit(one, rig, '/build/changes');
  await one.getByRole('button', { name: 'Discard the draft…' }).click();
  await two.getByRole('button', { name: 'Undo' }).click();
  await expect(one.getByRole('dialog')).toContainText('The draft changed since this was opened');
  await expect(one.getByRole('button', { name: 'Discard it' })).toBeDisabled();
  await two.getByRole('button', { name: 'Undo' }).click();
  await expect(two.getByRole('button', { name: /^0 problems/ })).toBeVisible();
  await one.close();
  await two.close();
});

test('revisions: compare, apply an older one again, export and import', async ({ page }) => {
  await signInAs(page, 'ada');
  await visit(page, rig, '/build/changes?from=1&to=2');
  await expect(page.getByTestId('changes')).toContainText('device HLM-F1 F2 feeder relay');
  await visit(page, rig, '/build/changes');
  await page.getByRole('button', { name: 'apply again…' }).click();
  await page.getByRole('button', { name: 'Apply revision 1 again' }).click();
  await expect(page.getByTestId('applied')).toContainText('Revision 1 runs again, as revision 3');
  const log = await rig.sql`select who, words from security_log where what = 'configuration' order by id`;
  expect(log.map(({ words }) => String(words).replace(/:.*/, ''))).toEqual([
    'applied revision 1',
    'applied revision 2',
    'applied revision 1 again, as revision 3',
  ]);
  expect(log[2].who).toBe('ada');
  const opened = await rig.sql`select who, words from security_log where what = 'access' order by id`;
  expect(opened.map(({ who, words }) => `${who} ${words}`).join('\n')).toMatch(/^ada revision 1 opened outbound /);
  await rig.until('F1 is gone', async () => (await rig.hop('device', 'HLM-F1')) === undefined);
  const [exported] = await Promise.all([
    page.waitForEvent('download'),
    page.getByRole('link', { name: 'Export revision 2' }).click(),
  ]);
  await page.getByLabel('Import a configuration…').setInputFiles(await exported.path());
  await expect(page.getByRole('dialog')).toContainText('device HLM-F1 F2 feeder relay');
  await page.getByRole('button', { name: /^Take over/ }).click();
  await expect(page.getByRole('region', { name: 'Differences' }).getByTestId('changes')).toContainText(
    'device HLM-F1 F2 feeder relay',
  );
});

test('a viewer sees the draft and may change nothing', async ({ page }) => {
  const { hash } = await import('@node-rs/argon2');
  await rig.sql`insert into account (name, role, password_hash, created)
    values ('vi', 'viewer', ${await hash('long enough 1')}, now())`;
  await signInAs(page, 'vi');
  await visit(page, rig, '/build/points?device=HLM-F2');
  await expect(page.getByTestId('row-count')).toHaveText('80 points');
  await expect(page.getByRole('toolbar', { name: 'Edit points' })).toHaveCount(0);
  const origin = urlOf(rig, '').replace(/\/$/, '');
  for (const path of [
    '/api/draft',
    '/api/apply',
    '/api/revisions',
    '/api/configuration',
    '/api/probes',
    '/api/profiles',
  ]) {
    const answer = await page.request.post(urlOf(rig, path), { data: {}, headers: { origin } });
    expect(answer.status()).toBe(403);
  }
});
