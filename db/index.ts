export {
  closeDatabase,
  listen,
  mayMigrate,
  migrateDatabase,
  notify,
  openDatabase,
  rowsOf,
  type Database,
} from './open.ts';
export * as tables from './schema/index.ts';
export * from './queries/accounts.ts';
export * from './queries/commands.ts';
export * from './queries/configuration.ts';
export * from './queries/files.ts';
export * from './queries/history.ts';
export * from './queries/keeping.ts';
export * from './queries/lease.ts';
export * from './queries/live.ts';
export * from './queries/draft.ts';
export type * from './queries/draftobject.ts';
export * from './queries/outboundkeep.ts';
export * from './queries/owed.ts';
export * from './queries/probes.ts';
export * from './queries/profiles.ts';
export * from './queries/secrets.ts';
export * from './queries/sent.ts';
export { newSecretKey, SecretProblem, SecretKeys, useSecretKeys } from './secrets.ts';
