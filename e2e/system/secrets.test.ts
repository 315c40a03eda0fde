import { storedAs, storedNumber, type Configuration } from '@halvix/core/config';
import { execFileSync } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { mkdtempSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { freePorts } from '../../scripts/lib/ports.mjs';
import { ROOT, run } from '../../scripts/lib/run.mjs';
import { Proxy } from '../rig/proxy.ts';
import { Rig } from '../rig/rig.ts';

/*
 * Passwords of associations: the engine is on both sides of one, as the server that asks for a password and as the client
 * that gives it. Whatever is done, the password stands nowhere.
 */
const PASSWORD = 'weir-and-sluice-7';
let rig: Rig;
let folder: string;
/** What goes to our own server by way of it is not found to be a loop. */
let proxy: Proxy;
let port: number;
beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'halvix-secrets-'));
  rig = await Rig.make('secrets', inject('postgres'), { modbus: true, models: true, logs: join(folder, 'logs') });
  [port] = await freePorts(1);
  proxy = new Proxy(port, rig.ports.model!);
  await rig.start({ web: true });
});
afterAll(async () => {
  proxy?.close();
  await rig?.stop();
});

/** Exit code and what it says, as one text. */
async function halvix(args: string[], env: Record<string, string | undefined> = {}): Promise<string> {
  const all = { ...rig.system.env, ...env } as Record<string, string>;
  const options = { env: all, allowFailure: true };
  const { code, output } = await run(process.execPath, [join(ROOT, 'dist/halvix.js'), ...args], options);
  return `${code} ${output}`;
}
async function exported(...more: string[]): Promise<Configuration> {
  const file = join(folder, 'exported.json');
  expect(await halvix(['config', 'export', file, ...more])).toMatch(/^0 /);
  return JSON.parse(readFileSync(file, 'utf8')) as Configuration;
}
const settingsOf = (list: readonly { code: string; settings: unknown }[], code: string): { password: string } =>
  list.find((one) => one.code === code)!.settings as { password: string };

/** What runs, with a device that is our own server; both with a password. */
async function withPassword(password: string): Promise<Configuration> {
  const configuration = await exported();
  Object.assign(settingsOf(configuration.outbounds, 'QSM'), { password });
  if (configuration.devices.some(({ code }) => code === 'SELF')) {
    Object.assign(settingsOf(configuration.devices, 'SELF'), { password });
    return configuration;
  }
  const link = configuration.links.find(({ code }) => code === 'HLM-LAN-B1')!;
  const device = configuration.devices.find((one) => one.link === 'HLM-LAN-B1')!;
  return {
    ...configuration,
    links: [...configuration.links, { ...link, code: 'SELF', port }],
    devices: [
      ...configuration.devices,
      {
        ...device,
        code: 'SELF',
        link: 'SELF',
        points: [],
        settings: { ...device.settings, password },
      } as typeof device,
    ],
  };
}
const state = async (kind: string, code: string): Promise<string> => {
  const hop = (await rig.hop(kind, code)) as { state: string; words?: string; problem?: string } | undefined;
  return `${hop?.state} ${hop?.words ?? hop?.problem ?? ''}`;
};

/** Whether it stands in anything that the database holds, or that the programs wrote. */
const stands = (text: string): boolean => everything().includes(text);
function everything(): string {
  const dump = execFileSync('pg_dump', [rig.databaseUrl], { encoding: 'utf8', maxBuffer: 1 << 30 });
  const logs = readdirSync(join(folder, 'logs')).map((name) => readFileSync(join(folder, 'logs', name), 'utf8'));
  return [dump, ...logs].join('\n');
}

