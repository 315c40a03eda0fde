import { expect, test } from 'vitest';
import { demoConfiguration } from '../../../bench/scenario/configuration.ts';
import { sessionEffects } from './diff.ts';
import { configurationSchema } from '../document/document.ts';
import { inOneOrder } from '../document/objects.ts';

const PORTS = Object.fromEntries(
  'relay relay2 radio logger flow monitor meters bay park model northmark caldmere agreement quillstone ambry'
    .split(' ')
    .map((name, at) => [name, 30_000 + at]),
) as unknown as Parameters<typeof demoConfiguration>[0];

test('a configuration has one order, whatever the order of the file, and loses nothing by it', () => {
  const given = configurationSchema.parse(demoConfiguration(PORTS));
  const turned = structuredClone(given);
  for (const list of [turned.stations, turned.links, turned.devices, turned.outbounds]) list.reverse();
  for (const { points } of turned.devices) points.reverse();
  for (const { mappings } of turned.outbounds) mappings.reverse();
  const [one, other] = [inOneOrder(given), inOneOrder(turned)];
  expect(other).toEqual(one);
  expect(inOneOrder(one)).toEqual(one);
  expect(new Set(sessionEffects(one, other).map(({ effect }) => effect))).toEqual(new Set(['goesOn']));
  const counts = (c: typeof given): number[] => [
    ...[c.stations.length, c.links.length, c.devices.length, c.outbounds.length, c.radios.length],
    c.devices.reduce((sum, { points }) => sum + points.length, 0),
    c.outbounds.reduce((sum, { mappings }) => sum + mappings.length, 0),
  ];
  expect(counts(one)).toEqual(counts(given));
});
