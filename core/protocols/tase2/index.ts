export { pointAtSchema, printAt, targetAtSchema, type TaseAt, type TaseTargetAt } from './points.ts';
export { clientSettings, serverSettings } from './settings.ts';
export { TaseClient } from './client/client.ts';
export { TaseServer } from './server/server.ts';
export type { PointType } from './types.ts';
