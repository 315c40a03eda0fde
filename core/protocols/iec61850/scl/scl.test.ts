import { describe, expect, test } from 'vitest';
import type { Described } from '../../definition.ts';
import { devicesOf, reportsOf, type WantedObject } from '../server/made.ts';
import type { Reference } from '../model/reference.ts';
import { serverSettings } from '../settings.ts';
import { Both, listed, offered } from '../trials/both.ts';
import { SclDescriptions } from './describe.ts';
import { offerFile } from './offer.ts';
import { placeProblem, servedModel } from './served.ts';
import { sclOf } from './write.ts';

const object = (node: string, name: string, cdc: string, model: WantedObject['model'] = 'statusOnly') => ({
  ...{ device: 'HLMB1', node, object: name, cdc, model, description: `${node} ${name} & more`, unit: '' },
});
const objects = [
  object('XCBR1', 'Pos', 'DPC'),
  object('XCBR1', 'Loc', 'SPS'),
  object('XCBR1', 'OpCnt', 'INS'),
  object('CSWI1', 'Pos', 'DPC', 'selectBeforeOperateEnhanced'),
  object('PTOC1', 'Str', 'ACD'),
  object('PTOC1', 'Op', 'ACT'),
  object('MMXU1', 'A', 'WYE'),
  object('MMXU1', 'TotW', 'MV'),
  object('MMTR1', 'TotWh', 'BCR'),
  object('GGIO1', 'AnOut1', 'APC', 'directEnhanced'),
];
const members = objects.map(({ device, node, object: name, cdc }): Reference => ({
  ...{ device, node, path: [name] },
  fc: ['MV', 'WYE', 'APC'].includes(cdc) ? 'MX' : 'ST',
}));
const POINTS = [
  ['doubleBit', 'HLMB1/XCBR1.Pos.stVal[ST]'],
  ['binary', 'HLMB1/XCBR1.Loc.stVal[ST]'],
  ['analog', 'HLMB1/XCBR1.OpCnt.stVal[ST]'],
  ['output', 'HLMB1/CSWI1.Pos[CO]'],
  ['binary', 'HLMB1/PTOC1.Op.general[ST]'],
  ['analog', 'HLMB1/MMXU1.A.phsB.cVal.mag.f[MX]'],
  ['analog', 'HLMB1/MMXU1.TotW.mag.f[MX]'],
  ['counter', 'HLMB1/MMTR1.TotWh.actVal[ST]'],
  ['setpoint', 'HLMB1/GGIO1.AnOut1[CO]'],
] as const;
const BAY = sclOf({
  ...{ ied: 'HLMB1', description: 'Bay controller', objects },
  ...reportsOf(members, { maxClients: 2, bufferValues: 100 }),
  address: { ip: '10.1.2.3', port: 102, selectors: { transport: '0001', session: '0001', presentation: '00000001' } },
});

function described(text: string, piece = text.length): Described {
  const reader = new SclDescriptions();
  for (let at = 0; at < text.length; at += piece) reader.push(text.slice(at, at + piece));
  return reader.end();
}

describe('a file of our own', () => {
  test('is read as it was written, whole or in pieces', () => {
    const read = described(BAY);
    expect(read.problems).toEqual([]);
    expect(read.about).toBe('HLMB1, edition 2.1, version 1, by Halvix, 1 IED');
    const [device] = read.devices;
    expect(device).toMatchObject({
      ...{ name: 'HLMB1', description: 'Bay controller', about: 'Halvix gateway', host: '10.1.2.3' },
      settings: { transportSelector: '0001', sessionSelector: '0001', presentationSelector: '00000001' },
      notes: ['1 logical device', '2 data sets', '4 reports'],
    });
    expect(described(BAY, 7)).toEqual(read);
  });

  test('has every point that its device has on line, at the same reference', () => {
    const [device] = described(BAY).devices;
    const found = new Map(device.points.map((point) => [point.address, point]));
    for (const [kind, address] of POINTS) expect(found.get(address), address).toMatchObject({ kind, isReported: true });
    // All types of the model are those that the server makes of the same objects.
    const names = devicesOf(objects, [], { vendor: '', isProxy: false })[0].nodes.map(({ name }) => name);
    expect(new Set(device.points.map(({ address }) => address.split(/[/.]/)[1])).size).toBe(names.length);
    expect(found.get('HLMB1/CSWI1.Pos[CO]')?.name).toBe('CSWI1 Pos & more, control');
  });
});

