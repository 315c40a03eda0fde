export { openDatabase, migrateDatabase, type Database, type Sql } from './open.ts';
export * as tables from './schema/index.ts';
export * from './queries/accounts.ts';
export * from './queries/commands.ts';
export * from './queries/configuration.ts';
export * from './queries/history.ts';
export * from './queries/live.ts';
