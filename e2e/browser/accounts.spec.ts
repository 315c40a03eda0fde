import { expect, test } from '@playwright/test';
import type { Rig } from '../rig/rig.ts';
import { signIn, startRig, urlOf } from './rig.ts';

let rig: Rig;
test.beforeAll(async () => {
  rig = await startRig('accounts');
});
test.afterAll(() => rig.stop());

test('a name that is typed before the page has come alive is not taken away again', async ({ page }) => {
  let release!: () => void;
  const held = new Promise<void>((resolve) => (release = resolve));
  await page.route('**/_app/**/*.js', async (route) => {
    await held;
    await route.continue();
  });
  await page.goto(urlOf(rig), { waitUntil: 'commit' });
  await page.getByLabel('Name').fill('engineer');
  release();
  await page.waitForLoadState('networkidle');
  await expect(page.getByLabel('Name')).toHaveValue('engineer');
});

test('accounts: added, given another role, disabled; each change is in the security log, and ends what is open', async ({
  page,
  browser,
}) => {
  await signIn(page, rig, 'engineer');
  await page.goto(urlOf(rig, '/upkeep/accounts'));
  await page.locator('html[data-scheme]').waitFor();
  const add = page.locator('form[action="?/add"]');
  await add.getByLabel('Name').fill('grace');
  await add.getByLabel('Role').selectOption('operator');
  await add.getByLabel('Password, at least 12 characters').fill('short');
  await add.getByRole('button', { name: 'Add' }).click();
  await expect(page.getByRole('alert')).toHaveText('Password: at least 12 characters, this has 5');
  // The first letter is Cyrillic.
  await add.getByLabel('Name').fill('аda');
  await add.getByLabel('Role').selectOption('operator');
  await add.getByLabel('Password, at least 12 characters').fill('a quiet evening by the weir');
  await add.getByRole('button', { name: 'Add' }).click();
  await expect(page.getByRole('alert')).toContainText('its letters are of several scripts');
  await add.getByLabel('Name').fill('grace');
  await add.getByLabel('Role').selectOption('operator');
  await add.getByLabel('Password, at least 12 characters').fill('a quiet evening by the weir');
  await add.getByRole('button', { name: 'Add' }).click();
  await expect(page.getByRole('status')).toHaveText('Added grace as operator.');

  const other = await (await browser.newContext()).newPage();
  await other.goto(urlOf(rig));
  await other.getByLabel('Name').fill('grace');
  await other.getByLabel('Password').fill('a quiet evening by the weir');
  await other.getByRole('button', { name: 'Sign in' }).click();
  // Whoever added the account knows that password: nothing else goes before another one is set.
  await expect(other).toHaveURL(/\/upkeep$/);
  await expect(other.getByRole('note')).toContainText('Somebody else set your password');
  await other.goto(urlOf(rig, '/run'));
  await expect(other).toHaveURL(/\/upkeep$/);
  expect((await other.request.get(urlOf(rig, '/api/configuration'))).status()).toBe(403);
  const set = async (next: string): Promise<void> => {
    await other.getByLabel('Old password').fill('a quiet evening by the weir');
    await other.getByLabel('New password, at least 12 characters').fill(next);
    await other.getByLabel('New password again').fill(next);
    await other.getByRole('button', { name: 'Change it' }).click();
  };
  await other.locator('html[data-scheme]').waitFor();
  await set('a quiet evening by the weir');
  await expect(other.getByRole('alert')).toHaveText('New password: it is the old one');
  await set('a loud morning at the sluice');
  await expect(other.getByRole('status')).toContainText('The password is changed');
  await expect(other.getByRole('note')).toHaveCount(0);
  await other.goto(urlOf(rig, '/run'));
  await expect(other).toHaveURL(/\/run$/);
  expect((await other.request.get(urlOf(rig, '/upkeep/accounts'))).status()).toBe(403);
  await page.getByTestId('account-grace').getByRole('button', { name: 'Disable' }).click();
  await expect(page.getByRole('status')).toHaveText('Disabled grace.');
  // Its page notices at once, not at the next click.
  await expect(other).toHaveURL(/\/sign-in/);
  await other.getByLabel('Name').fill('grace');
  await other.getByLabel('Password').fill('a loud morning at the sluice');
  await other.getByRole('button', { name: 'Sign in' }).click();
  await expect(other.getByRole('alert')).toHaveText('Name or password is wrong.');
  await other.context().close();

  await page.getByLabel('Role of engineer').selectOption('viewer');
  await expect(page.getByRole('alert')).toContainText('This is the last engineer');

  await page.goto(urlOf(rig, '/upkeep/security'));
  await expect(page.getByRole('main')).toContainText('Kept for 400 days, at most 1\u202f000\u202f000 lines.');
  const log = page.getByRole('table', { name: 'Security log' });
  for (const words of [
    'added grace as operator',
    'disabled grace',
    'GET /upkeep/accounts',
    'Name or password is wrong.',
  ])
    await expect(log).toContainText(words);
  await expect(rig.sql`delete from security_log`).rejects.toThrow(/only added to/);
});

test('one changes the own password, which ends the other sessions', async ({ page, browser }) => {
  const other = await (await browser.newContext()).newPage();
  await signIn(other, rig, 'operator');
  await signIn(page, rig, 'operator');
  await page.getByRole('link', { name: 'operator', exact: true }).click();
  await expect(page.getByRole('heading', { level: 1 })).toContainText('operator');
  const change = async (old: string, next: string): Promise<void> => {
    await page.getByLabel('Old password').fill(old);
    await page.getByLabel('New password, at least 12 characters').fill(next);
    await page.getByLabel('New password again').fill(next);
    await page.getByRole('button', { name: 'Change it' }).click();
  };
  await change('not this one', 'a long walk along the canal');
  await expect(page.getByRole('alert')).toHaveText('Old password: it is wrong');
  await change('operator-demo', 'my name is operator');
  await expect(page.getByRole('alert')).toHaveText('New password: it has the name in it');
  await change('operator-demo', 'a long walk along the canal');
  await expect(page.getByRole('status')).toContainText('your other sessions have ended');
  await expect(other).toHaveURL(/\/sign-in/);
  await other.context().close();
});

test('requests that are too long, or do not say how long they are, and ids that are none', async ({ page }) => {
  await signIn(page, rig, 'viewer');
  const origin = urlOf(rig, '').replace(/\/$/, '');
  const long = await page.request.post(urlOf(rig, '/sign-in'), {
    form: { name: 'x'.repeat(20_000), password: 'y' },
    headers: { origin },
  });
  expect(long.status()).toBe(413);
  // A malformed id in one stream leaves the others alone.
  const other = page.request
    .get(urlOf(rig, `/api/live?command=${'-'.repeat(36)}`), { timeout: 1500 })
    .catch(() => null);
  await page.goto(urlOf(rig, '/run'));
  await expect(page.getByTestId('connection-lost')).toHaveCount(0);
  await other;
  for (const path of [
    '/run/point/999999999999',
    '/run/point/x',
    '/api/commands/x',
    '/api/files/x',
    '/api/history/x?from=0&to=1',
  ])
    expect((await page.request.get(urlOf(rig, path))).status(), path).toBeLessThan(500);
});
