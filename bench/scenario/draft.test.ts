import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { demoConfiguration } from './configuration.ts';
import { addressPlan, planTable, readPlan } from '@halvix/core/plan';
import { deviceFrom, GENERIC_PROFILES, profileOf, profileSchema } from '@halvix/core/profile';
import { compareSurvey, pointsFromSurvey } from '@halvix/core/survey';
import {
  checkConfiguration,
  compacted,
  compose,
  decompose,
  diffConfigurations,
  expanded,
  readConfiguration,
  sameDocument,
  sessionEffects,
  valueAt,
  withValueAt,
  type Configuration,
  type PointConfig,
} from '@halvix/core/config';

import { addressOf, numberOf, type DeviceSettings } from '@halvix/core/protocols';
import { dnp3At } from '@halvix/core/protocols/dnp3';

const demo = demoConfiguration();
const changedBy = (change: (configuration: Configuration) => void): Configuration => {
  const copy = structuredClone(demo);
  change(copy);
  return copy;
};

describe('the draft in pieces', () => {
  test('taken apart and put together it is the same, whatever the order of the pieces', () => {
    fc.assert(
      fc.property(fc.shuffledSubarray(decompose(demo), { minLength: decompose(demo).length }), (pieces) => {
        const [lan, quillstone, ambry] = demo.links;
        const outbounds = [demo.outbounds[1], demo.outbounds[0]];
        expect(sameDocument(compose(pieces), { ...demo, links: [ambry, lan, quillstone], outbounds })).toBe(true);
      }),
      { numRuns: 10 },
    );
  });

  test('without its defaults and whole again it is the same', () => {
    for (const { kind, document } of decompose(demo)) {
      const small = compacted(kind, document);
      expect(sameDocument(expanded(kind, small), document)).toBe(true);
      if (kind === 'point') expect(JSON.stringify(small).length).toBeLessThan(JSON.stringify(document).length * 0.6);
    }
  });

  test('an order of keys is no difference, a value is', () => {
    expect(sameDocument({ a: 1, b: [{ c: 2, d: null }] }, { b: [{ d: null, c: 2 }], a: 1 })).toBe(true);
    expect(sameDocument({ a: 1 }, { a: 1, b: undefined })).toBe(false);
    expect(sameDocument([1, 2], [2, 1])).toBe(false);
    expect(sameDocument(null, {})).toBe(false);
  });

  test('paths', () => {
    const device = demo.devices[0];
    expect(valueAt(device, 'settings.retries')).toBe(2);
    expect(valueAt(withValueAt(device, 'settings.retries', 5), 'settings.retries')).toBe(5);
    expect((device.settings as { retries: number }).retries).toBe(2);
  });
});

describe('comparison', () => {
  const words = (after: Configuration): string[] =>
    diffConfigurations(demo, after).map(({ what, title, words: w }) => `${what} ${title}: ${w.join('; ')}`);

  test('says in words what differs, object by object', () => {
    expect(words(demo)).toEqual([]);
    expect(
      words(
        changedBy((c) => {
          c.devices[0].settings = { ...c.devices[0].settings, class1PeriodMs: 2000 } as DeviceSettings;
          c.devices[0].points[0].name = 'Breaker';
          c.devices[0].points[0].states = ['off', 'on'];
          c.stations.push({ code: 'SKA', name: 'Skarn Weir', description: '' });
          c.outbounds[0].mappings.pop();
        }),
      ),
    ).toEqual([
      'added station SKA Skarn Weir: ',
      'changed device HLM-F1 F1 feeder relay: Class 1 events, period: 1000 ms → 2000 ms',
      'changed point HLM-F1, BI 0 Breaker: name: Breaker 52A → Breaker; states: open / closed → off / on',
      'removed mapping HLM-F1 CT 3 → QST CT 3: ',
    ]);
  });

  test('says what applying does to each session', () => {
    const effects = (change: (configuration: Configuration) => void): string[] =>
      sessionEffects(demo, changedBy(change)).map(({ code, effect }) => `${code} ${effect}`);
    expect(effects(() => {})).toEqual(['HLM-F1 goesOn', 'QST goesOn', 'AMB goesOn']);
    expect(effects((c) => (c.devices[0].points[3].unit = 'x'))[0]).toBe('HLM-F1 listChanges');
    expect(effects((c) => ((c.devices[0].settings as { retries: number }).retries = 9))[0]).toBe('HLM-F1 adopts');
    expect(effects((c) => (c.links[0].port = 9))[0]).toBe('HLM-F1 restarts');
    expect(effects((c) => (c.devices[0].life = 'outOfService'))[0]).toBe('HLM-F1 stops');
    expect(effects((c) => c.outbounds[1].mappings.pop())[2]).toBe('AMB listChanges');
    expect(effects((c) => (c.links[2].port = 9))[2]).toBe('AMB restarts');
    expect(effects((c) => c.outbounds.pop())).toContain('AMB stops');
  });
});

