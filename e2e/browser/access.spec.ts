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
  await expect(page.getByRole('alert')).toContainText('Password: it is one of those that are tried first');
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
  await page.goto(urlOf(rig, '/sign-in?to=/%09/elsewhere.invalid/'));
  await page.getByLabel('Name').fill('viewer');
  await page.getByLabel('Password').fill('viewer-demo');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page).toHaveURL(urlOf(rig, '/run'));
});

test('what engine and web say to each other cannot be said from outside, and tries are for engineers', async ({
  page,
}) => {
  const origin = urlOf(rig, '').replace(/\/$/, '');
  const post = (path: string, data: object, method = 'POST') =>
    page.request.fetch(urlOf(rig, path), { method, data, headers: { origin } });
  await signIn(page, rig, 'operator');
  const id = crypto.randomUUID();
  for (const request of [
    { type: 'cancelProbe', id },
    { type: 'probe', id },
    { type: 'file', id, as: { user: 'a', password: 'b' } },
    { type: 'watch', pointId: 1 },
  ])
    expect((await post('/api/requests', request)).status(), request.type).toBe(400);
  expect((await post('/api/probes', { id }, 'DELETE')).status()).toBe(403);
  expect((await post('/api/requests', { type: 'pollNow', device: 'HLM-F1' })).status()).toBe(202);
  // Whoever asks is who is signed in, whatever the request says.
  const order = { type: 'order', device: 'HLM-F1', order: { what: 'restart', how: 'cold' }, by: 'engineer' };
  expect((await post('/api/requests', order)).status()).toBe(403);
});

test('guessing is slowed down, and keeps neither others nor a browser that is known waiting', async ({
  page,
  browser,
}) => {
  const known = await (await browser.newContext()).newPage();
  await signIn(known, rig, 'engineer');
  await known.getByRole('button', { name: 'Sign out' }).click();
  await known.waitForURL(/sign-in/);
  await page.goto(urlOf(rig, '/sign-in'));
  const attempt = async (): Promise<void> => {
    await page.getByLabel('Name').fill('engineer');
    await page.getByLabel('Password').fill('guess');
    await page.getByRole('button', { name: 'Sign in' }).click();
    await expect(page.getByLabel('Password')).toHaveValue('');
  };
  const alert = page.getByRole('alert');
  for (let i = 0; i < 4; i++) {
    await attempt();
    await expect(alert).toHaveText('Name or password is wrong.');
  }
  // Each pause is twice as long as the one before it: however slow this page is, it comes too early once.
  for (let i = 0; i < 8 && !(await alert.textContent())?.startsWith('Too many'); i++) await attempt();
  await expect(alert).toContainText('Too many failed tries');
  // Nobody else at the same address waits for that.
  await page.getByLabel('Name').fill('viewer');
  await page.getByLabel('Password').fill('viewer-demo');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page).toHaveURL(/\/run$/);
  await known.getByLabel('Name').fill('engineer');
  await known.getByLabel('Password').fill('engineer-demo');
  await known.getByRole('button', { name: 'Sign in' }).click();
  await expect(known).toHaveURL(/\/run$/);
  await known.context().close();
});
