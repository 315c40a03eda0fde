import { existsSync, mkdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, inject, onTestFinished, test } from 'vitest';
import { freePorts } from '../../scripts/lib/ports.mjs';
import { dataFolder, Postgres } from '../../scripts/lib/postgres.mjs';
import { launch, NODE_FLAGS, ROOT, run, stopProcess } from '../../scripts/lib/run.mjs';
import { countEvents } from '../rig/count.ts';
import { DatabaseProxy } from '../rig/databaseproxy.ts';
import { Rig } from '../rig/rig.ts';

/** How much of it: enough for every change, or (HALVIX_LONG=1, some 20 minutes) as much as a bad day has. */
const EXTENT =
  process.env.HALVIX_LONG === '1'
    ? { cuts: 200, takeovers: 50, fullMs: 600_000, perSecond: 300, limitMs: 1_200_000 }
    : { cuts: 60, takeovers: 8, fullMs: 10_000, perSecond: 150, limitMs: 90_000 };

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
const healthOf = async (port: number): Promise<{ state: string; ok: boolean; problem: string | null }> => {
  const answer = await fetch(`http://127.0.0.1:${port}/healthz`).catch(() => null);
  return answer === null ? { state: 'gone', ok: false, problem: null } : answer.json();
};
const storm = (rig: Rig, perSecond: number): Promise<unknown> =>
  rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond });

/** Ends the storm, and counts: nothing lost, nothing doubled. */
async function expectExact(rig: Rig, atLeast: number): Promise<void> {
  await storm(rig, 0);
  await pause(500);
  const { made, lost, repeated } = await countEvents(rig);
  process.stdout.write(`${made} events made, ${lost.length} lost, ${repeated.length} stored twice\n`);
  expect(made).toBeGreaterThan(atLeast);
  expect(lost.slice(0, 5)).toEqual([]);
  expect(repeated.slice(0, 5)).toEqual([]);
}

describe('the way to the database', () => {
  let rig: Rig;
  let proxy: DatabaseProxy;
  beforeAll(async () => {
    const server = inject('postgres');
    const [port] = await freePorts(1);
    proxy = new DatabaseProxy(port, server.port);
    rig = await Rig.make('cuts', server);
    const through = rig.databaseUrl.replace(`:${server.port}/`, `:${port}/`);
    await rig.start({ engine: { HALVIX_DATABASE_URL: through } });
  });
  afterAll(async () => {
    proxy.close();
    await rig.stop();
  });

  test(
    'is cut again and again at 20 to 400 ms: the engine lives, nothing is lost, nothing doubled',
    async () => {
      await storm(rig, 150);
      for (let cut = 0; cut < EXTENT.cuts; cut++) {
        proxy.latencyMs = [20, 60, 150, 400][cut % 4];
        await pause(100 + Math.random() * 500);
        proxy.cut(cut % 3 !== 0);
      }
      proxy.latencyMs = 0;
      expect(rig.system.processes.get('engine')?.child.exitCode).toBeNull();
      await rig.until('history is written again', async () => (await healthOf(rig.ports.engine)).ok, 20_000);
      await expectExact(rig, 2000);
    },
    EXTENT.limitMs,
  );

  test('is half dead: health answers at once, and the engine goes on over new connections', async () => {
    await storm(rig, 100);
    await pause(1000);
    proxy.freeze();
    const began = performance.now();
    await healthOf(rig.ports.engine);
    expect(performance.now() - began).toBeLessThan(8000);
    await rig.until('health says so', async () => !(await healthOf(rig.ports.engine)).ok, 8000);
    await rig.until('history is written again', async () => (await healthOf(rig.ports.engine)).ok, 40_000);
    await pause(3000);
    await expectExact(rig, 1000);
    // What people ask for gets through again as well.
    await rig.force('analog', 7, 321);
    const id = await rig.pointId('analog', 7);
    await rig.until('the newest value is published', async () => {
      const [row] = await rig.sql`select raw from latest where point_id = ${id}`;
      return row?.raw === 321;
    });
  });

  /** Changes tables in use: whoever meets a writer the wrong way round is ended by the database, and tries again. */
  async function changed(statements: string): Promise<void> {
    await rig.until('the tables are changed', () =>
      rig.sql
        .begin((tx) => tx.unsafe(statements))
        .then(
          () => true,
          (error: { code?: string }) => {
            if (error.code === '40P01') return false;
            throw error;
          },
        ),
    );
  }

  test('no space in the middle of a copy is no bad data: everything waits, and is stored later', async () => {
    await storm(rig, 100);
    await pause(500);
    await changed(`
      create sequence copied;
      create function full_disk() returns trigger language plpgsql as $$ begin
        if nextval('copied') % 7 = 0 then raise exception 'No space left on device' using errcode = '53100'; end if;
        return new; end $$;
      create trigger full_disk before insert on reading for each row execute function full_disk()`);
    await rig.until(
      'health says so',
      async () => (await healthOf(rig.ports.engine)).problem?.includes('space') ?? false,
    );
    await pause(6000);
    await changed('drop trigger full_disk on reading; drop function full_disk; drop sequence copied');
    await rig.until('history is written again', async () => (await healthOf(rig.ports.engine)).ok);
    await expectExact(rig, 500);
  });

  test('a value that the database cannot hold is put aside, counted, and holds nothing up', async () => {
    await changed(`
      create function refuse() returns trigger language plpgsql as $$ begin
        if new.raw = 666 then raise exception 'this one not' using errcode = '23514'; end if; return new; end $$;
      create trigger refuse before insert on reading for each row execute function refuse()`);
    const file = join(ROOT, '.data/engine', `${rig.ports.engine}`, 'refused-readings.jsonl');
    await rig.force('analog', 7, 666);
    await rig.force('analog', 8, 667);
    const stored = async (raw: number): Promise<number> =>
      (await rig.sql`select count(*)::int as n from reading where raw = ${raw}`)[0].n as number;
    await rig.until('its neighbour is stored', async () => (await stored(667)) > 0);
    await rig.until('it is put aside', async () => existsSync(file));
    expect(readFileSync(file, 'utf8')).toContain('"raw":666');
    expect(await stored(666)).toBe(0);
    await rig.until('the board counts it', async () => (await rig.hop('engine', 'engine-1')).refusedReadings > 0);
    expect((await healthOf(rig.ports.engine)).ok).toBe(true);
    await changed('drop trigger refuse on reading; drop function refuse');
  });
});

