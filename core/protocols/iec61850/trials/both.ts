import type { PointKind } from '../../../point/index.ts';
import type { ClientPoint } from '../../client.ts';
import type { ControlOrder } from '../../control.ts';
import type { ServerPoint, ServerUpdate } from '../../server.ts';
import { Ends } from '../../mms/trials/ends.ts';
import { IecClient } from '../client/client.ts';
import type { Order } from '../order.ts';
import { address, iecAt, targetAtSchema, type IecAt, type IecTargetAt } from '../points.ts';
import { IecServer } from '../server.ts';
import { clientSettings, serverSettings } from '../settings.ts';

/** A point of a client's list, by its reference. */
export const listed = (
  id: number,
  kind: PointKind,
  reference: string,
  way: IecAt['way'] = 'auto',
): ClientPoint<IecAt> => ({
  ...{ id, kind, at: { ...iecAt(reference), way } },
});

/** A point as a server offers it: `HLM/GGIO1.Ind1[ST]`. */
export function offered(
  kind: PointKind,
  reference: string,
  cdc: IecTargetAt['cdc'],
  more: Partial<ServerPoint<IecTargetAt>> = {},
): ServerPoint<IecTargetAt> {
  const [, device, node, object, fc] = /^(\w+)\/(\w+)\.([\w.]+)\[(\w+)\]$/.exec(reference) ?? [];
  const at = targetAtSchema.parse({ protocol: 'iec61850', device, node, object, fc, cdc });
  return { kind, at, deadband: 0, ...more };
}

/** Our client and our server on a connection, in virtual time. */
export class Both extends Ends<IecAt, IecTargetAt, Order, IecClient, IecServer> {
  constructor(
    list: ClientPoint<IecAt>[],
    offers: ServerPoint<IecTargetAt>[],
    settings: { client?: object; server?: object } = {},
  ) {
    super(list, offers, {
      client: (now, options) => new IecClient(clientSettings.parse(settings.client ?? {}), now, options),
      server: (own, now, kept) => new IecServer(serverSettings.parse(settings.server ?? {}), own, now, kept),
    });
  }

  update(
    kind: PointKind,
    reference: string,
    cdc: IecTargetAt['cdc'],
    value: number,
    more: Partial<ServerUpdate<IecTargetAt>> = {},
  ): void {
    const { at } = offered(kind, reference, cdc);
    this.tell(reference, { kind, at, value, quality: 0, time: this.now, ...more });
  }
  control(at: string, kind: ControlOrder<IecAt>['kind'], wanted: Partial<ControlOrder<IecAt>>): void {
    this.order(iecAt(at), kind, wanted);
  }
}

export const printed = (at: IecAt): string => address.print({ kind: 'binary', at });
