import { beforeEach, describe, expect, test } from 'vitest';
import { MmsClient, type Answer } from '../../mms/client.ts';
import { settings } from '../../mms/trials/pair.ts';
import { AccessError } from '../../mms/wire/data.ts';
import type { ObjectName } from '../../mms/wire/names.ts';
import type { ServiceName, Services } from '../../mms/wire/services.ts';
import type { ServerEffect } from '../../server.ts';
import { tagData } from '../tags.ts';
import { TaseServer } from '../server/server.ts';
import { serverSettings } from '../settings.ts';
import { nameData, wantedData, type TransferSetValues } from '../transfer.ts';
import { offered } from './both.ts';

/* A peer that asks for what its agreement does not name, by each service that there is (IEC 60870-6-503, clause 5: a bilateral table). */

const DOMAIN = 'HALVIX';
const inDomain = (item: string): ObjectName => ({ scope: 'domain', domain: DOMAIN, item });
const NOW = Date.UTC(2026, 10, 27, 6);
let server: TaseServer;
let effects: ServerEffect[];

/** One association of the peer, which asks whatever is wanted. */
class Asker {
  private readonly client: MmsClient;
  constructor(private readonly peer: number) {
    const { ours } = settings();
    this.client = new MmsClient({ ...settings({ ours, theirs: NONE }), responseTimeoutMs: 2000 }, () => {});
    server.command({ type: 'came', peer, from: 'there' }, NOW);
    this.client.start(NOW);
    this.pump();
  }
  ask<Name extends ServiceName>(service: Name, request: Services[Name]['request']): Answer<Name> {
    let answer: Answer<Name> | null = null;
    this.client.ask(service, request, (one) => (answer = one), NOW);
    this.pump();
    if (answer === null) throw new Error(`${service} was not answered`);
    return answer;
  }
  private pump(): void {
    for (let busy = true; busy;) {
      busy = false;
      for (const effect of this.client.take())
        if (effect.type === 'send') {
          busy = true;
          server.command({ type: 'octets', peer: this.peer, octets: effect.octets }, NOW);
        }
      for (const effect of server.take()) {
        effects.push(effect);
        if (effect.type !== 'send' || effect.peer !== this.peer) continue;
        busy = true;
        this.client.receive(effect.octets, NOW);
      }
    }
  }
}
const NONE = { transport: new Uint8Array(), session: new Uint8Array(), presentation: new Uint8Array() };

const OPEN = offered('analog', 'TIE_MW', 'RealQTimeTag');
const SECRET = [
  offered('analog', 'SECRET', 'RealQTimeTag'),
  offered('output', 'HIDDEN', 'Command', { select: true, tag: true }),
  offered('setpoint', 'COVERT', 'SetpointReal'),
  offered('analog', 'MASKED', 'RealQ', { scope: 'centre' }),
];
beforeEach(() => {
  effects = [];
  server = new TaseServer(serverSettings.parse({ bilateralTable: 'T' }), [OPEN, ...SECRET], NOW);
});

const TAGGED = { inhibits: 'close', reason: 'mine' } as const;
const value = { type: 'float' as const, value: 1, width: 32 as const };
const wanted = (dataSet: ObjectName): TransferSetValues => ({
  ...{ dataSet, start: 0, interval: 0, limit: 0, buffer: 0, integrity: 0, conditions: ['object change'] },
  ...{ blocked: false, critical: false, byException: true, all: true, enabled: true, eventCode: 0 },
});

/** All that may be asked about a name, with what is said to it. */
function everything(peer: Asker, item: string): Record<string, unknown> {
  const said: Record<string, unknown> = {};
  for (const [scope, name] of [
    ['domain', inDomain(item)],
    ['centre', { scope: 'vmd', item }],
    ['association', { scope: 'association', item }],
    ['another domain', { scope: 'domain', domain: 'OTHER', item }],
  ] as const) {
    const names = [{ name }];
    said[`attributes ${scope}`] = peer.ask('attributes', { name });
    said[`read ${scope}`] = peer.ask('read', { variables: { names } });
    said[`read by list ${scope}`] = peer.ask('read', { variables: { list: name } });
    said[`write ${scope}`] = peer.ask('write', { variables: { names }, values: [value] });
    said[`write by list ${scope}`] = peer.ask('write', { variables: { list: name }, values: [value] });
    said[`list attributes ${scope}`] = peer.ask('listAttributes', { name });
    said[`delete ${scope}`] = peer.ask('deleteList', { names: [name] });
    said[`data set of it ${scope}`] = peer.ask('defineList', { name: inDomain('Mine'), names: [{ name }] });
    said[`transfer set ${scope}`] = peer.ask('write', {
      variables: { names: [{ name: inDomain('DSTransferSet01') }] },
      values: [wantedData(wanted(name))],
    });
    said[`acknowledged ${scope}`] = peer.ask('write', {
      variables: { names: [{ name: inDomain('Transfer_Report_ACK') }] },
      values: [{ type: 'structure', items: [nameData(name), { type: 'integer', value: 1 }] }],
    });
    for (const beside of ['SBO', 'TAG']) {
      const own = { names: [{ name: { ...name, item: `${item}_${beside}` } }] };
      said[`${beside} ${scope}`] = peer.ask('read', { variables: own });
      said[`${beside} written ${scope}`] = peer.ask('write', { variables: own, values: [tagData(TAGGED)] });
    }
  }
  return said;
}
const namesOf = (peer: Asker): string[] =>
  [null, DOMAIN].flatMap((domain) =>
    (['variable', 'variableList'] as const).flatMap((of) => {
      const answer = peer.ask('nameList', { class: of, domain, after: null });
      return answer.ok ? answer.response.names : [];
    }),
  );