describe('a full disk, with database and logs on it', () => {
  const folder = '/tmp/halvix-small-disk';
  const asRoot = (command: string, ...args: string[]): Promise<unknown> =>
    process.getuid?.() === 0 ? run(command, args) : run('sudo', [command, ...args]);
  let postgres: Postgres;
  let rig: Rig;
  beforeAll(async () => {
    mkdirSync(folder, { recursive: true });
    await asRoot('umount', folder).catch(() => {});
    await asRoot('mount', '-t', 'tmpfs', '-o', 'size=400m,mode=0777', 'tmpfs', folder);
    const [port] = await freePorts(1);
    postgres = new Postgres(join(folder, 'database'), port, { durable: true });
    await postgres.reset();
    await postgres.start();
    rig = await Rig.make('disk', postgres, { logs: join(folder, 'logs') });
    await rig.start({ bench: { HALVIX_BENCH_RELAY_EVENTS: '250000' } });
  });
  afterAll(async () => {
    await rig.stop();
    await postgres.remove();
    await asRoot('umount', folder);
    rmSync(folder, { recursive: true, force: true });
  });

  test(
    'nothing is lost, it is said at once, and everything goes on by itself',
    async () => {
      await storm(rig, EXTENT.perSecond);
      await pause(1500);
      const ballast = join(folder, 'ballast');
      await run('sh', [
        '-c',
        `dd if=/dev/zero of=${ballast} bs=1M 2>/dev/null || true; dd if=/dev/zero of=${ballast}2 bs=1k 2>/dev/null || true`,
      ]);
      expect(statSync(ballast).size).toBeGreaterThan(1e6);
      await rig.until('health says so', async () => !(await healthOf(rig.ports.engine)).ok, 20_000);
      await pause(EXTENT.fullMs);
      expect(rig.system.processes.get('engine')?.child.exitCode).toBeNull();
      expect((await healthOf(rig.ports.engine)).ok).toBe(false);
      rmSync(ballast);
      rmSync(`${ballast}2`);
      // A database that ended itself is started by whoever keeps it.
      if (postgres.pid() === null) await postgres.start();
      await rig.until('history is written again', async () => (await healthOf(rig.ports.engine)).ok, 40_000);
      await pause(3000);
      await expectExact(rig, 1500);
    },
    EXTENT.limitMs,
  );
});

