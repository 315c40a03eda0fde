import { beforeAll, describe, expect, test } from 'vitest';
import type { MmsObjects } from '../../mms/server.ts';
import { Talk } from '../../mms/trials/talk.ts';
import type { TypeOf } from '../../mms/wire/data.ts';
import type { ObjectName } from '../../mms/wire/names.ts';
import { Discovery } from './discovery.ts';
import { leavesOf, pointsOf, typeAt, type Model } from './model.ts';
import { parse, print, printPath } from './reference.ts';

const structure = (parts: Record<string, TypeOf>): TypeOf => ({
  type: 'structure',
  components: Object.entries(parts).map(([name, of]) => ({ name, of })),
});
const FLOAT: TypeOf = { type: 'float', width: 32, exponent: 8 };
const BOOLEAN: TypeOf = { type: 'boolean' };
const INT32: TypeOf = { type: 'integer', bits: 32 };
const Q: TypeOf = { type: 'bits', size: -13 };
const T: TypeOf = { type: 'utcTime' };
const TEXT: TypeOf = { type: 'text', size: -255 };
const stamped = (parts: Record<string, TypeOf>): TypeOf => structure({ ...parts, q: Q, t: T });
const analog = structure({ f: FLOAT });
const CMV = stamped({
  instCVal: structure({ mag: analog, ang: analog }),
  cVal: structure({ mag: analog, ang: analog }),
  range: INT32,
});
const NODES: Record<string, TypeOf> = {
  LLN0: structure({
    ST: structure({ Mod: stamped({ stVal: INT32 }), Health: stamped({ stVal: INT32 }) }),
    DC: structure({ NamPlt: structure({ vendor: TEXT, swRev: TEXT, d: TEXT, configRev: TEXT }) }),
    RP: structure({ urcb01: structure({ RptID: TEXT, RptEna: BOOLEAN }) }),
  }),
  XCBR1: structure({
    ST: structure({
      Pos: stamped({ origin: structure({ orCat: INT32 }), ctlNum: INT32, stVal: { type: 'bits', size: 2 } }),
      Loc: stamped({ stVal: BOOLEAN }),
    }),
    CO: structure({ Pos: structure({ Oper: structure({ ctlVal: BOOLEAN }) }) }),
  }),
  PTOC1: structure({ ST: structure({ Op: stamped({ general: BOOLEAN, phsA: BOOLEAN, phsB: BOOLEAN }) }) }),
  MMXU1: structure({
    MX: structure({
      Hz: stamped({ instMag: structure({ i: INT32, f: FLOAT }), mag: structure({ i: INT32, f: FLOAT }) }),
      A: structure({ phsA: CMV, phsB: CMV }),
    }),
  }),
  MMTR1: structure({
    ST: structure({ TotWh: stamped({ actVal: { type: 'integer', bits: 64 }, frVal: { type: 'integer', bits: 64 } }) }),
  }),
  MHAI1: structure({ MX: structure({ HA: structure({ phsAHar: { type: 'array', count: 2, element: CMV } }) }) }),
};
const LIST = ['XCBR1$ST$Pos', 'MMXU1$MX$A$phsA', 'MMXU1$MX$A$phsA$q'];

function objectsOf(
  nodes: Record<string, TypeOf>,
  devices: readonly string[],
  lists: readonly string[] = LIST,
): MmsObjects {
  const names: string[] = [];
  const walk = (at: string, of: TypeOf): void => {
    names.push(at);
    if (of.type === 'structure') for (const part of of.components) walk(`${at}$${part.name}`, part.of);
  };
  for (const [name, of] of Object.entries(nodes)) walk(name, of);
  names.sort();
  return {
    identity: { vendor: '', model: '', revision: '' },
    names: (of, domain) => {
      if (of === 'domain') return devices;
      if (domain === null || !devices.includes(domain)) return domain === null ? [] : null;
      return of === 'variable' ? names : lists.length > 0 ? ['LLN0$measurements'] : [];
    },
    typeOf: (name) => nodes[name.item] ?? null,
    read: () => ({ type: 'failure', code: 10 }),
    write: (_variable, _value, done) => done(3),
    list: ({ item, ...name }: ObjectName) =>
      item === 'LLN0$measurements' && name.scope === 'domain'
        ? { deletable: false, variables: lists.map((one) => ({ name: { ...name, item: one } as ObjectName })) }
        : null,
    defineList: () => ({ class: 7, code: 3, words: '' }),
    deleteList: () => false,
  };
}

function discovered(
  objects: MmsObjects,
  size = 65_000,
): { model: Model | null; problems: readonly string[]; talk: Talk } {
  const talk = new Talk(objects, {}, (agreement) => ({ ...agreement, size })).start();
  let found: { model: Model | null; problems: readonly string[] } | null = null;
  new Discovery(talk.client, (model, problems) => (found = { model, problems })).start(talk.now);
  talk.pump();
  if (found === null) throw new Error('the discovery did not end');
  return { ...(found as { model: Model | null; problems: readonly string[] }), talk };
}

