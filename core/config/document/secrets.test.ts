import { describe, expect, test } from 'vitest';
import { demoConfiguration } from '../../../bench/scenario/configuration.ts';
import { DEMO_PORTS } from '../../../scripts/lib/system.mjs';
import { profileOf } from '../../profile/index.ts';
import { diffConfigurations } from '../index.ts';
import type { Configuration } from './document.ts';
import { allSecrets, secretsOf, secretWords, storedAs, storedNumber, withAllSecrets } from './secrets.ts';

const NUMBER = '3c1f3e3a-58a3-4d0f-9b55-0f4a6d0c8f01';

/** The demo with a password where a relay is asked and one where a centre is. */
function withPasswords(ours: string, theirs: string): Configuration {
  const configuration = demoConfiguration(DEMO_PORTS);
  const isModel = ({ protocol }: { protocol: string }): boolean => protocol === 'iec61850';
  Object.assign(configuration.devices.find(isModel)!.settings, { password: ours });
  Object.assign(configuration.outbounds.find(isModel)!.settings, { password: theirs });
  return configuration;
}

describe('secrets of a configuration', () => {
  test('are those whose fields say so, wherever they are not empty', () => {
    expect(allSecrets(demoConfiguration(DEMO_PORTS))).toEqual([]);
    const found = allSecrets(withPasswords('weir', storedAs(NUMBER)));
    expect(found.map(({ kind, field, value }) => [kind, field.path, value])).toEqual([
      ['device', 'settings.password', 'weir'],
      ['outbound', 'settings.password', storedAs(NUMBER)],
    ]);
    expect(secretsOf({ kind: 'device', document: null })).toEqual([]);
  });

  test('are replaced in copies, and nothing else is', () => {
    const before = withPasswords('weir', 'lock');
    const after = withAllSecrets(before, ({ value }) => `${value}, sealed`);
    expect(allSecrets(after).map(({ value }) => value)).toEqual(['weir, sealed', 'lock, sealed']);
    expect(allSecrets(before).map(({ value }) => value)).toEqual(['weir', 'lock']);
    expect(withAllSecrets(after, ({ value }) => value.replace(', sealed', ''))).toEqual(before);
  });

  test('only a whole number is one under which something is stored', () => {
    expect(storedNumber(storedAs(NUMBER))).toBe(NUMBER);
    for (const other of ['', 'secret:', `secret:${NUMBER}0`, ` secret:${NUMBER}`, NUMBER, 7, null, undefined])
      expect(storedNumber(other)).toBeNull();
  });

  test('are never told: not as what they were, not as what they become', () => {
    const words = (before: string, after: string): string[] =>
      diffConfigurations(withPasswords(before, ''), withPasswords(after, '')).flatMap((change) => change.words);
    expect(words('', 'weir')).toEqual(['Password: none → a new one']);
    expect(words('weir', storedAs(NUMBER))).toEqual(['Password: a new one → one is stored']);
    expect(words(storedAs(NUMBER), storedAs(NUMBER.replace('3', '4')))).toEqual([
      'Password: one is stored → another one',
    ]);
    expect(words(storedAs(NUMBER), '')).toEqual(['Password: one is stored → none']);
    expect(secretWords(7)).toBe('none');
  });

  test('are no part of a profile, neither as they are nor as what is stored', () => {
    for (const secret of ['weir', storedAs(NUMBER)]) {
      const { points, ...device } = withPasswords(secret, '').devices.find(({ protocol }) => protocol === 'iec61850')!;
      const profile = profileOf(device, points, 'BAY', 'A bay');
      expect(profile.settings).not.toHaveProperty('password');
      expect(JSON.stringify(profile)).not.toContain(secret);
    }
  });
});
