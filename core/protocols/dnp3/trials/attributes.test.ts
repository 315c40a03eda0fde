import fc from 'fast-check';
import { expect, test } from 'vitest';
import { fromHex } from '../../../bytes/index.ts';
import { decodeFragment } from '../wire/application.ts';
import { deviceAttributes } from '../attributes.ts';
import { Loop } from './loop.ts';

const of = (objects: string): string[] => {
  const decoded = decodeFragment(fromHex(`c0 81 00 00 ${objects}`));
  if (!decoded.ok) throw new Error(decoded.problem);
  return deviceAttributes(decoded.value).map(({ name, text }) => `${name}: ${text}`);
};

test('attributes of each type are read', () => {
  expect(of('00 fc 00 00 00 01 03 41 42 43')).toEqual(['Manufacturer: ABC']);
  expect(of('00 f0 00 00 00 02 02 00 08')).toEqual(['Longest fragment sent, octets: 2048']);
  expect(of('00 d9 00 00 00 03 01 ff')).toEqual(['Attribute 217: -1']);
  expect(of('00 cd 00 00 00 04 04 00 00 20 41')).toEqual(['Latitude: 10']);
  expect(of('00 fc 00 00 00 01 ff 41')).toEqual([]);
});

test('a survey asks for them after the present values, and does without where the device knows none', () => {
  const point = {
    kind: 'analog' as const,
    index: 0,
    class: 1 as const,
    staticVariation: 1,
    eventVariation: 3,
    deadband: 0,
  };
  for (const attributes of [{ 250: 'Model 7', 252: 'Nobody' }, {}] as Record<string, string>[]) {
    const loop = new Loop([point], {}, { attributes });
    loop.connect();
    loop.toMaster({ type: 'survey', id: 's' });
    loop.pass(5000);
    const ended = loop.masterEffects.filter((effect) => effect.type === 'surveyed');
    expect(ended).toHaveLength(1);
    expect(ended[0]).toMatchObject({ id: 's', problem: null });
    const found = ended[0].type === 'surveyed' ? ended[0].attributes.map(({ text }) => text) : [];
    expect(found).toEqual(Object.values(attributes));
    expect(loop.masterEffects.some((effect) => effect.type === 'communication' && effect.state === 'silent')).toBe(
      false,
    );
  }
});

test('any octets are read or left out, without an exception', () => {
  fc.assert(
    fc.property(fc.uint8Array({ maxLength: 60 }), (octets) => {
      const decoded = decodeFragment(Uint8Array.from([0xc0, 0x81, 0, 0, ...octets]));
      if (decoded.ok) deviceAttributes(decoded.value);
      const behind = decodeFragment(Uint8Array.from([0xc0, 0x81, 0, 0, 0, 252, 0, 0, 0, ...octets]));
      if (behind.ok) deviceAttributes(behind.value);
    }),
  );
});
