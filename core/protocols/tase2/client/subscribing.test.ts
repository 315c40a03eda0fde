import { expect, test } from 'vitest';
import type { Answer } from '../../mms/client.ts';
import type { Data } from '../../mms/wire/data.ts';
import type { ServiceName } from '../../mms/wire/services.ts';
import { clientSettings } from '../settings.ts';
import { ATTRIBUTES, nameData } from '../transfer.ts';
import { listed } from '../trials/both.ts';
import { subscribe } from './subscribing.ts';

const SET = nameData({ scope: 'domain', domain: 'VBU', item: 'DSTransferSet01' });

/** What is asked of a transfer set, attribute by attribute. */
function wished(byException: boolean, settings: object): Record<string, Data> {
  const own = clientSettings.parse({ domain: 'VBU', ...settings });
  const points = [listed(1, 'analog', 'VBU/MW')];
  const dialogue = subscribe(points, 'DS1', null, own, { packed: false, byException });
  let wish: Data | null = null;
  for (let step = dialogue.next(); !step.done;) {
    const { service, request } = step.value as { service: string; request: { values?: Data[] } };
    if (service === 'write') wish = request.values?.[0] ?? null;
    const results = service === 'read' ? [SET] : [null];
    step = dialogue.next({ ok: true, response: { results } } as unknown as Answer<ServiceName>);
  }
  const items = wish !== null && (wish as Data).type === 'structure' ? (wish as Data & { items: Data[] }).items : [];
  return Object.fromEntries(ATTRIBUTES.map((name, at) => [name, items[at]]));
}

// Conditions: interval time-out, integrity time-out, object change, operator request, external event.
const conditions = (data: Data): boolean[] => (data.type === 'bits' ? data.bits.slice(0, 3) : []);

test('a peer with reports by exception tells each change, and everything in its integrity period', () => {
  const wish = wished(true, { integrityMs: 30_000, pollMs: 5000 });
  expect(wish).toMatchObject({ RBE: { value: true }, IntegrityCheck: { value: 30 }, Interval: { value: 0 } });
  expect(conditions(wish.DSConditionsRequested)).toEqual([false, true, true]);
});

test.each([
  [{ pollMs: 2500 }, 3],
  [{ pollMs: 0, integrityMs: 60_000 }, 60],
  [{ pollMs: 0, integrityMs: 0 }, 1],
])('one without them (conformance block 2) tells everything in intervals: %j', (settings, seconds) => {
  const wish = wished(false, settings);
  expect(wish).toMatchObject({ RBE: { value: false }, IntegrityCheck: { value: 0 }, Interval: { value: seconds } });
  expect(conditions(wish.DSConditionsRequested)).toEqual([true, false, false]);
});
