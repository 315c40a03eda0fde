import { join } from 'node:path';
import { CAUSES, type PointKind } from '@halvix/core/point';
import type { PointAt } from '@halvix/core/protocols';
import { iecAt } from '@halvix/core/protocols/iec61850';
import { pointAtSchema } from '@halvix/core/protocols/tase2';
import { freePorts } from '../../scripts/lib/ports.mjs';
import type { Logged } from './count.ts';
import { BrokerReceiver } from './broker.ts';
import { LineFile } from './linefile.ts';
import { Receiver, type Received } from './receiver.ts';
import type { Rig } from './rig.ts';

/*
 * What was taken is delivered: the relay's storm, outbounds that owe events (an outstation, buffered report blocks,
 * critical transfer sets, a file of lines, messages at a broker), and a centre of each. Counted is what of the relay's own log each centre has: what is missing,
 * what came twice, and what of a point came in another order than it came about.
 */

type Asked = 'OWD' | 'OWM' | 'OWC';
type Outbound = Asked | 'OWL' | 'OWB';
type Json = Record<string, unknown>;
/** What the relay's storm changes. */
export const STORMED: readonly { kind: PointKind; index: number }[] = [
  ...[19, 20, 21, 22, 23, 24, 26].map((index) => ({ kind: 'binary' as const, index })),
  ...[19, 20, 21, 22, 23, 24, 25, 26, 27].map((index) => ({ kind: 'analog' as const, index })),
];
const address = ({ kind, index }: (typeof STORMED)[number]): string => `${kind === 'binary' ? 'BI' : 'AI'} ${index}`;
const label = ({ kind, index }: (typeof STORMED)[number]): string => `${kind} ${index}`;
const DOMAIN = 'OWED';

const TARGETS: Record<Outbound, (point: (typeof STORMED)[number]) => object> = {
  OWD: ({ kind, index }) => ({
    ...{ protocol: 'dnp3', index, eventClass: kind === 'binary' ? 1 : 2 },
    ...{ staticVariation: kind === 'binary' ? 2 : 1, eventVariation: kind === 'binary' ? 2 : 3 },
  }),
  OWM: ({ kind, index }) => ({
    ...{ protocol: 'iec61850', device: 'HLM', node: 'GGIO1', object: `${kind === 'binary' ? 'Ind' : 'AnIn'}${index}` },
    ...(kind === 'binary' ? { fc: 'ST', cdc: 'SPS' } : { fc: 'MX', cdc: 'MV' }),
  }),
  OWC: ({ kind, index }) => ({
    ...{ protocol: 'tase2', name: `${kind === 'binary' ? 'BI' : 'AI'}_${index}` },
    type: kind === 'binary' ? 'StateQTimeTagExtended' : 'RealQTimeTagExtended',
  }),
  OWL: (point) => ({ protocol: 'jsonlines', name: label(point) }),
  OWB: (point) => ({ protocol: 'mqtt', topic: 'owed/HLM', name: label(point) }),
};
const SEEN: Record<Asked, (point: (typeof STORMED)[number]) => PointAt> = {
  OWD: ({ index }) => ({ protocol: 'dnp3', index }) as PointAt,
  OWM: ({ kind, index }) =>
    iecAt(kind === 'binary' ? `HLM/GGIO1.Ind${index}.stVal[ST]` : `HLM/GGIO1.AnIn${index}.mag.f[MX]`),
  OWC: ({ kind, index }) =>
    pointAtSchema.parse({ protocol: 'tase2', domain: DOMAIN, name: `${kind === 'binary' ? 'BI' : 'AI'}_${index}` }),
};
const SETTINGS: Record<Outbound, object> = {
  OWD: { ourAddress: 10, theirAddress: 100, eventsPerClass: 200_000 },
  OWM: { bufferValues: 500_000 },
  OWC: { domain: DOMAIN },
  OWL: { afterMs: 100 },
  OWB: { afterMs: 100, clientId: 'owed' },
};
const PROTOCOL = { OWD: 'dnp3', OWM: 'iec61850', OWC: 'tase2', OWL: 'jsonlines', OWB: 'mqtt' } as const;
export const OUTBOUNDS = Object.keys(PROTOCOL) as Outbound[];
/** Those that are asked, on links of their own. */
export const ASKED = OUTBOUNDS.filter((code): code is Asked => code !== 'OWL' && code !== 'OWB');

