import type { TestProject } from 'vitest/node';
import { freePorts } from '../../scripts/lib/ports.mjs';
import { dataFolder, Postgres } from '../../scripts/lib/postgres.mjs';

/** One PostgreSQL for all whole-system tests; each test file makes a database of its own in it. */
export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  const [port] = await freePorts(1);
  const postgres = new Postgres(dataFolder(`test-${process.pid}/postgres`), port, { durable: false });
  await postgres.reset();
  await postgres.start();
  project.provide('postgres', { port, password: postgres.password });
  return () => postgres.remove();
}

declare module 'vitest' {
  interface ProvidedContext {
    postgres: { port: number; password: string };
  }
}
