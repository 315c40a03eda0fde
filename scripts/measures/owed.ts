import { Master, masterSettings, owedRecord } from '@halvix/core/protocols/dnp3';
import { databaseSetting, readSettings } from '@halvix/core/settings';
import { applyConfiguration, newestRevision, openDatabase, outboundNumbers, rowsOf, storeOwed } from '@halvix/db';
import { clock, Driver, TcpClient } from '@halvix/wire';
import { sql } from 'drizzle-orm';
import { z } from 'zod';

/*
 * A start with a million owed events. `prepare` puts them into the ledger, as an engine would have; `read` is the centre:
 * when it is answered first, counted from the engine's start, and how long all events take to come; none may be missing.
 */
const EVENTS = 1_000_000;
/** Of the demo; its port is the one that is asked. */
const CENTRE = 'QST';
const PER_ROW = 400;

const settings = readSettings(
  z.object({
    HALVIX_DATABASE_URL: databaseSetting,
    HALVIX_MEASURE: z.enum(['prepare', 'read']),
    HALVIX_CENTRE_PORT: z.coerce.number().int(),
    /** When the engine was started, ms since 1970. */
    HALVIX_BEGAN: z.coerce.number().default(0),
  }),
  process.env,
);
if (!settings.ok) {
  process.stderr.write(`${settings.problem.join('\n')}\n`);
  process.exit(2);
}
const { HALVIX_DATABASE_URL, HALVIX_MEASURE, HALVIX_CENTRE_PORT, HALVIX_BEGAN } = settings.value;
const figure = (name: string, value: number, unit: string, bound?: number): void =>
  void process.stdout.write(
    `${JSON.stringify({ figure: name, value, unit, ...(bound === undefined ? {} : { bound }), better: 'lower' })}\n`,
  );

async function prepare(): Promise<void> {
  const database = openDatabase(HALVIX_DATABASE_URL, { connections: 2, name: 'owed-bench', deadlineMs: 120_000 });
  const revision = await newestRevision(database);
  if (revision === null) throw new Error('nothing is applied');
  const { configuration } = revision;
  const centre = configuration.outbounds.find(({ code }) => code === CENTRE);
  if (centre === undefined) throw new Error(`the demo has no ${CENTRE}`);
  Object.assign(centre.settings, { eventsPerClass: 1_000_000 });
  configuration.outbounds = [centre];
  await applyConfiguration(database, configuration, 'bench', 'a million events owed');
  const outbound = (await outboundNumbers(database, [centre.code])).get(centre.code) ?? 0;
  const from = Date.now() - EVENTS;
  const client = await database.$client.connect();
  for (let n = 0; n < EVENTS; n += PER_ROW) {
    const events = Array.from({ length: PER_ROW }, (_, at) => {
      const time = from + n + at;
      const event = { kind: 'analog' as const, index: (n + at) % 36, class: 2 as const, value: n + at, flags: 1 };
      return { outbound, ...owedRecord({ ...event, number: time * 1000, time, variation: 3 }) };
    });
    await storeOwed(client, events);
  }
  client.release();
  const [{ rows }] = await rowsOf<{ rows: number }>(database, sql`select count(*)::int as rows from owed`);
  process.stderr.write(`${EVENTS} events owed in ${rows} rows\n`);
  await database.$client.end();
}

function read(): Promise<void> {
  return new Promise((resolve) => {
    const seen = new Set<number>();
    let answered = false;
    let disordered = 0;
    let last = -1;
    const periods = { integrityPeriodMs: 0, class1PeriodMs: 200, class2PeriodMs: 200, class3PeriodMs: 1000 };
    const master = new Master(
      masterSettings.parse({
        ourAddress: 100,
        theirAddress: 10,
        responseTimeoutMs: 2000,
        timeSync: 'never',
        ...periods,
      }),
      clock.now(),
    );
    const driver = new Driver(master, (effect) => {
      if (effect.type === 'send') void link.send(effect.octets);
      if (effect.type !== 'readings') return;
      if (!answered) figure('owed.start_s', Math.round(Date.now() - HALVIX_BEGAN) / 1000, 's', 5);
      answered = true;
      for (const { event, value } of effect.readings) {
        if (!event || value >= EVENTS) continue;
        if (value < last) disordered++;
        last = value;
        seen.add(value);
      }
      if (effect.token !== null) driver.command({ type: 'committed', token: effect.token });
      if (seen.size === EVENTS) done();
    });
    const options = { host: '127.0.0.1', port: HALVIX_CENTRE_PORT, connectTimeoutMs: 1000 };
    const link = new TcpClient(
      { ...options, reconnectFirstMs: 50, reconnectMaxMs: 100 },
      {
        up: () => driver.start(),
        down: () => driver.stop(),
        data: (octets) => driver.receive(octets),
        changed: () => {},
      },
    );
    const done = (): void => {
      clearTimeout(limit);
      figure('owed.all_s', Math.round(Date.now() - HALVIX_BEGAN) / 1000, 's');
      figure('owed.start_lost', EVENTS - seen.size, 'events', 0);
      figure('owed.start_disordered', disordered, 'events', 0);
      link.close();
      driver.close();
      resolve();
    };
    const limit = setTimeout(done, 120_000);
    link.open();
  });
}

await (HALVIX_MEASURE === 'prepare' ? prepare() : read());
process.exit(0);