describe('checks', () => {
  const found = (change: (configuration: Configuration) => void): string[] =>
    checkConfiguration(changedBy(change)).map(({ severity, where, words }) => `${severity} ${where}: ${words}`);

  test.each<[string, (c: Configuration) => void, string]>([
    [
      'an unused link',
      (c) => c.links.push({ ...c.links[0], code: 'X', port: 9 }),
      'warning link X: no device and no outbound uses it',
    ],
    [
      'a link to a port of our own',
      (c) => (c.links[0].port = 20100),
      'problem link HLM-LAN-F1: it goes to 127.0.0.1:20100, where our own link QST listens',
    ],
    [
      'a drafted device',
      (c) => (c.devices[0].life = 'drafted'),
      'warning device HLM-F1: it is drafted: not collected yet',
    ],
    [
      'a class that nothing polls',
      (c) => {
        c.devices[0].settings = { ...c.devices[0].settings, class2PeriodMs: 0 } as DeviceSettings;
        c.devices[0].points[40].at = { ...dnp3At(numberOf(c.devices[0].points[40]) ?? 0), eventClass: 2 };
      },
      'class 2 is not polled and unsolicited reporting is off',
    ],
    [
      'a mapping into another kind',
      (c) => (c.outbounds[0].mappings[40].target.kind = 'binary'),
      'cannot become a binary input',
    ],
  ])('%s', (_what, change, expected) => expect(found(change).join('\n')).toContain(expected));

  test('radios: radio sides differ within one subnet; wired sides may repeat, and are another network', () => {
    const radio = (code: string, radioSide: string, wired = '192.168.1.1') => ({
      code,
      name: code,
      station: 'HLM',
      radioSide: { address: radioSide, prefix: 24 },
      wiredSide: { address: wired, prefix: 24 },
    });
    const words = (...radios: ReturnType<typeof radio>[]): string[] => found((c) => (c.radios = radios));
    expect(words(radio('A', '10.7.0.1'), radio('B', '10.7.0.2'))).toEqual([]);
    expect(words(radio('A', '10.7.0.1'), radio('B', '10.7.0.1')).join()).toContain('another radio has 10.7.0.1');
    expect(words(radio('A', '10.7.0.1'), radio('B', '10.7.1.2')).join()).toContain("not in the subnet of A's");
    expect(words(radio('A', '10.7.0.1', '10.7.0.9')).join()).toContain('two networks, not bridged');
  });

  test('a shape that is wrong is located', () => {
    const read = readConfiguration(changedBy((c) => (c.devices[0].points[0].gain = 0)));
    expect(!read.ok && read.problem[0].at).toEqual({ kind: 'point', parent: 'HLM-F1', key: 'BI 0' });
  });
});