export interface Counted {
  made: number;
  lost: string[];
  doubled: string[];
  disordered: string[];
  /** Events that are none of the relay's log: changes that were seen by its present values. */
  others: number;
}

export class Owed {
  readonly receivers: Record<Asked, Receiver> & { OWL: LineFile; OWB: BrokerReceiver };

  private constructor(
    private readonly rig: Rig,
    public configuration: Json,
    ports: Record<Asked, number>,
    file: LineFile,
    private readonly broker: BrokerReceiver,
  ) {
    const points = (outbound: Asked) =>
      STORMED.map((point) => ({ kind: point.kind, at: SEEN[outbound](point), point: label(point) }));
    const master = { ourAddress: 100, theirAddress: 10, responseTimeoutMs: 5000, timeSync: 'never' };
    const polls = { class1PeriodMs: 200, class2PeriodMs: 200, class3PeriodMs: 1000, integrityPeriodMs: 0 };
    this.receivers = {
      OWD: new Receiver('dnp3', ports.OWD, { ...master, ...polls, unsolicitedClasses: [1, 2] }, points('OWD')),
      OWM: new Receiver('iec61850', ports.OWM, { bufferMs: 0, reserveS: 0, integrityMs: 0 }, points('OWM')),
      OWC: new Receiver('tase2', ports.OWC, { domain: DOMAIN, critical: true, integrityMs: 0 }, points('OWC')),
      OWL: file,
      OWB: broker,
    };
  }

  /** The demo's relay with outbounds of its storm in the place of its own; not applied yet. */
  static async make(rig: Rig): Promise<Owed> {
    const [row] = await rig.sql`select document from revision order by id desc limit 1`;
    const base = row.document as Json & { links: Json[]; outbounds: Json[]; devices: Json[] };
    const [OWD, OWM, OWC] = await freePorts(3);
    const ports = { OWD, OWM, OWC };
    const file = new LineFile(join(rig.system.env.HALVIX_STATE, 'out'), `owed-${Date.now()}`);
    const broker = await BrokerReceiver.start('owed/HLM');
    const asked = ASKED.map((code) => ({
      ...{
        code,
        name: `To ${code}`,
        type: 'tcpServer',
        protocol: PROTOCOL[code],
        host: '127.0.0.1',
        port: ports[code],
      },
    }));
    const toBroker = { code: 'OWB', name: 'To OWB', type: 'tcpClient', protocol: PROTOCOL.OWB };
    const links = [...asked, { ...toBroker, host: '127.0.0.1', port: broker.port }];
    const outbounds = OUTBOUNDS.map((code) => ({
      ...{ code, name: code, centre: `Centre ${code}`, protocol: PROTOCOL[code] },
      link: code === 'OWL' ? '' : code,
      ...{
        allowFrom: ['127.0.0.0/8'],
        settings: code === 'OWL' ? { ...SETTINGS.OWL, file: file.name } : SETTINGS[code],
      },
      mappings: STORMED.map((point) => ({
        ...{ device: 'HLM-F1', point: address(point) },
        target: { kind: point.kind, at: TARGETS[code](point) },
      })),
    }));
    const relay = base.devices.filter(({ code }) => code === 'HLM-F1');
    const own = new Set(relay.map(({ link }) => link));
    const configuration = {
      ...{ ...base, devices: relay, outbounds },
      links: [...base.links.filter(({ code }) => own.has(code)), ...links],
    };
    return new Owed(rig, configuration, ports, file, broker);
  }

  /** Applies the configuration after a change of it. */
  // eslint-disable-next-line @typescript-eslint/no-explicit-any
  async apply(change: (configuration: any) => void = () => {}): Promise<void> {
    const next = structuredClone(this.configuration);
    change(next);
    this.configuration = next;
    await this.rig.apply(next);
  }

  come(): void {
    for (const receiver of Object.values(this.receivers)) receiver.come();
  }
  go(): void {
    for (const receiver of Object.values(this.receivers)) receiver.go();
  }
  /** All of it ends. */
  stop(): void {
    this.go();
    this.broker.stop();
  }
  async answering(): Promise<void> {
    for (const [code, receiver] of Object.entries(this.receivers))
      await this.rig.until(`${code} is answered`, () => Promise.resolve(receiver.state === 'answering'), 30_000);
  }

