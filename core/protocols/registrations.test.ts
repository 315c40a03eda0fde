import { describe, expect, test } from 'vitest';
import { demoConfiguration } from '../../bench/scenario/configuration.ts';
import type { Configuration } from '../config/document/document.ts';
import {
  definitionOf,
  DEVICE_PROTOCOLS,
  draftPointAt,
  pointAt,
  PROTOCOLS,
  targetPointAt,
  wayOut,
  WAYS_OUT,
} from './definitions.ts';
import { clientSide, serverSide, sourceSide } from './sessions/index.ts';

/*
 * What is registered, over all protocols: TypeScript does not see who was left out of a union of addresses, or who has no
 * machine. Each protocol's points are those of the demo, which has all of them.
 */
const PORTS = Object.fromEntries(
  'relay relay2 radio logger flow monitor meters bay park model northmark caldmere agreement quillstone ambry'
    .split(' ')
    .map((name, at) => [name, 30_000 + at]),
) as unknown as Parameters<typeof demoConfiguration>[0];
const demo: Configuration = demoConfiguration(PORTS);

describe.each(PROTOCOLS)('%s', (code) => {
  const definition = definitionOf(code);

  test('has machines for what its definition says it does', () => {
    if (definition.device !== null) expect(clientSide(code).make).toBeTypeOf('function');
    else expect(() => clientSide(code)).toThrow();
    if (definition.source !== null) expect(sourceSide(code).make).toBeTypeOf('function');
    else expect(() => sourceSide(code)).toThrow();
    expect([definition.device, definition.source].filter((role) => role !== null)).toHaveLength(
      definition.points === null ? 0 : 1,
    );
    expect([definition.offers, definition.publishes].filter((role) => role !== null).length).toBeLessThan(2);
    expect(DEVICE_PROTOCOLS.includes(code as never)).toBe(definition.points !== null);
    if (wayOut(code) === null) expect(() => serverSide(code)).toThrow();
    else expect(serverSide(code).make).toBeTypeOf('function');
    expect(WAYS_OUT.includes(code as never)).toBe(wayOut(code) !== null);
  });

  test('has points that every union of addresses knows', () => {
    if (definition.points === null) return;
    const points = demo.devices.filter(({ protocol }) => protocol === code).flatMap((device) => device.points);
    expect(points.length, 'points of it in the demo').toBeGreaterThan(0);
    for (const { at } of points) {
      expect(pointAt.parse(at)).toEqual(at);
      expect(draftPointAt.parse(at)).toMatchObject({ protocol: code });
    }
  });

  test('offers points that the union of targets knows', () => {
    if (wayOut(code) === null) return;
    const offered = demo.outbounds.filter(({ protocol }) => protocol === code).flatMap(({ mappings }) => mappings);
    for (const { target } of offered) expect(targetPointAt.parse(target.at)).toEqual(target.at);
    expect(targetPointAt.safeParse({ protocol: code }).error?.issues[0]?.code).not.toBe('invalid_union');
  });

  test('names settings that a running session adopts only where there are such', () => {
    const has = (side: {
      settings: { parse: (value: unknown) => object };
      first: object;
      adopts: readonly string[];
    }) => {
      const known = Object.keys(
        side.settings.parse({ ourAddress: 1, theirAddress: 2, unitId: 1, domain: 'A', ...side.first }),
      );
      return side.adopts.filter((key) => !known.includes(key));
    };
    if (definition.device !== null) expect(has(definition.device as never)).toEqual([]);
    if (wayOut(code) !== null) expect(has(wayOut(code) as never)).toEqual([]);
  });
});
