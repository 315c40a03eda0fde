import { expect, type Page } from '@playwright/test';
import { Rig } from '../rig/rig.ts';

export async function startRig(
  name: string,
  {
    stations = false,
    modbus = false,
    models = false,
    peers = false,
    ...options
  }: { demo?: boolean; stations?: boolean; modbus?: boolean; models?: boolean; peers?: boolean } = {},
): Promise<Rig> {
  const server = JSON.parse(process.env.HALVIX_TEST_POSTGRES ?? '{}') as { port: number; password: string };
  return (await Rig.make(name, server, { stations, modbus, models, peers })).start({ web: true, ...options });
}

export const urlOf = (rig: Rig, path = '/'): string => `http://127.0.0.1:${rig.ports.web}${path}`;

export async function signIn(page: Page, rig: Rig, name: 'viewer' | 'operator' | 'engineer'): Promise<void> {
  await page.goto(urlOf(rig));
  await page.getByLabel('Name').fill(name);
  await page.getByLabel('Password').fill(`${name}-demo`);
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page).toHaveURL(/\/run$/);
  await alive(page);
}

/** The scheme is set once the page is alive: what is chosen before that is chosen in vain. */
const alive = (page: Page): Promise<void> => page.locator('html[data-scheme]').waitFor();

export async function visit(page: Page, rig: Rig, path: string): Promise<void> {
  await page.goto(urlOf(rig, path));
  await alive(page);
}

/** What the page complains of must be nothing. */
export function complaintsOf(page: Page): string[] {
  const complaints: string[] = [];
  page.on('pageerror', (error) => complaints.push(error.message));
  page.on('console', (message) => {
    if (message.type() === 'error' && !/Failed to load resource|ERR_/.test(message.text()))
      complaints.push(message.text());
  });
  return complaints;
}

/** From an empty database: the first visitor makes the first engineer. */
export async function firstEngineer(page: Page, rig: Rig): Promise<void> {
  await page.goto(urlOf(rig));
  await page.getByLabel('Name').fill('ada');
  await page.getByLabel('Password, at least 12 characters').fill('long enough 1');
  await page.getByLabel('Password again').fill('long enough 1');
  await page.getByLabel('Secret').fill('from the terminal');
  await page.getByRole('button', { name: 'Make the account' }).click();
  await page.waitForURL('**/run');
}