describe('two engines', () => {
  let rig: Rig;
  let otherPort: number;
  const others = new Map<string, ReturnType<typeof launch>>();
  const LEASE = { HALVIX_LEASE_MS: '900' };
  beforeAll(async () => {
    [otherPort] = await freePorts(1);
    rig = await Rig.make('takeover', inject('postgres'));
    await rig.start({ engine: LEASE });
  });
  afterAll(async () => {
    for (const one of others.values()) await stopProcess(one);
    await rig.stop();
  });

  const startOn = (port: number, name: string): void => {
    const env = { ...rig.system.env, ...LEASE, HALVIX_ENGINE_PORT: String(port), HALVIX_ENGINE_NAME: name };
    const log = join(dataFolder('test-logs/takeover'), `${name}.log`);
    others.set(name, launch(name, ['--enable-source-maps', join(ROOT, 'dist/engine.js')], env, log));
  };

  test('the second one stands by, and says so', async () => {
    startOn(otherPort, 'engine-2');
    await rig.until('it stands by', async () => (await healthOf(otherPort)).state === 'standby');
    expect(await healthOf(otherPort)).toMatchObject({ ok: true, holder: 'engine-1' });
    expect((await healthOf(rig.ports.engine)).state).toBe('running');
    const rows = await rig.sql`select name from standby where seen > now() - interval '5 s'`;
    expect(rows.map(({ name }) => name as string)).toEqual(['engine-2']);
  });

  test(
    'it takes over within seconds whenever the first one dies; nothing is lost, doubled or repeated',
    async () => {
      await storm(rig, 150);
      let operated = 0;
      const ports = [rig.ports.engine, otherPort];
      let holder = 0;
      for (let round = 0; round < EXTENT.takeovers; round++) {
        await pause(700 + Math.random() * 600);
        const control = rig.bench<{ step: string }[]>('POST', '/centres/QST/controls', {
          ...{ index: 0, operation: round % 2 ? 'close' : 'trip', mode: 'direct' },
        });
        control.then((steps) => (operated += steps.at(-1)?.step === 'operated' ? 1 : 0)).catch(() => {});
        await pause(Math.random() * 150);
        if (holder === 0) await rig.system.kill('engine');
        else {
          others.get('engine-2')?.child.kill('SIGKILL');
          await others.get('engine-2')?.ended;
        }
        const next = 1 - holder;
        const took = await rig.until(
          'taken over',
          async () => (await healthOf(ports[next])).state === 'running',
          10_000,
        );
        expect(took).toBeLessThan(10_000);
        if (holder === 0) rig.system.start('engine', LEASE);
        else startOn(otherPort, 'engine-2');
        holder = next;
      }
      await pause(2000);
      await expectExact(rig, 1500);
      // Each operation that the relay carried out was asked for once.
      const [{ doubled }] = await rig.sql`
      select count(*)::int as doubled from (select id from command group by id having count(*) > 1) as twice`;
      expect(doubled).toBe(0);
    },
    EXTENT.limitMs,
  );

  test('an engine that was asleep while another one took over ends instead of writing', async () => {
    const running = (await healthOf(rig.ports.engine)).state === 'running';
    const sleeper = running ? rig.system.processes.get('engine') : others.get('engine-2');
    const other = running ? otherPort : rig.ports.engine;
    sleeper?.child.kill('SIGSTOP');
    await rig.until('the other one runs', async () => (await healthOf(other)).state === 'running', 10_000);
    sleeper?.child.kill('SIGCONT');
    expect(await sleeper?.ended).toBe(75);
    expect((await healthOf(other)).state).toBe('running');
  });
});