let model: Model;
beforeAll(() => {
  const { model: found } = discovered(objectsOf(NODES, ['HLMF1', 'HLMF2']), 1500);
  if (found === null) throw new Error('nothing found');
  model = found;
});

describe('a model that was found out', () => {
  test('has all devices and nodes, in the order in which the server names them', () => {
    expect(model.devices.map(({ name, nodes }) => [name, nodes.map((node) => node.name)])).toEqual([
      ['HLMF1', Object.keys(NODES).sort()],
      ['HLMF2', Object.keys(NODES).sort()],
    ]);
    const lln0 = model.devices[0].nodes.find(({ name }) => name === 'LLN0');
    expect(lln0?.dataSets.map(({ name, members }) => [name, members.map(print)])).toEqual([
      ['measurements', ['HLMF1/XCBR1.Pos[ST]', 'HLMF1/MMXU1.A.phsA[MX]', 'HLMF1/MMXU1.A.phsA.q[MX]']],
    ]);
  });

  test('has every attribute at its reference', () => {
    const leaves = [...leavesOf(model)]
      .filter(({ reference }) => reference.device === 'HLMF1')
      .map(({ reference }) => print(reference));
    expect(leaves).toContain('HLMF1/XCBR1.Pos.Oper.ctlVal[CO]');
    expect(leaves).toContain('HLMF1/MHAI1.HA.phsAHar(1).cVal.mag.f[MX]');
    for (const { reference, of } of leavesOf(model)) expect(typeAt(model, reference)).toEqual(of);
    for (const text of [
      'HLMF1/XCBR1.None[ST]',
      'HLMF9/XCBR1.Pos[ST]',
      'HLMF1/MHAI1.HA.phsAHar(2)[MX]',
      'HLMF1/XCBR1.Pos[BR]',
    ]) {
      const reference = parse(text);
      expect(reference.ok && typeAt(model, reference.value)).toBeNull();
    }
  });

  test('offers its values as points, with the quality and the time that go with them', () => {
    const points = pointsOf(model).filter(({ value }) => value.device === 'HLMF1');
    const rows = points.map(({ kind, value, quality }) => [
      kind,
      printPath(value).slice(6),
      quality && printPath(quality).slice(6),
    ]);
    expect(rows).toEqual([
      ['analog', 'LLN0.Mod.stVal', 'LLN0.Mod.q'],
      ['analog', 'LLN0.Health.stVal', 'LLN0.Health.q'],
      ['text', 'LLN0.NamPlt.vendor', null],
      ['text', 'LLN0.NamPlt.swRev', null],
      ['counter', 'MMTR1.TotWh.actVal', 'MMTR1.TotWh.q'],
      ['analog', 'MMXU1.Hz.mag.f', 'MMXU1.Hz.q'],
      ['analog', 'MMXU1.A.phsA.cVal.mag.f', 'MMXU1.A.phsA.q'],
      ['analog', 'MMXU1.A.phsB.cVal.mag.f', 'MMXU1.A.phsB.q'],
      ['binary', 'PTOC1.Op.general', 'PTOC1.Op.q'],
      ['binary', 'PTOC1.Op.phsA', 'PTOC1.Op.q'],
      ['binary', 'PTOC1.Op.phsB', 'PTOC1.Op.q'],
      ['doubleBit', 'XCBR1.Pos.stVal', 'XCBR1.Pos.q'],
      ['binary', 'XCBR1.Loc.stVal', 'XCBR1.Loc.q'],
    ]);
    expect(points.every(({ quality, time }) => (quality === null) === (time === null))).toBe(true);
    const second = pointsOf(model, true).map(({ value }) => printPath(value));
    expect(second).toContain('HLMF1/MMXU1.A.phsA.cVal.ang.f');
    expect(second).toContain('HLMF1/MMXU1.Hz.instMag.i');
  });

  test('a server that tells of some nodes only, or of nothing', () => {
    const objects = objectsOf(NODES, ['HLMF1']);
    const partly = discovered({ ...objects, typeOf: (name) => (name.item === 'PTOC1' ? null : objects.typeOf(name)) });
    expect(partly.problems).toEqual(['HLMF1/PTOC1: no such object']);
    expect(partly.model?.devices[0].nodes).toHaveLength(5);
    expect(discovered(objectsOf({}, []))).toMatchObject({ model: null, problems: ['it has no logical device'] });
    expect(discovered({ ...objects, names: () => null })).toMatchObject({
      model: null,
      problems: ['the server: no such object'],
    });
  });

  test('twenty thousand attributes', () => {
    const many: Record<string, TypeOf> = {};
    for (let at = 1; at <= 100; at++)
      many[`GGIO${at}`] = structure({
        MX: structure(Object.fromEntries(Array.from({ length: 67 }, (_, n) => [`AnIn${n}`, stamped({ mag: analog })]))),
      });
    const { model: found, talk } = discovered(objectsOf(many, ['LD0'], []));
    expect(found && [...leavesOf(found)]).toHaveLength(20_100);
    expect(found && pointsOf(found)).toHaveLength(6700);
    expect(talk.client.counts.requests).toBeLessThan(200);
  });
});
