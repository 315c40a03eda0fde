import { expect, test } from '@playwright/test';
import ModbusRTU from 'modbus-serial';
import { freePorts } from '../../scripts/lib/ports.mjs';
import type { Rig } from '../rig/rig.ts';
import { Hands } from './hands.ts';
import { complaintsOf, firstEngineer, startRig, urlOf, visit } from './rig.ts';

let rig: Rig;
let third = 0;
test.describe.configure({ mode: 'serial' });
test.beforeAll(async () => {
  rig = await startRig('modbus', { demo: false, modbus: true });
  [third] = await freePorts(1);
});
test.afterAll(() => rig.stop());

/** Both lists as one table, as a spreadsheet has them. */
const LIST = [
  ['Device', 'Kind', 'Address', 'Name', 'Unit', 'Form', 'Octet order', 'State words', 'Operations', 'Gain'],
  ['M1', 'AI', '30001', 'Voltage', 'V', 'float32', 'CDAB', '', '', ''],
  ['M1', 'AI', 'IR 4', 'Active power', 'kW', 'float', 'word swap', '', '', ''],
  ['M1', 'CT', '300021', 'Energy out', 'kWh', 'uint32', 'CDAB', '', '', '0.1'],
  ['M1', 'BO', 'CO 0', 'Feed-in relay', '', '', '', 'open / closed', 'latch on / latch off', ''],
  ['F1', 'BI', '0', 'Breaker', '', '', '', 'open / closed', '', ''],
  ['F1', 'AI', '7', 'Voltage L1-L2', 'kV', '', '', '', '', '0.001'],
  ['F1', 'BO', '0', 'Breaker control', '', '', '', '', 'trip / close', ''],
]
  .map((row) => row.join('\t'))
  .join('\r\n');

const meter = async (name: string): Promise<number> =>
  (await rig.bench<{ name: string; value: number }[]>('GET', '/devices/ORL-M1/points')).find((one) => one.name === name)
    ?.value ?? NaN;
const centre = async (kind: string, index: number): Promise<number | undefined> =>
  (await rig.centrePoint('QST', kind, index))?.value;