describe('as docs/operating.md says', () => {
  let rig: Rig;
  const server = inject('postgres');
  const uses = `halvix_use_${process.pid}`;
  beforeAll(async () => {
    rig = await Rig.make('rights', server);
    await rig.system.loadDemo();
    await rig.sql.unsafe(grantsOf(readFileSync(join(ROOT, 'docs/operating.md'), 'utf8'), uses));
    const url = rig.databaseUrl.replace(/halvix:[^@]*@/, `${uses}:in-use@`);
    await rig.start({ engine: { HALVIX_DATABASE_URL: url, HALVIX_OWNER_URL: rig.databaseUrl } });
  });
  afterAll(() => rig.stop());

  /** The statements of the document, for another name of the role. */
  const grantsOf = (document: string, role: string): string => {
    const block = /```sql\n(-- rights of the processes\n[\s\S]*?)```/.exec(document)?.[1] ?? '';
    expect(block).toContain('grant');
    return block
      .replaceAll('halvix_use', role)
      .replaceAll('halvix_owner', 'halvix')
      .replaceAll('a long secret', 'in-use');
  };

  test('the engine works with a role that owns nothing', async () => {
    await rig.force('analog', 7, 432);
    const id = await rig.pointId('analog', 7);
    await rig.until('it is stored', async () => {
      const [{ n }] = await rig.sql`select count(*)::int as n from reading where point_id = ${id} and raw = 432`;
      return (n as number) > 0;
    });
    const [{ owner }] = await rig.sql`select tableowner as owner from pg_tables where tablename = 'reading'`;
    expect(owner).toBe('halvix');
    const other = rig.databaseUrl.replace(/halvix:[^@]*@/, `${uses}:in-use@`);
    const { code, output } = await run('psql', [other, '-c', 'delete from security_log'], { allowFailure: true });
    expect(code).not.toBe(0);
    expect(output).toContain('permission denied');
  });

  const asUser = (): string => rig.databaseUrl.replace(/halvix:[^@]*@/, `${uses}:in-use@`);
  const refused = async (statement: string): Promise<string> => {
    const { code, output } = await run('psql', [asUser(), '-c', statement], { allowFailure: true });
    expect(code, statement).not.toBe(0);
    return output;
  };

  test('what was applied, ordered and noted stays, and only the owner says how long the security log is kept', async () => {
    await rig.sql`
      insert into command (id, point_id, device, address, operation, mode, on_ms, off_ms, count, requested_by, state, requested, expires)
      values ('6c1de1f6-0b1a-4c53-9d0c-7a4d4d2f9a01', 1, 'X', 'BO 0', 'close', 'direct', 0, 0, 1, 'ada', 'requested', now(), now() + interval '1 hour')`;
    expect(await refused(`update revision set author = 'somebody else'`)).toContain('not changed any more');
    expect(await refused('delete from revision')).toContain('not changed any more');
    expect(await refused('truncate revision')).toContain('permission denied');
    expect(await refused(`update command set requested_by = 'somebody else'`)).toContain('not changed any more');
    expect(await refused('delete from command')).toContain('not changed any more');
    await rig.sql`update command set ended = now(), state = 'failed', words = 'no' where device = 'X'`;
    expect(await refused(`update command set words = 'yes' where device = 'X'`)).toContain('what came of command');
    expect(await refused('update security_keeping set lines = 1')).toContain('only the owner');
    expect(await refused('select end_old_security_lines()')).toContain('permission denied');
    expect(await refused(`set halvix.ends_old_lines = 'on'; delete from security_log`)).toContain('permission denied');
    await rig.sql.unsafe(`insert into security_log (time, who, what, words, address)
      select now() - (n || ' days')::interval, 'ada', 'sign-in', 'line ' || n, '' from generate_series(500, 1, -1) as n`);
    await rig.sql`select end_old_security_lines()`;
    const [{ n }] = await rig.sql`select count(*)::int as n from security_log where words like 'line %'`;
    expect(n).toBe(399);
    await expect(rig.sql`delete from security_log`.execute()).rejects.toThrow(/only added to/);
  });

  test('the command line works with the same rights; what is the owner’s it says', async () => {
    const halvix = (env: Record<string, string>, ...args: string[]): ReturnType<typeof run> =>
      run(process.execPath, [join(ROOT, 'dist/halvix.js'), ...args], {
        env: { HALVIX_MIGRATIONS: join(ROOT, 'db/migrations'), ...env },
        allowFailure: true,
      });
    const rights = { HALVIX_DATABASE_URL: asUser() };
    const listed = await halvix(rights, 'account', 'list');
    expect([listed.code, listed.output]).toEqual([0, expect.stringContaining('engineer')]);
    const exported = await halvix(rights, 'config', 'export');
    expect(exported.output).toContain('halvix.configuration');
    expect((await halvix(rights, 'security', 'kept')).output).toContain('kept for 400 days, and at most 1000000 lines');
    const denied = await halvix(rights, 'security', 'kept', '--days', '30');
    expect([denied.code, denied.output]).toEqual([1, expect.stringContaining('only the owner')]);
    const owner = { ...rights, HALVIX_OWNER_URL: rig.databaseUrl };
    expect((await halvix(owner, 'security', 'kept', '--days', '0')).output).toContain('no whole number from 1 to 3653');
    expect((await halvix(owner, 'security', 'kept', '--lines', '5000')).output).toContain('at most 5000 lines');
  });

  test('the units start what is built, as the processes are started here, with few rights', () => {
    const unit = (name: string): string => readFileSync(join(ROOT, `packaging/systemd/halvix-${name}.service`), 'utf8');
    expect(unit('engine')).toContain(
      `ExecStart=/usr/bin/node ${NODE_FLAGS.join(' ')} /opt/halvix/dist/engine.js`.replace(
        /--v8-pool-size=\d+/,
        '--v8-pool-size=1',
      ),
    );
    expect(unit('web')).toContain('ExecStart=/usr/bin/node --enable-source-maps /opt/halvix/dist/web.js');
    for (const name of ['engine', 'web'])
      for (const line of [
        ...[`User=halvix-${name}`, 'UMask=0077', 'NoNewPrivileges=yes', 'CapabilityBoundingSet=CAP_NET_BIND_SERVICE'],
        ...['AmbientCapabilities=CAP_NET_BIND_SERVICE', 'ProtectSystem=strict', 'SystemCallFilter=@system-service'],
        'RestartPreventExitStatus=2',
      ])
        expect(unit(name).split('\n')).toContain(line);
  });

  test('backup and restore word for word, by a role that owns the tables and nothing else', async () => {
    const document = readFileSync(join(ROOT, 'docs/operating.md'), 'utf8');
    const owner = `halvix_owner_${process.pid}`;
    const user = `halvix_user_${process.pid}`;
    const [first, again] = [`kept_${process.pid}`, `kept_again_${process.pid}`];
    const [, made] = /```sql\n(create role halvix_owner[\s\S]*?)```/.exec(document) ?? [];
    for (const statement of made
      .replaceAll('halvix_owner', owner)
      .replaceAll('database halvix ', `database ${first} `)
      .replaceAll('another long secret', 'owns')
      .split(';')
      .filter((one) => one.trim() !== ''))
      await rig.sql.unsafe(statement);
    const urlOf = (role: string, password: string, database: string): string =>
      rig.databaseUrl.replace(/halvix:[^@]*@/, `${role}:${password}@`).replace(/\/[^/]*$/, `/${database}`);
    const halvix = (url: string, ...args: string[]): ReturnType<typeof run> =>
      run(process.execPath, [join(ROOT, 'dist/halvix.js'), ...args], {
        env: { HALVIX_MIGRATIONS: join(ROOT, 'db/migrations'), HALVIX_DATABASE_URL: url },
      });
    const folder = dataFolder('test-logs/rights');
    const demo = join(folder, 'demo.json');
    await halvix(rig.databaseUrl, 'config', 'export', demo);
    await halvix(urlOf(owner, 'owns', first), 'config', 'import', demo);
    await run('psql', [
      rig.databaseUrl.replace(/\/[^/]*$/, `/${first}`),
      '-v',
      'ON_ERROR_STOP=1',
      '-c',
      grantsOf(document, user).replaceAll('role halvix in', `role ${owner} in`),
    ]);
    const [, inWords] = /`(create database halvix_again owner halvix_owner)`/.exec(document) ?? [];
    await rig.sql.unsafe(inWords.replace('halvix_again', again).replace('halvix_owner', owner));
    const [, commands] = /```sh\n(pg_dump[\s\S]*?)```/.exec(document) ?? [];
    for (const command of commands.trim().split('\n'))
      await run('bash', [
        '-c',
        command
          .replaceAll('postgres://halvix_owner@host/halvix_again', urlOf(owner, 'owns', again))
          .replaceAll('postgres://halvix_owner@host/halvix', urlOf(owner, 'owns', first))
          .replaceAll('halvix.dump', join(folder, 'words.dump')),
      ]);
    const { output } = await halvix(urlOf(user, 'in-use', again), 'config', 'export', '--draft');
    expect(output).toContain('HLM-F1');
    const { code } = await run('psql', [urlOf(user, 'in-use', again), '-c', 'delete from revision'], {
      allowFailure: true,
    });
    expect(code).not.toBe(0);
  });

  test('a dump while it runs is restored beside it, the engine goes on there, and nothing is doubled', async () => {
    await storm(rig, 100);
    await pause(2000);
    const file = join(dataFolder('test-logs/rights'), 'halvix.dump');
    await run('pg_dump', ['--format=custom', `--file=${file}`, rig.databaseUrl]);
    await pause(1000);
    await rig.system.kill('engine');
    const database = `restored_${process.pid}`;
    const url = rig.databaseUrl.replace(/\/[^/]*$/, `/${database}`);
    await rig.sql.unsafe(`create database "${database}"`);
    await run('pg_restore', ['--exit-on-error', '--no-owner', `--dbname=${url}`, file]);
    rig.system.start('engine', { HALVIX_DATABASE_URL: url });
    await rig.until('it goes on', async () => (await healthOf(rig.ports.engine)).ok, 20_000);
    await pause(2500);
    await storm(rig, 0);
    await pause(3000);
    const { output } = await run('psql', [
      ...[url, '-At', '-c'],
      `select count(*), count(distinct (point_id, raw, time)) from reading where cause = 1`,
    ]);
    const [stored, different] = output.trim().split('|').map(Number);
    expect(stored).toBeGreaterThan(300);
    expect(stored).toBe(different);
  });
});

