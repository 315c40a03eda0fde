import { expect, test } from '@playwright/test';
import type { Rig } from '../rig/rig.ts';
import { signIn, startRig, urlOf } from './rig.ts';

let rig: Rig;
test.beforeAll(async () => {
  rig = await startRig('access', { demo: false });
});
test.afterAll(() => rig.stop());

test('from an empty database: the first visitor makes the first engineer, and only the first', async ({
  page,
  request,
}) => {
  await page.goto(urlOf(rig));
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('The first engineer');
  const fill = async (name: string, password: string, again: string): Promise<void> => {
    await page.getByLabel('Name').fill(name);
    await page.getByLabel('Password, at least 12 characters').fill(password);
    await page.getByLabel('Password again').fill(again);
    await page.getByRole('button', { name: 'Make the account' }).click();
  };
  await page.getByLabel('Secret').fill('a guess');
  await fill('ada', 'long enough 1', 'long enough 1');
  await expect(page.getByRole('alert')).toHaveText('Secret: not the one that was printed when Halvix was started');
  await page.getByLabel('Secret').fill('from the terminal');
  await fill('ada', 'password123456', 'password123456');
  await expect(page.getByRole('alert')).toHaveText('Password: it is one of those that are tried first');
  await page.getByLabel('Secret').fill('from the terminal');
  await fill('ada', 'long enough 1', 'long enough 2');
  await expect(page.getByRole('alert')).toHaveText('The two passwords differ');
  await page.getByLabel('Secret').fill('from the terminal');
  await fill('ada', 'long enough 1', 'long enough 1');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('No device is configured yet');
  await page.goto(urlOf(rig, '/build'));
  await expect(page.getByRole('main')).toContainText('Nothing here yet. Begin with a device');
  await page.goto(urlOf(rig, '/prove'));
  await expect(page.getByRole('table')).toContainText('No control has been sent yet');
  const origin = urlOf(rig, '').replace(/\/$/, '');
  await request.post(urlOf(rig, '/setup'), {
    form: { name: 'eve', password: 'long enough 3', again: 'long enough 3', secret: 'from the terminal' },
    headers: { origin },
  });
  expect((await rig.sql`select name, role from account`).map((row) => ({ ...row }))).toEqual([
    { name: 'ada', role: 'engineer' },
  ]);
});

test('without a session there is nothing to see', async ({ request }) => {
  for (const path of ['/run', '/build', '/prove', '/run/device/HLM-F1'])
    expect((await request.get(urlOf(rig, path), { maxRedirects: 0 })).headers()['location']).toMatch(/^\/sign-in/);
  for (const path of ['/api/live', '/api/search?q=a', '/api/history/1?from=0&to=1'])
    expect((await request.get(urlOf(rig, path))).status()).toBe(401);
});

test('cookies and headers are strict', async ({ page }) => {
  await rig.system.loadDemo();
  await signIn(page, rig, 'viewer');
  const [cookie] = await page.context().cookies();
  expect(cookie).toMatchObject({ httpOnly: true, sameSite: 'Strict' });
  const [row] = await rig.sql`select token_hash from web_session order by created desc limit 1`;
  expect(row.token_hash).not.toContain(cookie.value);
  const answer = await page.request.get(urlOf(rig, '/run'));
  expect(answer.headers()['content-security-policy']).toMatch(/default-src 'self'.*script-src 'self' 'nonce-/);
  expect(answer.headers()).toMatchObject({
    'x-content-type-options': 'nosniff',
    'x-frame-options': 'DENY',
    'cache-control': 'no-store',
  });
});

test('signing out ends the session on the server', async ({ page }) => {
  await signIn(page, rig, 'operator');
  const cookies = await page.context().cookies();
  await page.getByRole('button', { name: 'Sign out' }).click();
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Sign in');
  await page.context().addCookies(cookies);
  await page.goto(urlOf(rig, '/run'));
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Sign in');
});

test('after signing in one is where one wanted to be, but nowhere else', async ({ page }) => {
  await page.goto(urlOf(rig, '/prove'));
  await expect(page).toHaveURL(/\/sign-in\?to=%2Fprove/);
  await page.goto(urlOf(rig, '/sign-in?to=//elsewhere.invalid'));
  await page.getByLabel('Name').fill('viewer');
  await page.getByLabel('Password').fill('viewer-demo');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page).toHaveURL(urlOf(rig, '/run'));
});

test('guessing is slowed down', async ({ page }) => {
  await page.goto(urlOf(rig, '/sign-in'));
  const attempt = async (): Promise<void> => {
    await page.getByLabel('Name').fill('engineer');
    await page.getByLabel('Password').fill('guess');
    await page.getByRole('button', { name: 'Sign in' }).click();
    await expect(page.getByLabel('Password')).toHaveValue('');
  };
  for (let i = 0; i < 4; i++) {
    await attempt();
    await expect(page.getByRole('alert')).toHaveText('Name or password is wrong.');
  }
  await attempt();
  await expect(page.getByRole('alert')).toContainText('Too many failed tries');
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
  await expect(other).toHaveURL(/\/run$/);
  expect((await other.request.get(urlOf(rig, '/upkeep/accounts'))).status()).toBe(403);
  await page.getByTestId('account-grace').getByRole('button', { name: 'Disable' }).click();
  await expect(page.getByRole('status')).toHaveText('Disabled grace.');
  // Its page notices at once, not at the next click.
  await expect(other).toHaveURL(/\/sign-in/, { timeout: 8000 });
  await other.getByLabel('Name').fill('grace');
  await other.getByLabel('Password').fill('a quiet evening by the weir');
  await other.getByRole('button', { name: 'Sign in' }).click();
  await expect(other.getByRole('alert')).toHaveText('Name or password is wrong.');
  await other.context().close();

  await page.getByLabel('Role of engineer').selectOption('viewer');
  await expect(page.getByRole('status')).toContainText('Made engineer viewer');
  await rig.sql`update account set role = 'engineer' where name = 'engineer'`;
  await signIn(page, rig, 'engineer');
  await rig.sql`update account set role = 'viewer' where name = 'ada'`;
  await page.goto(urlOf(rig, '/upkeep/accounts'));
  await page.locator('html[data-scheme]').waitFor();
  await page.getByLabel('Role of engineer').selectOption('viewer');
  await expect(page.getByRole('alert')).toContainText('This is the last engineer');

  await page.goto(urlOf(rig, '/upkeep/security'));
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
  await expect(other).toHaveURL(/\/sign-in/, { timeout: 8000 });
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