describe('a file of what we offer', () => {
  test('has what our server has, under the same references', () => {
    const points = [
      offered('binary', 'HLM/GGIO1.Ind1[ST]', 'SPS', { name: 'Door <east> & "west"', unit: '' }),
      offered('analog', 'HLM/GGIO1.AnIn1[MX]', 'MV', { name: 'Current', unit: 'A' }),
      offered('doubleBit', 'HLM/XCBR1.Pos[ST]', 'DPC', { name: 'Breaker' }),
      offered('output', 'HLM/XCBR1.Pos[CO]', 'DPC', { name: 'Breaker' }),
      offered('counter', 'FNK/GGIO1.CntRs1[ST]', 'BCR', { name: 'Volume', unit: 'm³' }),
      offered('text', 'FNK/GGIO1.TxtIn1[ST]', 'VSS', { name: 'Serial' }),
    ];
    const offer = {
      ...{ code: 'QSM-1', centre: 'Quillstone', host: '10.9.8.7', port: 10_102, settings: serverSettings.parse({}) },
      points: points.map(({ kind, at, name = '', unit = '' }) => ({ kind, at, name, unit })),
    };
    const text = offerFile(offer, true);
    const { problems, devices } = described(text);
    expect(problems).toEqual([]);
    const capability = described(offerFile(offer, false));
    expect(capability).toMatchObject({ problems: [], devices: [{ name: 'TEMPLATE', host: '', port: null }] });
    expect(capability.devices[0].points).toEqual(devices[0].points);
    expect(devices[0]).toMatchObject({ name: 'HALVIX_QSM_1', host: '10.9.8.7', port: 10_102 });
    // What a client finds out on line is what the file says, point for point.
    const pair = new Both([listed(1, 'binary', 'HLM/GGIO1.Ind1.stVal[ST]')], points).start();
    pair.command({ type: 'survey', id: 's' });
    pair.run(1000);
    const found = pair.news.find((one) => one.type === 'surveyed')?.found ?? [];
    expect(found.length).toBeGreaterThan(10);
    expect(devices[0].points.map(({ kind, address }) => `${kind} ${address}`).sort()).toEqual(
      found.map(({ kind, address }) => `${kind} ${address}`).sort(),
    );
  });
});

describe('a file of somebody else', () => {
  const OTHERS = BAY.replace(
    '<IED ',
    '<!-- made by hand -->\r\n  <Private type="acme:x"><acme:P xmlns:acme="urn:a" type="IP">9.9.9.9</acme:P>&#65;</Private>\r\n  <IED ',
  ).replace('desc="Bay controller"', "desc='Bay  controller'   acme='&#x41;'");
  const settings = (text: string) =>
    serverSettings.parse({ modelFile: { name: 'theirs.cid', text }, transportSelector: '0009' });
  const written = (text: string, host = '10.1.2.3', port = 102): string =>
    offerFile({ ...{ code: 'Q', centre: 'Q', host, port, points: [] }, settings: settings(text) }, true);

  test('is written back as it was, but for what was changed', () => {
    // The selector alone.
    expect(written(OTHERS)).toBe(OTHERS.replace('<P type="OSI-TSEL">0001', '<P type="OSI-TSEL">0009'));
    const moved = written(OTHERS, '10.9.9.9', 10_102);
    const lines = moved.split('\n').filter((line) => !OTHERS.includes(line));
    expect(lines.map((line) => line.trim())).toEqual([
      '<P type="IP">10.9.9.9</P>',
      '<P type="OSI-TSEL">0009</P>',
      '<P type="MMS-Port">10102</P>',
    ]);
    expect(moved.length - OTHERS.length).toBe('          <P type="MMS-Port">10102</P>\n'.length);
    expect(described(moved)).toMatchObject({ problems: [], devices: [{ host: '10.9.9.9', port: 10_102 }] });
    // Once more with the same changes nothing.
    expect(written(moved, '10.9.9.9', 10_102)).toBe(moved);
    expect(
      offerFile({ ...{ code: 'Q', centre: 'Q', host: 'x', port: 1, points: [] }, settings: settings(OTHERS) }, false),
    ).toBe(OTHERS);
  });

  test('without an address it gets one, and is whole again without it', () => {
    const [from, to] = [
      OTHERS.indexOf('<Communication>'),
      OTHERS.indexOf('</Communication>') + '</Communication>'.length,
    ];
    const bare = OTHERS.slice(0, from) + OTHERS.slice(to);
    const read = described(written(bare, '10.9.9.9'));
    expect(read).toMatchObject({
      problems: [],
      devices: [{ host: '10.9.9.9', settings: { transportSelector: '0009' } }],
    });
    const added = written(bare, '10.9.9.9');
    const [start, end] = [added.indexOf('<Communication>'), added.indexOf('</Communication>')];
    expect(added.slice(0, start) + added.slice(added.indexOf('<IED', end))).toBe(
      bare.slice(0, bare.indexOf('<IED')) + bare.slice(bare.indexOf('<IED')),
    );
  });

  test('what is offered of it is what it has: points that do not fit are named', () => {
    const of = (at: Parameters<typeof offered>[1], cdc: Parameters<typeof offered>[2]): string | null =>
      placeProblem(settings(OTHERS), offered('binary', at, cdc).at);
    expect(of('HLMB1/XCBR1.Loc[ST]', 'SPS')).toBeNull();
    expect(of('HLMB1/MMXU1.A.phsC[MX]', 'MV')).toBeNull();
    expect(of('HLMB1/XCBR1.Loc[ST]', 'INS')).toBe(
      'HLMB1/XCBR1.Loc[ST] of theirs.cid goes with SPS or SPC, not with INS',
    );
    expect(of('HLMB1/GGIO1.Ind7[ST]', 'SPS')).toBe('HLMB1/GGIO1.Ind7[ST] is not in theirs.cid');
    expect(of('HLMB1/XCBR1.Pos[CO]', 'DPC')).toBe('nothing is operated at HLMB1/XCBR1.Pos[CO] of theirs.cid');
    const broken = settings('<SCL/>');
    expect(servedModel(broken)).toEqual({ ok: false, problem: 'theirs.cid: line 1: there is no IED in it' });
  });
});

