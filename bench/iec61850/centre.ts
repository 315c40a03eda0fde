import { clientSettings, iecAt, IecClient, type IecAt } from '@halvix/core/protocols/iec61850';
import type { Spoken } from '../mms/centre.ts';

/** A centre that looks at our model. */
export const IEC_61850: Spoken<IecAt> = {
  protocol: 'iec61850',
  client: (now) =>
    new IecClient(clientSettings.parse({ bufferMs: 20 }), now, {
      ...{ octetMs: 0, remembered: null, points: [], phase: 1 },
    }) as never,
  parse: iecAt,
  print: ({ reference, fc }) => `${reference}[${fc}]`,
};
