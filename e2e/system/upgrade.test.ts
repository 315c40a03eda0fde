import { diffConfigurations } from '@halvix/core/config';
import { closeDatabase, loadDraft, newestRevision, openDatabase, touchedSinceRevision } from '@halvix/db';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, expect, inject, test } from 'vitest';
import { ROOT, run } from '../../scripts/lib/run.mjs';
import { countEvents } from '../rig/count.ts';
import { Rig } from '../rig/rig.ts';

/*
 * A database that an earlier version wrote (its newest migration was 0002), with the demo's relay and both centres: made
 * with pg_dump after the relay had been polled, a centre had selected and tripped its breaker and somebody had renamed it in the draft.
 */
const DUMP = join(ROOT, 'e2e/fixtures/demo-of-version-0002.sql');

let rig: Rig;
const numbers = async (): Promise<string[]> =>
  (await rig.sql`select id, device, kind, index from point_identity order by id`).map(
    ({ id, device, kind, index }) => `${id} ${device} ${kind} ${index}`,
  );
const rowsIn = async (): Promise<Record<string, number>> => {
  const [row] = await rig.sql`select (select count(*) from reading)::int as readings,
    (select count(*) from command)::int as commands, (select count(*) from revision)::int as revisions,
    (select count(*) from account)::int as accounts, (select count(*) from draft_object)::int as objects`;
  return { ...row };
};
let numbersBefore: string[];
let before: Record<string, number>;

beforeAll(async () => {
  const server = inject('postgres');
  rig = await Rig.make('upgrade', server);
  const { relay, quillstone, ambry } = rig.ports;
  const here: Record<string, number> = { 20001: relay, 20100: quillstone, 20101: ambry };
  const text = readFileSync(DUMP, 'utf8').replace(/"port": (\d+)/g, (_, port: string) => `"port": ${here[port]}`);
  mkdirSync(rig.system.logs, { recursive: true });
  const file = join(rig.system.logs, 'dump.sql');
  writeFileSync(file, text);
  await run('psql', ['-q', '-v', 'ON_ERROR_STOP=1', '-f', file, rig.databaseUrl]);
  [numbersBefore, before] = [await numbers(), await rowsIn()];
  await rig.start({ demo: false, web: true });
});
afterAll(() => rig.stop());

test('everything is there, under the numbers that it had', async () => {
  expect(numbersBefore).toHaveLength(80);
  expect(await numbers()).toEqual(numbersBefore);
  const { readings, ...others } = await rowsIn();
  const { readings: readingsBefore, ...othersBefore } = before;
  expect(others).toEqual(othersBefore);
  expect(othersBefore).toEqual({ commands: 2, revisions: 1, accounts: 3, objects: 246 });
  expect(readings).toBeGreaterThanOrEqual(readingsBefore);
});

test('the draft differs from what runs by what somebody changed, and by nothing that the version brought', async () => {
  const database = openDatabase(rig.databaseUrl, { connections: 1, name: 'test' });
  try {
    const running = await newestRevision(database);
    const { configuration } = await loadDraft(database);
    if (running === null) throw new Error('nothing runs');
    const changes = diffConfigurations(running.configuration, configuration);
    expect(changes.map(({ title, words }) => `${title}: ${words.join('; ')}`)).toEqual([
      'device HLM-F1 Feeder one: Name: F1 feeder relay → Feeder one',
    ]);
    expect(await touchedSinceRevision(database)).toBe(1);
  } finally {
    await closeDatabase(database);
  }
});

test('the engine goes on with it: the relay is polled, events are stored once, centres get them', async () => {
  await rig.until('relay answers', async () => (await rig.hop('device', 'HLM-F1'))?.state === 'answering');
  await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 100 });
  await new Promise((resolve) => setTimeout(resolve, 3000));
  await rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond: 0 });
  const { made, lost, repeated } = await countEvents(rig);
  expect(made).toBeGreaterThan(200);
  expect([lost, repeated]).toEqual([[], []]);
  await rig.force('analog', 7, 4321);
  await rig.until('it is at the centre', async () => (await rig.centrePoint('QST', 'analog', 7))?.value === 4321);
});

test('what people knew still opens: sign-in, board, history of before', async () => {
  const origin = `http://127.0.0.1:${rig.ports.web}`;
  const answer = await fetch(`${origin}/sign-in`, {
    method: 'POST',
    redirect: 'manual',
    headers: { origin, 'content-type': 'application/x-www-form-urlencoded' },
    body: 'name=engineer&password=engineer-demo',
  });
  const cookie = answer.headers.get('set-cookie')?.split(';')[0] ?? '';
  const get = (path: string): Promise<Response> => fetch(`${origin}${path}`, { headers: { cookie } });
  for (const path of [
    '/run',
    '/run/device/HLM-F1',
    '/build/device/HLM-F1',
    '/build/changes',
    '/prove',
    '/upkeep/history',
  ])
    expect((await get(path)).status, path).toBe(200);
  const [{ id, at }] = await rig.sql`select point_id as id, (extract(epoch from min(time)) * 1000)::float8 as at
    from reading where cause = 1 group by 1 order by 2 limit 1`;
  const history = await get(
    `/api/history/${id}?from=${Math.floor(at as number) - 1}&to=${Math.ceil(at as number) + 1}`,
  );
  expect(history.status).toBe(200);
  expect(JSON.stringify(await history.json())).toContain('"value"');
});
