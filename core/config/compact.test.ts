import { describe, expect, test } from 'vitest';
import { compacted, expanded } from './compact.ts';
import { OBJECT_SCHEMAS } from './document/objects.ts';

describe('documents as they are stored', () => {
  test('points and mappings leave out what is at its default, and come back whole', () => {
    const point = OBJECT_SCHEMAS.point.parse({
      kind: 'analog',
      at: { protocol: 'dnp3', index: 7 },
      name: 'Current L1',
      gain: 0.01,
    });
    expect(compacted('point', point)).toEqual({
      kind: 'analog',
      at: { protocol: 'dnp3', index: 7 },
      name: 'Current L1',
      gain: 0.01,
    });
    expect(expanded('point', compacted('point', point))).toEqual(point);
    const mapping = OBJECT_SCHEMAS.mapping.parse({
      ...{ device: 'D', point: 'AI 7' },
      target: {
        kind: 'analog',
        at: { protocol: 'dnp3', index: 1, eventClass: 2, staticVariation: 1, eventVariation: 3 },
        deadband: 5,
      },
    });
    expect(expanded('mapping', compacted('mapping', mapping))).toEqual(mapping);
  });

  test('what an earlier version stored has what came since at its default, and what has gone is gone', () => {
    const device = {
      ...{ code: 'D', name: 'Relay', description: '', station: 'S', link: 'L', protocol: 'dnp3' },
      settings: { ourAddress: 1, theirAddress: 11 },
    };
    expect(expanded('device', device)).toEqual(OBJECT_SCHEMAS.device.parse(device));
    expect(expanded('device', device)).toMatchObject({ life: 'inService', settings: { eventsAtOnce: 0 } });
    const outbound = {
      ...{ code: 'C', name: 'Centre', centre: 'C', protocol: 'dnp3', link: 'C', quietMs: 30_000 },
      settings: { ourAddress: 1, theirAddress: 11 },
    };
    expect(expanded('outbound', outbound)).toMatchObject({ allowFrom: ['0.0.0.0/0', '::/0'], controls: true });
    expect(expanded('outbound', outbound)).not.toHaveProperty('quietMs');
  });

  test('what is deleted stays so, and what cannot be read is shown as it is', () => {
    expect([compacted('point', null), expanded('device', null)]).toEqual([null, null]);
    expect(expanded('station', { code: 7 })).toEqual({ code: 7 });
  });
});
