import { freePorts } from '../../scripts/lib/ports.mjs';
import { dataFolder, Postgres } from '../../scripts/lib/postgres.mjs';

/** One PostgreSQL for all browser tests; each file makes a database of its own in it. */
export default async function setup(): Promise<() => Promise<void>> {
  const [port] = await freePorts(1);
  const postgres = new Postgres(dataFolder(`test-browser-${process.pid}/postgres`), port, { durable: false });
  await postgres.reset();
  await postgres.start();
  process.env.HALVIX_TEST_POSTGRES = JSON.stringify({ port, password: postgres.password });
  return () => postgres.remove();
}
