import { expect, test } from '@playwright/test';
import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Rig } from '../rig/rig.ts';
import { Hands } from './hands.ts';
import { complaintsOf, signIn, startRig, urlOf } from './rig.ts';

let rig: Rig;
test.beforeAll(async () => {
  rig = await startRig('wayout');
});
test.afterAll(() => rig.stop());

test('a file of lines, from Build to what stands in it, with a mistake on the way', async ({ page }) => {
  const complaints = complaintsOf(page);
  await signIn(page, rig, 'engineer');
  await page.goto(urlOf(rig, '/build'));
  await page.locator('html[data-scheme]').waitFor();
  const hands = new Hands(page);
  const file = `browser-${Date.now()}.jsonl`;
  await hands.click('link', 'Add a centre');
  await hands.choose('Protocol and our role', 'jsonlines');
  await expect(page.getByRole('region', { name: 'Link' })).toHaveCount(0);
  await expect(page.getByText('nobody asks for it')).toBeVisible();
  await hands.fill('Destination', 'Archive');
  await hands.fill('Code', 'ARC');
  await hands.fill('File', '../out.jsonl');
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('main')).toContainText('each begins with a letter or digit');
  await hands.fill('File', file);
  await hands.choose('Sees at once', 'all');
  await hands.click('button', 'Add it to the draft');
  await expect(page.getByRole('heading', { level: 1 })).toContainText('Mapping');
  await expect(page.getByRole('main')).toContainText('HLM-F1/AI 7');
  await hands.click('link', /^Draft:/);
  await hands.click('button', 'Apply…');
  await hands.click('button', 'Apply to the running system');
  const path = join(rig.system.env.HALVIX_STATE, 'out', file);
  const lines = (): { point: string; value: number; unit?: string; quality: string }[] =>
    existsSync(path)
      ? readFileSync(path, 'utf8')
          .split('\n')
          .filter((line) => line !== '')
          .map((line) => JSON.parse(line) as { point: string; value: number; quality: string })
      : [];
  await rig.force('analog', 7, 31_415);
  await expect
    .poll(() => lines().find(({ point, value }) => point === 'HLM-F1/AI 7' && value === 31.415))
    .toMatchObject({ unit: 'kV', quality: expect.stringMatching(/good|questionable/) });
  console.log(`      interactions: ${hands.count}`);
  expect(hands.count).toBeLessThanOrEqual(15);
  await page.goto(urlOf(rig, '/run/outbound/ARC'));
  await expect(page.getByTestId('outbound-words')).toContainText(/^Archive: delivered .* ago/);
  await expect(page.getByRole('main')).toContainText(`file ${file}`);
  expect(complaints).toEqual([]);
});
