import { diffConfigurations, type DraftPoint } from '@halvix/core/config';
import { addressOf, movedTo, numberOf } from '@halvix/core/protocols';
import {
  applyDraft,
  changeDraft,
  closeDatabase,
  draftObjects,
  draftVersion,
  loadDraft,
  newestRevision,
  openDatabase,
  profiles,
  touchedSinceRevision,
  type Database,
} from '@halvix/db';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, inject, test } from 'vitest';
import { ROOT, run } from '../../scripts/lib/run.mjs';
import { countEvents } from '../rig/count.ts';
import { Rig } from '../rig/rig.ts';

/*
 * Databases that earlier versions wrote, made with pg_dump after devices had been polled and a centre had operated the
 * relay's breaker; they go by the number of their newest migration.
 *
 * 0002: the relay and both centres; somebody had renamed the relay in the draft.
 * 0007: the stations too; somebody had moved a point that is mapped, made one kept on a trigger, taken away one's address,
 *       deleted and added one, and saved a profile.
 * 0009: what speaks Modbus too; outbounds had their ports themselves. Somebody had moved Ambry to Quillstone's port, named
 *       Quillstone otherwise, and added a centre.
 */
const VERSIONS = [
  {
    version: '0002',
    stations: false,
    modbus: false,
    points: 80,
    links: 2,
    rows: { commands: 2, revisions: 1, accounts: 3, objects: 246 },
    draft: ['changed device HLM-F1 Feeder one: Name: F1 feeder relay → Feeder one'],
    touched: 1,
  },
  {
    version: '0007',
    stations: true,
    modbus: false,
    points: 149,
    links: 2,
    rows: { commands: 1, revisions: 1, accounts: 3, objects: 326 },
    draft: [
      'added point HLM-F1, no address Cabinet heater',
      'changed point HLM-F1, AI 8 Voltage L2-L3: event class: none → 2; history, mode: every → trigger; history, point: none → BI 3',
      'added point HLM-F1, AI 70 Voltage L1-L2',
      'added point HLM-F1, AI 900 Added',
      'changed point SKA, AO 0 Upstream level wanted: setting, feedback: none → AI 0',
      'changed mapping HLM-F1 AI 70 → AMB AI 7: point: AI 7 → AI 70',
      'changed mapping HLM-F1 AI 70 → QST AI 7: point: AI 7 → AI 70',
      'removed point HLM-F1, BI 25 Cabinet heater',
      'removed point HLM-F1, AI 7 Voltage L1-L2',
      'removed point HLM-F1, CT 0 Energy out',
      'removed mapping HLM-F1 BI 25 → QST BI 25',
      'removed mapping HLM-F1 CT 0 → QST CT 0',
      'removed mapping HLM-F1 BI 25 → AMB BI 25',
      'removed mapping HLM-F1 CT 0 → AMB CT 0',
    ],
    touched: 12,
  },
  {
    version: '0009',
    stations: true,
    modbus: true,
    points: 234,
    /** That the upgrade makes. */
    links: 3,
    rows: { commands: 1, revisions: 1, accounts: 3, objects: 426 },
    draft: [
      'changed link AMB To Ambry: Our TCP port: … → …',
      'added link OST To Ostery',
      'added outbound OST Ostery',
      'changed outbound QST Quillstone main: Centre: Quillstone → Quillstone main; Link: QST → AMB; The centre may connect from: 127.0.0.0/8 / ::1/128 → 127.0.0.0/8',
      'removed link QST To Quillstone',
    ],
    touched: 5,
  },
];
/** The ports that the dumps have. */
const PORTS = {
  ...{ relay: 20001, radio: 20003, logger: 20004, quillstone: 20100, ambry: 20101 },
  ...{ relay2: 20199, flow: 5021, monitor: 5023, meters: 5024 },
} as const;