test('a password goes over the wire, and stands nowhere else', async () => {
  await rig.apply(await withPassword(PASSWORD));
  await rig.until('they speak', async () => (await state('device', 'SELF')).startsWith('answering'));
  const configuration = await exported();
  const kept = settingsOf(configuration.devices, 'SELF').password;
  expect(storedNumber(kept)).not.toBeNull();
  expect(storedNumber(settingsOf(configuration.outbounds, 'QSM').password)).not.toBeNull();
  // A try of what is not stored yet, with a right password and with a wrong one.
  const { points: _, ...self } = configuration.devices.find(({ code }) => code === 'SELF')!;
  const link = configuration.links.find(({ code }) => code === 'SELF')!;
  const tried = async (password: string): Promise<string> => {
    const id = randomUUID();
    const { protocol, settings } = self;
    const request = { type: 'try', link, device: { protocol, settings: { ...settings, password } } };
    await web.post('/api/probes', { id, request });
    let last = 'requested';
    await rig.until('the try is over', async () => {
      const [row] = await rig.sql`select state, request from probe where id = ${id}`;
      expect(JSON.stringify(row.request)).not.toContain(password === kept ? PASSWORD : password);
      last = row.state as string;
      return last !== 'requested' && last !== 'running';
    });
    return last;
  };
  const web = await signedIn();
  expect(await tried(PASSWORD)).toBe('good');
  expect(await tried(kept)).toBe('good');
  expect(await tried('another-wrong-word')).toBe('bad');
  expect(['SELF', PASSWORD, 'another-wrong-word'].map(stands)).toEqual([true, false, false]);
});

/** An engineer at the web. */
async function signedIn(): Promise<{ post: (path: string, body: object) => Promise<Response> }> {
  const origin = `http://127.0.0.1:${rig.ports.web}`;
  const answer = await fetch(`${origin}/sign-in`, {
    method: 'POST',
    headers: { origin },
    body: new URLSearchParams({ name: 'engineer', password: 'engineer-demo' }),
    redirect: 'manual',
  });
  const cookie = answer.headers
    .getSetCookie()
    .map((one) => one.split(';')[0])
    .join('; ');
  return {
    post: (path, body) =>
      fetch(`${origin}${path}`, {
        method: 'POST',
        headers: { origin, cookie, 'content-type': 'application/json' },
        body: JSON.stringify(body),
      }),
  };
}

test('a draft answers with what is stored, and says what is not kept here before it is applied', async () => {
  const web = await signedIn();
  const [row] = await rig.sql`select id, version::int, document from draft_object
    where kind = 'device' and document->>'code' = 'SELF'`;
  const change = async (
    password: string,
    expected: number,
  ): Promise<{ version: number; changed: { document: never }[] }> => {
    const document = { ...row.document, settings: { ...row.document.settings, password } } as object;
    const changes = [{ id: row.id as number, kind: 'device', parent: '', expected, document }];
    return (await (await web.post('/api/draft', { changes })).json()) as never;
  };
  const first = await change('another-sluice', row.version as number);
  expect(storedNumber(settingsOf([first.changed[0].document], 'SELF').password)).not.toBeNull();
  const unknown = await change(storedAs(randomUUID()), first.version);
  const applied = (await (await web.post('/api/apply', { version: unknown.version, note: '' })).json()) as object;
  expect(JSON.stringify(applied)).toContain('Password: it is kept where this document comes from; give it again here');
  await change(row.document.settings.password as string, unknown.version);
  expect(stands('another-sluice')).toBe(false);
});

test('who applies a document, and whom it lets in, stand in the security log', async () => {
  const configuration = await exported();
  configuration.outbounds.find(({ code }) => code === 'QSM')!.allowFrom.push('10.9.0.0/16');
  await rig.apply(configuration);
  const rows = await rig.sql`select what, words, who from security_log where what in ('configuration', 'access')
    order by id desc limit 2`;
  expect(rows.map(({ what, words }) => `${what}: ${words}`).reverse()).toEqual([
    expect.stringMatching(/^configuration: applied revision \d+ from .*changed\.json$/),
    expect.stringMatching(/^access: revision \d+ opened outbound QSM: its centre may connect from 10\.9\.0\.0\/16$/),
  ]);
  expect(rows[0].who).toMatch(/ at the command line$/);
});

test('a document of elsewhere is not applied before its passwords are given', async () => {
  const configuration = await withPassword(storedAs(randomUUID()));
  const file = join(folder, 'elsewhere.json');
  writeFileSync(file, JSON.stringify(configuration));
  expect(await halvix(['config', 'apply', file])).toContain(
    'device SELF: Password: it is kept where this document comes from; give it again here',
  );
});