test('npm start keeps each process by itself, and says which setting is wrong', async () => {
  const [port, engine] = await freePorts(2);
  const server = inject('postgres');
  const rig = await Rig.make('start', server);
  const log = join(dataFolder('test-logs/start'), 'start.log');
  rmSync(log, { force: true });
  const env = {
    HALVIX_DATABASE_URL: rig.databaseUrl,
    HALVIX_WEB_PORT: String(port),
    HALVIX_ENGINE_PORT: String(engine),
    HALVIX_LOGS: dataFolder('test-logs/start'),
  };
  const start = launch('start', [join(ROOT, 'scripts/start.mjs')], env, log);
  onTestFinished(() => stopProcess(start));
  const web = (): Promise<boolean> =>
    fetch(`http://127.0.0.1:${port}/healthz`).then(
      (answer) => answer.ok,
      () => false,
    );
  await rig.until('both run', async () => (await web()) && (await healthOf(engine)).ok, 60_000);
  const pidOf = async (name: string): Promise<number> =>
    Number((await run('pgrep', ['-f', `-P`, String(start.child.pid), name])).output.trim());
  process.kill(await pidOf('engine.js'), 'SIGKILL');
  expect(await fetch(`http://127.0.0.1:${port}/sign-in`).then((answer) => answer.status)).toBe(200);
  await rig.until('the engine runs again', async () => (await healthOf(engine)).ok, 20_000);
  process.kill(await pidOf('web.js'), 'SIGKILL');
  expect((await healthOf(engine)).ok).toBe(true);
  await rig.until('the web runs again', web, 20_000);
  await stopProcess(start);
  expect(readFileSync(log, 'utf8')).toContain('engine ended with');
  writeFileSync(log, '');
  const wrong = launch('start', [join(ROOT, 'scripts/start.mjs')], { ...env, HALVIX_ENGINE_NAME: 'Not This' }, log);
  expect(await wrong.ended).toBe(2);
  expect(readFileSync(log, 'utf8')).toContain('HALVIX_ENGINE_NAME (set): must be 1 to 32 lower-case letters');
  await rig.stop();
});
