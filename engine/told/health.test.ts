import { get, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterEach, expect, test } from 'vitest';
import { healthOf, serveHealth, type Watched } from './health.ts';

const own = { run: 'own', name: 'engine-1' };
const other = { run: 'other', name: 'engine-2' };
/** An engine as it says what it is. */
function watched(
  authority: Partial<Record<'isHolder' | 'holder' | 'answered' | 'problem', unknown>>,
  historyProblem: string | null | undefined = undefined,
): Watched {
  const runtime =
    historyProblem === undefined
      ? null
      : {
          ...{ historian: { problem: historyProblem, queued: 7, inFile: 0 }, revision: 3 },
          ...{ devices: new Map([['A', 1]]), outbounds: new Map() },
        };
  return {
    authority: { engine: own, isHolder: true, holder: own, answered: 1, problem: null, ...authority },
    runtime,
  } as unknown as Watched;
}
const servers: Server[] = [];
afterEach(() => servers.splice(0).forEach((server) => server.close()));

test('an engine that runs is well; with history that cannot be written, or no database, it is not', () => {
  expect(healthOf(watched({}, null))).toEqual({
    ...{ state: 'running', ok: true, problem: null, holder: 'engine-1', database: true, revision: 3 },
    ...{ history: 'written', devices: 1, outbounds: 0 },
  });
  expect(healthOf(watched({}, 'the disk is full'))).toMatchObject({
    ...{ state: 'degraded', ok: false, problem: 'the disk is full', history: 'the disk is full' },
  });
  expect(healthOf(watched({ problem: 'refused' }, null))).toMatchObject({
    ...{ state: 'degraded', ok: false, problem: 'refused', database: false },
  });
});

test('one that stands by is well as long as the database says so', () => {
  const by = { isHolder: false, holder: other };
  expect(healthOf(watched(by))).toMatchObject({ state: 'standby', ok: true, holder: 'engine-2', revision: null });
  expect(healthOf(watched({ ...by, problem: 'refused' }))).toMatchObject({ state: 'starting', ok: false });
});

test('one that has not begun yet is starting, its own lease or none', () => {
  expect(healthOf(watched({ answered: null, holder: null, isHolder: false }))).toMatchObject({
    ...{ state: 'starting', ok: false, holder: null, database: false, devices: 0 },
  });
  expect(healthOf(watched({ isHolder: false }))).toMatchObject({ state: 'starting', ok: false });
});

/** What is answered over HTTP. */
async function ask(path: string, what: Watched): Promise<[number | undefined, string]> {
  const server = serveHealth('127.0.0.1', 0, what);
  servers.push(server);
  if (!server.listening) await new Promise((resolve) => server.once('listening', resolve));
  const { port } = server.address() as AddressInfo;
  return new Promise((resolve, reject) =>
    get({ host: '127.0.0.1', port, path, agent: false }, (response) => {
      let body = '';
      response.on('data', (piece) => (body += String(piece)));
      response.on('end', () => resolve([response.statusCode, body]));
    }).on('error', reject),
  );
}

test('its figures are those of what runs, and zero while nothing does', async () => {
  const device = (state: string) => ({ deviceState: () => ({ state, counters: { requests: 9 } }) });
  const numbers = { stored: 11, dropped: 12, refused: 13, commitMs: 14.4 };
  const runs = watched({}, null);
  Object.assign(runs.runtime as object, {
    historian: { numbers, queued: 15, problem: null, inFile: 0 },
    devices: new Map([
      ['A', device('answering')],
      ['B', device('silent')],
    ]),
  });
  const figures = (body: string): Record<string, string> =>
    Object.fromEntries(
      body
        .split('\n')
        .filter((line) => line.startsWith('halvix_'))
        .map((line) => line.split(' ') as [string, string]),
    );
  expect(figures((await ask('/metrics', runs))[1])).toMatchObject({
    ...{
      halvix_running: '1',
      halvix_readings_stored: '11',
      halvix_readings_dropped: '12',
      halvix_last_commit_ms: '14',
    },
    ...{ halvix_readings_refused: '13', halvix_readings_queued: '15', halvix_devices: '2' },
    ...{ halvix_devices_answering: '1', 'halvix_device_count{device="B",counter="requests"}': '9' },
  });
  expect(figures((await ask('/metrics', watched({ answered: null })))[1])).toMatchObject({
    ...{ halvix_running: '0', halvix_devices: '0' },
  });
});

test('says it over HTTP, with a status for those that look no further', async () => {
  const [status, body] = await ask('/healthz', watched({}, null));
  expect([status, (JSON.parse(body) as { state: string }).state]).toEqual([200, 'running']);
  expect((await ask('/healthz', watched({}, 'no')))[0]).toBe(503);
  expect((await ask('/other', watched({}, null)))[0]).toBe(404);
  const metrics = await ask('/metrics', watched({ answered: null }));
  expect([metrics[0], metrics[1].includes('process_cpu')]).toEqual([200, true]);
});