test('who may not operate does not select either, and keeps nobody from it', () => {
  server = new TaseServer(
    serverSettings.parse({}),
    [
      offered('output', 'TRIP', 'Command', { select: true }),
      { ...offered('output', 'SHUT', 'Command', { select: true }), mayOperate: false },
    ],
    NOW,
  );
  const [idle, busy] = [new Asker(1), new Asker(2)];
  server.command({ type: 'rights', peer: 1, operates: false }, NOW);
  const select = (peer: Asker, item = 'TRIP'): unknown => {
    const answer = peer.ask('read', { variables: { names: [{ name: inDomain(`${item}_SBO`) }] } });
    return answer.ok ? answer.response.results[0] : answer.words;
  };
  expect(select(idle)).toEqual({ type: 'failure', code: AccessError.denied });
  expect(select(busy)).toMatchObject({ type: 'integer' });
  expect(select(busy, 'SHUT')).toEqual({ type: 'failure', code: AccessError.denied });
  server.command({ type: 'rights', peer: 1, operates: true }, NOW);
  expect(select(idle)).toEqual({ type: 'failure', code: AccessError.temporarilyUnavailable });
});

describe('what an agreement does not name', () => {
  test('is told of while it is named', () => {
    expect(namesOf(new Asker(1))).toEqual(
      expect.arrayContaining(['SECRET', 'HIDDEN', 'HIDDEN_SBO', 'COVERT', 'MASKED', 'TIE_MW']),
    );
  });

  test.each(['SECRET', 'HIDDEN', 'COVERT', 'MASKED'])(
    '%s, taken out of it: each service says what it says of a name that never was',
    (item) => {
      const peer = new Asker(1);
      // The peer knew of it, and had data sets of its own.
      expect(peer.ask('defineList', { name: inDomain('Mine'), names: [{ name: inDomain('TIE_MW') }] }).ok).toBe(true);
      expect(peer.ask('deleteList', { names: [inDomain('Mine')] }).ok).toBe(true);
      server.command({ type: 'setPoints', points: [OPEN] }, NOW);
      expect(everything(peer, item)).toEqual(everything(peer, 'NEVER'));
      expect(namesOf(peer).filter((name) => /SECRET|HIDDEN|COVERT|MASKED/.test(name))).toEqual([]);
      expect(effects.filter(({ type }) => type === 'control' || type === 'read')).toEqual([]);
      // What it does name is as it was.
      expect(peer.ask('attributes', { name: inDomain('TIE_MW') }).ok).toBe(true);
    },
  );

  test('in another domain than ours nothing is, by any name', () => {
    const peer = new Asker(1);
    const other = { scope: 'domain' as const, domain: 'OTHER' };
    for (const item of ['TIE_MW', 'Bilateral_Table_ID', 'Next_DSTransfer_Set', 'DSTransferSet01'])
      expect(peer.ask('attributes', { name: { ...other, item } })).toEqual(
        peer.ask('attributes', { name: { ...other, item: 'NEVER' } }),
      );
  });
});

describe('two associations of a peer', () => {
  test('neither sees the data sets of the other’s association, nor changes its transfer set', () => {
    const [one, two] = [new Asker(1), new Asker(2)];
    const own: ObjectName = { scope: 'association', item: 'Own' };
    expect(one.ask('defineList', { name: own, names: [{ name: inDomain('TIE_MW') }] }).ok).toBe(true);
    expect(two.ask('listAttributes', { name: own })).toEqual(
      two.ask('listAttributes', { name: { ...own, item: 'NEVER' } }),
    );
    const set = { variables: { names: [{ name: inDomain('DSTransferSet01') }] } };
    expect(one.ask('read', { variables: { names: [{ name: inDomain('Next_DSTransfer_Set') }] } }).ok).toBe(true);
    expect(one.ask('write', { ...set, values: [wantedData(wanted(own))] })).toMatchObject({
      response: { results: [null] },
    });
    const off = { ...wanted(own), enabled: false };
    expect(two.ask('write', { ...set, values: [wantedData(off)] })).toMatchObject({ response: { results: [3] } });
  });

  test('neither operates what the other has selected, nor takes its selection from it', () => {
    const [one, two] = [new Asker(1), new Asker(2)];
    const operate = { variables: { names: [{ name: inDomain('HIDDEN') }] }, values: [{ type: 'integer', value: 1 }] };
    const operated = (): number => effects.filter(({ type }) => type === 'control').length;
    expect(one.ask('read', { variables: { names: [{ name: inDomain('HIDDEN_SBO') }] } }).ok).toBe(true);
    expect(two.ask('write', operate as never)).toMatchObject({ response: { results: [3] } });
    expect(operated()).toBe(0);
    // Its device has not answered yet.
    expect(() => one.ask('write', operate as never)).toThrow('not answered');
    expect(operated()).toBe(1);
  });
});