describe.each(VERSIONS)(
  'a database of version $version',
  ({ version, stations, modbus, points, links, rows, draft, touched }) => {
    let rig: Rig;
    let database: Database;
    /** Each point's number with what it is, in the words of all versions: kind and index. */
    const numbers = async (): Promise<string[]> =>
      (
        await rig.sql`
        select id, device, kind, coalesce(to_jsonb(p)->>'index', split_part(to_jsonb(p)->>'address', ' ', 2)) as number
        from point_identity p order by id`
      ).map(({ id, device, kind, number }) => `${id} ${device} ${kind} ${number}`);
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
      rig = await Rig.make(`upgrade${version}`, server, { stations, modbus });
      const here = new Map(Object.entries(PORTS).map(([name, port]) => [String(port), rig.ports[name as 'relay']]));
      const text = readFileSync(join(ROOT, `e2e/fixtures/demo-of-version-${version}.sql`), 'utf8').replace(
        /"port": (\d+)/g,
        (_, port: string) => `"port": ${here.get(port) ?? port}`,
      );
      mkdirSync(rig.system.logs, { recursive: true });
      const file = join(rig.system.logs, 'dump.sql');
      writeFileSync(file, text);
      await run('psql', ['-q', '-v', 'ON_ERROR_STOP=1', '-f', file, rig.databaseUrl]);
      [numbersBefore, before] = [await numbers(), await rowsIn()];
      await rig.start({ demo: false, web: true });
      database = openDatabase(rig.databaseUrl, { connections: 1, name: 'test' });
    });
    afterAll(async () => {
      await closeDatabase(database);
      await rig.stop();
    });

    test('everything is there, under the numbers that it had', async () => {
      expect(numbersBefore).toHaveLength(points);
      expect(await numbers()).toEqual(numbersBefore);
      const { readings, ...others } = await rowsIn();
      const { readings: readingsBefore, ...othersBefore } = before;
      expect(others).toEqual({ ...othersBefore, objects: othersBefore.objects + links });
      expect(othersBefore).toEqual(rows);
      expect(readings).toBeGreaterThanOrEqual(readingsBefore);
    });

    test('the draft differs from what runs by what somebody changed, and by nothing that the version brought', async () => {
      const running = await newestRevision(database);
      const { configuration } = await loadDraft(database);
      if (running === null) throw new Error('nothing runs');
      const changes = diffConfigurations(running.configuration, configuration);
      expect(
        changes.map(({ what, title, words }) =>
          [`${what} ${title}`, words.join('; ').replace(/port: \d+ → \d+/, 'port: … → …')].filter(Boolean).join(': '),
        ),
      ).toEqual(draft);
      expect(await touchedSinceRevision(database)).toBe(touched);
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
        '/build/points',
        '/build/mapping',
        '/build/changes',
        '/build/profiles',
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

    test('the draft can be applied: points that stay keep their numbers, and refer to each other as before', async () => {
      const apply = async (): ReturnType<typeof applyDraft> =>
        applyDraft(database, await draftVersion(database), 'test', 'after the upgrade');
      const bare = (await draftObjects(database, { kinds: ['point'] })).find(
        ({ document }) => numberOf(document as DraftPoint) === null,
      );
      if (bare !== undefined) {
        expect(await apply()).toMatchObject({ ok: false, reason: 'problems' });
        const { id, parent, version: expected } = bare;
        const document = movedTo(bare.document as DraftPoint, 25);
        await changeDraft(database, [{ id, kind: 'point', parent, expected, document }], 'test', Date.now());
      }
      expect((await apply()).ok).toBe(true);
      expect((await numbers()).slice(0, points)).toEqual(numbersBefore);
      const running = await newestRevision(database);
      expect(running?.configuration.version).toBe(3);
      const breaker = running?.configuration.devices
        .find(({ code }) => code === 'HLM-F1')
        ?.points.find((point) => addressOf(point) === 'BO 0');
      expect(breaker?.control?.feedback?.point).toBe('BI 0');
    });

    test.runIf(version === '0007')('a profile that somebody saved is there, as today has it', async () => {
      const [profile] = await profiles(database);
      const gate = profile.points.find((point) => addressOf(point) === 'BO 0');
      expect([profile.code, profile.version, gate?.control?.feedback?.point]).toEqual(['MY-GATE', 2, 'DBI 0']);
      const level = profile.points.find((point) => addressOf(point) === 'AO 0');
      expect(level?.at).toMatchObject({ sentAs: 'int16' });
    });
  },
);