test('without a key no password is taken, and who needs one is left alone and says why', async () => {
  const file = join(folder, 'given.json');
  writeFileSync(file, JSON.stringify(await withPassword('one-more-word')));
  const apply = (key: string | undefined): Promise<string> =>
    halvix(['config', 'apply', file], { HALVIX_SECRETS_KEY_FILE: key });
  const empty = join(folder, 'empty.key');
  writeFileSync(empty, '', { mode: 0o600 });
  expect(await apply(empty)).toContain('2 setting HALVIX_SECRETS_KEY_FILE (set): has no key in it');
  expect(await apply(undefined)).toContain(
    'Password: cannot be kept, for there is no key to seal it with: HALVIX_SECRETS_KEY_FILE is not set',
  );
  expect(stands('one-more-word')).toBe(false);

  const other = join(folder, 'other.key');
  await halvix(['secrets', 'key', other]);
  expect(statSync(other).mode & 0o777).toBe(0o600);
  await rig.system.stop('engine');
  await rig.startEngine({ HALVIX_SECRETS_KEY_FILE: other });
  const why = 'it is kept sealed by a key that is not in the file of HALVIX_SECRETS_KEY_FILE';
  await rig.until('both say why', async () => {
    const told = [await state('device', 'SELF'), await state('outbound', 'QSM')];
    return told[0] === `silent Password: ${why}` && told[1] === `failed Password that clients have to give: ${why}`;
  });
  await rig.until('others are asked', async () => (await state('device', 'HLM-F1')).startsWith('answering'));

  // With the old key behind the new one all opens again, and can be sealed anew.
  const both = join(folder, 'both.key');
  const old = rig.system.env.HALVIX_SECRETS_KEY_FILE;
  writeFileSync(both, readFileSync(other, 'utf8') + readFileSync(old, 'utf8'), { mode: 0o600 });
  const [{ count }] = await rig.sql`select count(*)::int as count from secret`;
  expect(await halvix(['secrets', 'seal'], { HALVIX_SECRETS_KEY_FILE: both })).toContain(`0 sealed anew: ${count}`);
  expect(await halvix(['secrets', 'seal'])).toContain(`1 ${count} are sealed by a key that is not in the file`);
  await rig.system.stop('engine');
  await rig.startEngine({ HALVIX_SECRETS_KEY_FILE: other });
  await rig.until('they speak again', async () => (await state('device', 'SELF')).startsWith('answering'));
});

test('what earlier versions wrote is put away where it stands: draft, revisions, and nothing is to be applied for it', async () => {
  await rig.system.stop('engine');
  const OLD = 'as-it-was-kept-before';
  await rig.sql.begin(async (sql) => {
    await sql`alter table revision disable trigger revision_never_changed`;
    await sql`update revision set sealed = false, document = regexp_replace(document::text, 'secret:[0-9a-f-]{36}', ${OLD}, 'g')::jsonb`;
    await sql`alter table revision enable trigger revision_never_changed`;
    await sql`update draft_object set document = regexp_replace(document::text, 'secret:[0-9a-f-]{36}', ${OLD}, 'g')::jsonb,
      applied = regexp_replace(applied::text, 'secret:[0-9a-f-]{36}', ${OLD}, 'g')::jsonb`;
    await sql`delete from secret`;
  });
  expect(stands(OLD)).toBe(true);
  // Without a key all goes on as it was, and the log says so.
  // A process is not given what is not set.
  await rig.startEngine({ HALVIX_SECRETS_KEY_FILE: undefined as never });
  await rig.until('they speak as before', async () => (await state('device', 'SELF')).startsWith('answering'));
  expect(readFileSync(join(folder, 'logs/engine.log'), 'utf8')).toContain(
    'passwords stand readable in the configuration',
  );
  expect(stands(OLD)).toBe(true);
  await rig.system.stop('engine');
  await rig.startEngine();
  await rig.until('they speak', async () => (await state('device', 'SELF')).startsWith('answering'));
  expect(stands(OLD)).toBe(false);
  expect(await rig.sql`select id from revision where not sealed`).toEqual([]);
  expect(await halvix(['config', 'diff', exportedTo(await exported('--draft'))])).toContain('no difference');
  await expect(rig.sql`update revision set note = 'x'`.execute()).rejects.toThrow('not changed any more');
});

function exportedTo(configuration: Configuration): string {
  const file = join(folder, 'draft.json');
  writeFileSync(file, JSON.stringify(configuration));
  return file;
}