describe('address plan', () => {
  test('goes out and comes back without a change', () => {
    expect(readPlan(planTable(addressPlan(demo)), demo)).toEqual({ changes: [], problems: [] });
  });

  test('changes addresses, adds radios, and tells what is wrong', () => {
    const rows = planTable(addressPlan(demo));
    rows[1][5] = '20009';
    rows.push(['radio', 'R1', 'HLM', 'Hill', '', '', '', '', '10.7.0.1/24', '192.168.1.1']);
    const { changes, problems } = readPlan(rows, demo);
    expect(problems).toEqual([]);
    expect(changes.map(({ words }) => words[0])).toEqual([
      'link HLM-LAN-F1 Station LAN: TCP port of the device: 20001 → 20009',
      'radio R1 Hill: new',
    ]);
    const bad = readPlan(
      [
        rows[0],
        ['device', 'NONE', '', '', '', '', '', '', '', ''],
        ['device', 'HLM-F1', '', '', '', '99999', 'x', '', '', ''],
        ['lamp', 'L', '', '', '', '', '', '', '', ''],
        ['radio', 'R', 'HLM', 'N', '', '', '', '', '10.7.0.300', '192.168.1.1'],
      ],
      demo,
    );
    expect(bad.changes).toEqual([]);
    expect(bad.problems.map(({ row, column, words }) => `${row} ${column}: ${words}`)).toEqual([
      '2 Code: there is no such device; add it under its station',
      '3 Our address: is not a whole number',
      '3 Port: A port is at most 65535',
      '4 What: is not device, outbound or radio',
      '5 Radio side: An IPv4 address has four numbers to 255',
    ]);
    expect(readPlan([['x']], demo).problems).toHaveLength(2);
  });
});

describe('profiles and surveys', () => {
  test('the generic profiles have lists without a problem', () => {
    expect(GENERIC_PROFILES).toHaveLength(4);
    for (const profile of GENERIC_PROFILES) {
      const place = {
        code: 'D',
        name: 'D',
        station: 'HLM',
        host: '127.0.0.1',
        port: 1,
        settings: { ourAddress: 1, theirAddress: 2 },
      };
      const { link, device, points } = deviceFrom(profile, place);
      const configuration = changedBy((c) => {
        c.links.push(link);
        c.devices.push({ ...device, points: points as PointConfig[] });
      });
      expect(checkConfiguration(configuration), profile.code).toEqual([]);
    }
  });

  test('a device saved as a profile and used again has its settings and list, and its own addresses', () => {
    const { points, ...device } = demo.devices[0];
    const profile = profileSchema.parse(JSON.parse(JSON.stringify(profileOf(device, points, 'FEEDER', 'Feeder'))));
    const made = deviceFrom(profile, {
      code: 'HLM-F9',
      name: 'F9',
      station: 'HLM',
      host: 'h',
      port: 9,
      settings: { ourAddress: 1, theirAddress: 19 },
    });
    expect(made.points).toEqual(points);
    expect(made.device.settings).toEqual({ ...device.settings, theirAddress: 19 });
  });

  test('a survey finds what is not listed, what does not answer, and what answers as another kind', () => {
    const surveyed = [
      { kind: 'binary' as const, address: 'BI 0' },
      { kind: 'analog' as const, address: 'AI 5' },
      { kind: 'counter' as const, address: 'CT 1' },
    ].map((one) => ({ ...one, form: 'g1v1', value: 0, said: '' }));
    const list = pointsFromSurvey(
      [surveyed[0], { ...surveyed[1], address: 'AI 6' }, { ...surveyed[2], kind: 'analog', address: 'AI 1' }],
      'dnp3',
    );
    const result = compareSurvey(surveyed, list);
    expect(result.unlisted.map(({ address }) => address)).toEqual(['AI 5']);
    expect(result.silent.map(addressOf)).toEqual(['AI 6']);
    expect(result.otherKind.map(({ point, answers }) => `${addressOf(point)} as ${answers.address}`)).toEqual([
      'AI 1 as CT 1',
    ]);
    expect(compareSurvey(surveyed, pointsFromSurvey(surveyed, 'dnp3'))).toMatchObject({
      unlisted: [],
      silent: [],
      otherKind: [],
    });
  });
});