  storm = (perSecond: number): Promise<unknown> => this.rig.bench('PUT', '/devices/HLM-F1/storm', { perSecond });

  /** What the relay made from then on, of what is mapped. */
  private async made(since: number): Promise<Logged[]> {
    const mapped = new Set(STORMED.map(label));
    const log = await this.rig.bench<Logged[]>('GET', '/devices/HLM-F1/log');
    return log.filter((one) => one.time >= since && mapped.has(label(one as never)) && one.state !== 'gone');
  }

  /** Waits until the relay and all centres have nothing to wait for any more, and counts. */
  async count(since: number): Promise<Record<Outbound, Counted>> {
    await this.rig.until(
      'the relay has handed everything over',
      async () => (await this.rig.bench<{ eventsWaiting: number }>('GET', '/devices/HLM-F1')).eventsWaiting === 0,
      60_000,
    );
    const made = await this.made(since);
    const has = (code: Outbound): boolean => {
      const keys = new Set(this.receivers[code].received.map(({ point, time }) => `${point} ${time}`));
      return made.every((one) => keys.has(`${label(one as never)} ${one.time}`));
    };
    for (const code of OUTBOUNDS)
      await this.rig.until(`${code} has everything`, () => Promise.resolve(has(code)), 120_000).catch(() => {});
    await new Promise((resolve) => setTimeout(resolve, 300));
    const looked = await this.lookedUp(since);
    return Object.fromEntries(
      OUTBOUNDS.map((code) => [code, compare(made, this.receivers[code].received, since, looked)]),
    ) as Record<Outbound, Counted>;
  }

  /**
   * Values that were found by a look at present ones, by point and time. Their time is that of the receipt, which may be
   * the very millisecond of an event of the same point: a centre has both then.
   */
  private async lookedUp(since: number): Promise<Set<string>> {
    const rows = await this.rig.sql<{ address: string; time: string }[]>`
      select i.address, round(extract(epoch from r.time) * 1000)::text as time
      from reading r join point_identity i on i.id = r.point_id
      where r.cause = ${CAUSES.indexOf('static')} and r.time >= ${new Date(since).toISOString()}::timestamptz`;
    const labels = new Map(STORMED.map((point) => [address(point), label(point)]));
    return new Set(rows.map((row) => `${labels.get(row.address)} ${row.time}`));
  }
}

function compare(
  made: readonly Logged[],
  all: readonly Received[],
  since: number,
  looked: ReadonlySet<string>,
): Counted {
  const own = new Set(made.map((one) => `${label(one as never)} ${one.time}`));
  // What the relay says of its present values besides is no event of its log.
  const received = all.filter(({ point, time }) => own.has(`${point} ${time}`));
  const others = all.filter(({ point, time, at }) => at >= since && !own.has(`${point} ${time}`)).length;
  const counts = new Map<string, number>();
  for (const { point, time } of received) counts.set(`${point} ${time}`, (counts.get(`${point} ${time}`) ?? 0) + 1);
  // A point may have changed twice within a millisecond.
  const due = new Map<string, number>();
  for (const one of made) {
    const key = `${label(one as never)} ${one.time}`;
    due.set(key, (due.get(key) ?? 0) + 1);
  }
  const lost = [...due].filter(([key, times]) => (counts.get(key) ?? 0) < times).map(([key]) => key);
  const doubled = [...counts]
    .filter(([key, times]) => times > (due.get(key) ?? 0) + (looked.has(key) ? 1 : 0))
    .map(([key, times]) => `${key} × ${times}`);
  const last = new Map<string, number>();
  const disordered: string[] = [];
  const seen = new Set<string>();
  for (const { point, time } of received) {
    const key = `${point} ${time}`;
    if (looked.has(key)) continue;
    if (!seen.has(key) && time < (last.get(point) ?? 0)) disordered.push(key);
    seen.add(key);
    last.set(point, Math.max(time, last.get(point) ?? 0));
  }
  return { made: made.length, lost, doubled, disordered, others };
}
