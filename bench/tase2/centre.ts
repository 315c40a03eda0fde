import { clientSettings, pointAtSchema, printAt, TaseClient, type TaseAt } from '@halvix/core/protocols/tase2';
import type { Spoken } from '../mms/centre.ts';

const at = (text: string): TaseAt => {
  const [first, second] = text.split('/');
  const [domain, name] = second === undefined ? ['', first] : [first, second];
  return pointAtSchema.parse({ protocol: 'tase2', domain, name });
};

/** A centre with which we have an agreement, as the client of our domain. */
export const tase2 = (domain: string): Spoken<TaseAt> => ({
  protocol: 'tase2',
  client: (now, within) =>
    new TaseClient(clientSettings.parse({ domain }), now, {
      ...{ octetMs: 0, remembered: null, points: [], phase: 1 },
      ...(within ? { within } : {}),
    }) as never,
  parse: at,
  print: printAt,
});