test('from an empty draft: a meter and a relay, both seen by a centre and by a third party, and operated by both', async ({
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
  await hands.click('button', 'Try it');
  await expect(page.getByTestId('try-outcome')).toHaveText('It answers.');
  await expect(page.getByTestId('try-steps')).toContainText('Energy meter, simulated');
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Points of M1');
  await hands.paste(LIST);
  await expect(page.getByTestId('paste-new')).toHaveText('7 new');
  await hands.click('button', 'Take over 7 rows');

  // What a centre sees and may do is said once, for the next one too.
  const outbound = async (name: string, port: number): Promise<void> => {
    await hands.fill('Centre', name);
    await hands.fill('Our TCP port', String(port));
  };
  await hands.click('link', 'Add a centre');
  await outbound('Quillstone', rig.ports.quillstone);
  await hands.choose('The centre may operate', 'yes');
  await hands.choose('Sees at once', 'all');
  await hands.choose('Value', 'engineering');
  await hands.click('button', 'Add it, and another');
  await expect(page.getByTestId('added')).toHaveText('QUI is in the draft.');
  await hands.choose('Protocol and our role', 'modbus');
  await outbound('Third party', third);
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('main')).toContainText('7 of 7 points can be seen by Third party');
  await hands.click('link', /^Draft:/);
  await hands.click('button', 'Apply…');
  await expect(page.getByTestId('effects')).toContainText('4 sessions start');
  await hands.click('button', 'Apply to the running system');
  await expect(page.getByTestId('applied')).toContainText('Revision 1 is applied');
  console.log(`      interactions: ${hands.count}`);
  expect(hands.count).toBeLessThanOrEqual(30);

  // All values are equal at all places: at the meter, here, at the centre, at the third party.
  const client = new ModbusRTU();
  // A connection that is reset is no error of the test: what is asked over it fails by itself.
  client.on('error', () => {});
  await rig.until('it listens', async () =>
    client.connectTCP('127.0.0.1', { port: third }).then(
      () => true,
      () => false,
    ),
  );
  client.setID(1);
  client.setTimeout(9000);
  const float = async (address: number): Promise<number> =>
    (await client.readInputRegisters(address, 2)).buffer.readFloatBE(0);
  await rig.bench('PUT', '/devices/ORL-M1/points/analog/4', { value: 61.5 });
  await rig.bench('PUT', '/devices/HLM-F1/points/analog/7', { value: 31_415 });
  await visit(page, rig, '/run/device/M1');
  await expect(page.getByTestId('value-analog-4')).toHaveText('61.500');
  // In a series: the relay's points first, then the meter's.
  await rig.until('the centre has both', async () => {
    const power = await centre('analog', 2);
    return (
      power !== undefined &&
      Math.abs(power - 61.5) < 1e-3 &&
      Math.abs(Number(await centre('analog', 0)) - 31.415) < 1e-3
    );
  });
  await rig.until(
    'the third party has both',
    async () => Math.abs((await float(4)) - 61.5) < 1e-3 && Math.abs((await float(0)) - 31.415) < 1e-3,
  );

  // A coil from the browser, with what is read back as its feedback; then from the third party.
  await page.getByRole('button', { name: 'operate…' }).click();
  await page.getByText('Latch off', { exact: true }).click();
  await page.getByRole('button', { name: 'Next: look it over' }).click();
  await expect(page.getByTestId('control-summary')).toContainText('Feed-in relay has to become open');
  await page.waitForTimeout(700);
  await page.getByRole('button', { name: /^Send/ }).click();
  await expect(page.getByTestId('control-progress')).toContainText('Confirmed: Feed-in relay: open');
  expect(await meter('Feed-in relay')).toBe(0);
  await page.keyboard.press('Escape');
  await expect(page.getByTestId('value-output-0')).toHaveText('open');
  await client.writeCoil(1, true);
  await expect(page.getByTestId('value-output-0')).toHaveText('closed');
  expect(await meter('Feed-in relay')).toBe(1);
  client.close(() => {});

  // A run of points goes on behind the registers that are taken, as far apart as its values are wide.
  await visit(page, rig, '/build/points?device=M1');
  await page.getByRole('button', { name: 'Add a run…' }).click();
  await page.getByLabel('Kind', { exact: false }).last().selectOption('setpoint');
  await expect(page.getByRole('dialog')).toContainText('HR 0');
  await page.getByRole('button', { name: 'Cancel' }).click();
  await visit(page, rig, '/build/device/M1');
  await expect(page.getByTestId('request-plan')).toContainText('input registers 0 to 21');
  expect(complaints).toEqual([]);
});

test('who answers, as points: a device without a link, with all that it lacks in one step', async ({ page }) => {
  const complaints = complaintsOf(page);
  await page.goto(urlOf(rig));
  await page.getByLabel('Name').fill('ada');
  await page.getByLabel('Password').fill('long enough 1');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await page.waitForURL('**/run');
  await visit(page, rig, '/build/device/new');
  await page.getByLabel('Protocol and our role').first().selectOption('supervision');
  await expect(page.getByRole('region', { name: 'Link' })).toHaveCount(0);
  await page.getByRole('region', { name: 'Device' }).getByLabel('Code', { exact: true }).fill('SUP');
  await page.getByRole('button', { name: 'Add it to the draft' }).click();
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Points of SUP');
  await page.getByRole('button', { name: 'Add all 4 that it lacks' }).click();
  await expect(page.getByTestId('row-count')).toHaveText('4 points');
  await expect(page.getByRole('button', { name: 'that it lacks' })).toHaveCount(0);
  await page.getByRole('link', { name: /^Draft:/ }).click();
  await page.getByRole('button', { name: 'Apply…' }).click();
  await page.getByRole('button', { name: 'Apply to the running system' }).click();
  await expect(page.getByTestId('applied')).toContainText('is applied');
  await visit(page, rig, '/run/device/SUP');
  await expect(page.getByTestId('value-binary-comm F1')).toHaveText('normal');
  await expect(page.getByTestId('value-binary-comm M1')).toHaveText('normal');
  await rig.power(false);
  await expect(page.getByTestId('value-binary-comm F1')).toHaveText('failed');
  await expect(page.getByTestId('value-binary-comm M1')).toHaveText('normal');
  await rig.power(true);
  await expect(page.getByTestId('value-binary-comm F1')).toHaveText('normal');
  expect(complaints).toEqual([]);
});
