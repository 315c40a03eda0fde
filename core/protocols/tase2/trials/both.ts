import type { PointKind } from '../../../point/index.ts';
import type { ClientPoint } from '../../client.ts';
import type { ControlOrder } from '../../control.ts';
import type { ServerPoint, ServerUpdate } from '../../server.ts';
import { Ends } from '../../mms/trials/ends.ts';
import { TaseClient } from '../client/client.ts';
import type { Order } from '../order.ts';
import { pointAtSchema, targetAtSchema, type TaseAt, type TaseTargetAt } from '../points.ts';
import { TaseServer } from '../server/server.ts';
import { clientSettings, serverSettings } from '../settings.ts';
import type { PointType } from '../types.ts';

/** A point of a client's list, by its name: `ICC1/TIE_MW`. */
export const at = (text: string, way: TaseAt['way'] = 'auto'): TaseAt => {
  const [first, second] = text.split('/');
  const [domain, name] = second === undefined ? ['', first] : [first, second];
  return pointAtSchema.parse({ protocol: 'tase2', domain, name, way });
};
export const listed = (
  id: number,
  kind: PointKind,
  name: string,
  way: TaseAt['way'] = 'auto',
): ClientPoint<TaseAt> => ({ id, kind, at: at(name, way) });

/** A point as a server offers it. */
export const offered = (
  kind: PointKind,
  name: string,
  type: PointType,
  more: Partial<TaseTargetAt> = {},
): ServerPoint<TaseTargetAt> => ({
  ...{ kind, deadband: 0 },
  at: targetAtSchema.parse({ protocol: 'tase2', name, type, ...more }),
});

/** Our client and our server on a connection, in virtual time. */
export class Both extends Ends<TaseAt, TaseTargetAt, Order, TaseClient, TaseServer> {
  constructor(
    list: ClientPoint<TaseAt>[],
    private readonly own: ServerPoint<TaseTargetAt>[],
    settings: { client?: object; server?: object; code?: string } = {},
  ) {
    super(list, own, {
      client: (now, options) =>
        new TaseClient(clientSettings.parse({ domain: 'HALVIX', ...settings.client }), now, {
          ...options,
          ...(settings.code === undefined ? {} : { code: settings.code }),
        }),
      server: (offers, now, kept) => new TaseServer(serverSettings.parse(settings.server ?? {}), offers, now, kept),
    });
  }

  update(name: string, value: number, more: Partial<ServerUpdate<TaseTargetAt>> = {}): void {
    const point = this.own.find((one) => one.at.name === name);
    if (point === undefined) throw new Error(`no ${name}`);
    this.tell(name, { kind: point.kind, at: point.at, value, quality: 0, time: this.now, ...more });
  }
  control(name: string, kind: ControlOrder<TaseAt>['kind'], wanted: Partial<ControlOrder<TaseAt>>): void {
    this.order(at(name), kind, wanted);
  }
}
