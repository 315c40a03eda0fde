import type { PointKind } from '@halvix/core/point';
import type { Client, ClientPoint } from '@halvix/core/protocols';
import { clientSettings, iecAt, IecClient, type IecAt } from '@halvix/core/protocols/iec61850';
import * as tase2 from '@halvix/core/protocols/tase2';
import { clock, type TlsFiles } from '@halvix/wire';
import { clientOn } from '../../scripts/measures/loopback.ts';

type List = readonly (readonly [PointKind, string])[];

/** A client on a port, with a list of its own: keeps the latest of each point, and how it came. */
export class Latest<At> {
  readonly latest = new Map<string, { raw: number; event: boolean; quality: number }>();
  state = 'unknown';
  readonly close: () => void;

  constructor(
    port: number,
    list: List,
    at: (address: string) => At,
    make: (options: {
      octetMs: number;
      remembered: null;
      points: ClientPoint<At>[];
      phase: number;
    }) => Client<At, never, Uint8Array>,
    tls?: TlsFiles,
  ) {
    const points = list.map(([kind, address], id) => ({ id, kind, at: at(address) }));
    const client = make({ octetMs: 0, remembered: null, points, phase: 1 });
    const { close } = clientOn(
      port,
      client,
      (news) => {
        if (news.type === 'communication') this.state = news.state;
        if (news.type !== 'readings') return;
        for (const { id, raw, event, quality } of news.readings)
          if (id !== null) this.latest.set(list[id][1], { raw, event, quality });
      },
      tls,
    );
    this.close = close;
  }
}

/** Of a model. */
export const modelClient = (port: number, list: List, settings: object, tls?: TlsFiles): Latest<IecAt> =>
  new Latest(
    port,
    list,
    iecAt,
    (options) => new IecClient(clientSettings.parse(settings), clock.now(), options) as never,
    tls,
  );

/** Of what an agreement names in one domain. */
export const agreementClient = (port: number, domain: string, list: List, tls?: TlsFiles): Latest<tase2.TaseAt> =>
  new Latest(
    port,
    list,
    (name) => tase2.pointAtSchema.parse({ protocol: 'tase2', domain, name }),
    (options) => new tase2.TaseClient(tase2.clientSettings.parse({ domain }), clock.now(), options) as never,
    tls,
  );
