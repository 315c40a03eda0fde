import { describe, expect, test } from 'vitest';
import { demoConfiguration } from '../../../bench/scenario/configuration.ts';
import type { Configuration } from '../document/document.ts';
import { sessionEffects } from './diff.ts';
import { deviceTouch, outboundTouch } from './touches.ts';

const before = demoConfiguration();
const changed = (change: (configuration: Configuration) => void): Configuration => {
  const after = structuredClone(before);
  change(after);
  return after;
};
const effects = (change: (configuration: Configuration) => void): Record<string, string> =>
  Object.fromEntries(sessionEffects(before, changed(change)).map(({ code, effect }) => [code, effect]));
const [relay] = before.devices;
const [centre] = before.outbounds;

describe('what a change touches', () => {
  test('names touch nothing', () => {
    const names = effects(({ links, devices, outbounds }) => {
      for (const link of links) link.name = 'another';
      for (const device of devices) [device.name, device.description] = ['another', 'words'];
      for (const outbound of outbounds) outbound.name = 'another';
    });
    expect(names).toEqual({ 'HLM-F1': 'goesOn', QST: 'goesOn', AMB: 'goesOn' });
  });

  test('what a session adopts does not end it: time-outs, tries, the centre’s name, what it may operate', () => {
    const adopted = effects(({ devices, outbounds }) => {
      Object.assign(devices[0].settings, { responseTimeoutMs: 2000, retries: 5 });
      Object.assign(outbounds[0].settings, { confirmTimeoutMs: 7000 });
      Object.assign(outbounds[1], { centre: 'Elsewhere', controls: false, controlsFrom: ['127.0.0.1'] });
    });
    expect(adopted).toEqual({ 'HLM-F1': 'adopts', QST: 'adopts', AMB: 'adopts' });
    expect(effects(({ devices }) => (devices[0].life = 'onTest'))['HLM-F1']).toBe('adopts');
  });

  test('lists are adopted, and said so', () => {
    const lists = effects(({ devices, outbounds }) => {
      devices[0].points.pop();
      outbounds[0].mappings.reverse();
    });
    expect(lists).toEqual({ 'HLM-F1': 'listChanges', QST: 'listChanges', AMB: 'goesOn' });
  });

  test('addresses, periods, ways and who may connect begin a session anew', () => {
    const anew = effects(({ devices, links, outbounds }) => {
      Object.assign(devices[0].settings, { class1PeriodMs: 500 });
      links.find(({ code }) => code === 'QST')!.port++;
      outbounds[1].allowFrom = ['10.0.0.0/8'];
    });
    expect(anew).toEqual({ 'HLM-F1': 'restarts', QST: 'restarts', AMB: 'restarts' });
  });

  test('of several changes the strongest counts', () => {
    const settings = { ...relay.settings, retries: 7, theirAddress: 99 };
    expect(deviceTouch(relay, { ...relay, name: 'x', settings } as typeof relay)).toBe('restarts');
    expect(deviceTouch(relay, structuredClone(relay))).toBe('ignored');
    expect(outboundTouch(centre, { ...centre, name: 'x', centre: 'y' })).toBe('adopted');
  });
});