describe('what is wrong with a file is said, with its line', () => {
  const change = (from: string | RegExp, to: string): Described => {
    const changed = BAY.replace(from, to);
    expect(changed).not.toBe(BAY);
    return described(changed);
  };
  test.each<[string, string | RegExp, string, string]>([
    ['no XML', '</SCL>', '</SC', 'it is no well-formed XML'],
    ['another root', /SCL/g, 'Plan', 'it begins with Plan, not SCL'],
    ['a document type', '<SCL', '<!DOCTYPE SCL [<!ENTITY a "b">]>\n<SCL', 'it has a document type'],
    ['an entity of its own', 'desc="Bay controller"', 'desc="&lots;"', 'it is no well-formed XML'],
    ['a device without a name', '<IED name="HLMB1"', '<IED name=""', 'an IED has no name'],
    ['a name that is none', '<IED name="HLMB1"', '<IED name="7 bays"', 'has a name that is none'],
    ['a logical device without an instance', 'LDevice inst="HLMB1"', 'LDevice inst=""', 'has no instance'],
    ['a class that is none', 'lnClass="XCBR" inst', 'lnClass="xcbr" inst', '"xcbr" is no class of a logical node'],
    ['a node without a type', /(<LN lnClass="XCBR" inst="1") lnType="\w+"/, '$1', 'has no type (lnType)'],
    [
      'a type that is not there',
      /(<LN lnClass="XCBR" inst="1" lnType=")\w+/,
      '$1NONE',
      'there is no type NONE (LNodeType)',
    ],
    ['a type of another class', /(<LNodeType id="\w+" lnClass=")XCBR/, '$1XSWI', 'is of class XSWI'],
    [
      'a data object of an unknown type',
      '<DO name="Loc" type="SPS_0"',
      '<DO name="Loc" type="NONE"',
      'there is no type NONE (DOType)',
    ],
    ['a structure of an unknown type', /(bType="Struct" type=")cVal_\d+/, '$1NONE', 'there is no type NONE (DAType)'],
    [
      'an enumeration that is not there',
      'EnumType id="CtlModelKind"',
      'EnumType id="Other"',
      'there is no enumeration CtlModelKind',
    ],
    ['a basic type that is none', 'bType="BOOLEAN"', 'bType="BIT"', '"BIT" is no basic type'],
    [
      'an attribute without a constraint',
      /(<DA name="general" bType="BOOLEAN") fc="ST"/,
      '$1',
      'has no functional constraint',
    ],
    ['a member that is not there', 'doName="OpCnt"', 'doName="Count"', 'which is not there'],
    ['a member with no such constraint', /(doName="OpCnt") fc="ST"/, '$1 fc="ZZ"', 'functional constraint "ZZ"'],
    [
      'a member in a logical device that is not there',
      'FCDA ldInst="HLMB1"',
      'FCDA ldInst="OTHER"',
      'which HLMB1 does not have',
    ],
    ['a report of no data set', 'datSet="status"', 'datSet="state"', 'has the data set state, which is not there'],
    ['an address that is none', '10.1.2.3', '10.1.2.300', 'the address of HLMB1 is "10.1.2.300"'],
    [
      'an address of somebody who is not there',
      'ConnectedAP iedName="HLMB1"',
      'ConnectedAP iedName="OTHER"',
      'which is not in the file',
    ],
    [
      'two types of one name',
      '<DOType id="SPS_0"',
      '<DOType id="DPC_0" cdc="SPS"/>\n<DOType id="DPC_0" cdc="SPS"/>\n<DOType id="SPS_0"',
      'there are two DOType DPC_0',
    ],
    ['a value of no object', '<DOI name="OpCnt"', '<DOI name="Count"', 'has no data object Count'],
    ['a number that is none', '<RptEnabled max="2"', '<RptEnabled max="two"', 'which is no whole number'],
    ['a control model that is none', /sbo-with-enhanced-security<\/Val>/, 'sometimes</Val>', 'is no control model'],
  ])('%s', (_what, from, to, words) => {
    const { problems } = change(from, to);
    const found = problems.find((one) => one.words.includes(words));
    expect(found, JSON.stringify(problems.slice(0, 3))).toBeDefined();
    expect(found?.line).toBeGreaterThan(0);
    expect(found?.line).toBeLessThanOrEqual(BAY.split('\n').length + 2);
  });

  test('there is no IED, or two of one name', () => {
    expect(described('<SCL><Header id="x"/></SCL>').problems.map(({ words }) => words)).toEqual([
      'there is no IED in it',
    ]);
    const ied = /<IED[\s\S]*<\/IED>/.exec(BAY)?.[0] ?? '';
    expect(change(ied, `${ied}${ied}`).problems.map(({ words }) => words)).toContain('there are two IEDs HLMB1');
  });

  test('the line is the one where it stands', () => {
    const { problems } = change('doName="OpCnt"', 'doName="Count"');
    expect(BAY.split('\n')[problems[0].line - 1]).toContain('doName="OpCnt"');
  });
});

describe('a file that means harm', () => {
  test('elements in elements without end', () => {
    const read = described(`<SCL>${'<Private>'.repeat(100_000)}`);
    expect(read.problems.map(({ words }) => words)).toEqual(['elements in elements, deeper than 60']);
  });
  // Were they carried out, neither would end.
  test('types in types: of themselves, or so many that they multiply', { timeout: 5000 }, () => {
    const types = (parts: string): string =>
      BAY.replace(
        /(<DOType id="SPS_0"[^>]*>\s*)<DA [^>]*>/,
        '$1<DA name="stVal" fc="ST" bType="Struct" type="T0"/>',
      ).replace('</DataTypeTemplates>', `${parts}</DataTypeTemplates>`);
    expect(
      described(types('<DAType id="T0"><BDA name="a" bType="Struct" type="T0"/></DAType>'))
        .problems.map(({ words }) => words)
        .join(),
    ).toContain('the type T0 is in itself');
    const wide = Array.from({ length: 30 }, (_, n) => {
      const parts = Array.from({ length: 10 }, (_one, m) => `<BDA name="a${m}" bType="Struct" type="T${n + 1}"/>`).join(
        '',
      );
      return `<DAType id="T${n}">${parts}</DAType>`;
    }).join('');
    const read = described(types(`${wide}<DAType id="T30"><BDA name="v" bType="BOOLEAN"/></DAType>`));
    expect(read.problems.map(({ words }) => words).join()).toContain('attributes');
  });
  test('what is private may say anything', () => {
    const read = described(
      BAY.replace('<Header', '<Private type="X"><IED name="Ghost"/><Val>1</Val></Private><Header'),
    );
    expect(read.problems).toEqual([]);
    expect(read.devices).toHaveLength(1);
  });
  test('any octets', () => {
    for (let n = 0; n < 200; n++) {
      const at = (n * 7919) % BAY.length;
      const broken = `${BAY.slice(0, at)}${String.fromCharCode(33 + (n % 90))}${BAY.slice(at + (n % 5))}`;
      expect(() => described(broken)).not.toThrow();
    }
  });
});
