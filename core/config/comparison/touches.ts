import { deviceOf, wayOut } from '../../protocols/index.ts';
import type { DeviceConfig, LinkConfig, OutboundConfig } from '../document/document.ts';
import { sameDocument } from './same.ts';

/*
 * What applying a change touches: the comparison on the screen and the engine go by this table alone.
 *
 * A field `restarts` its session, is `adopted` by one that goes on, or is `ignored` by the engine. Settings are of their
 * protocol: `Side.adopts` names those that a running session adopts, all others restart it. What an outbound owes is kept
 * in any case.
 */

export const TOUCHES = ['ignored', 'adopted', 'restarts'] as const;
export type Touch = (typeof TOUCHES)[number];
type Table<Config> = { readonly [Field in keyof Config]-?: Touch | 'asItsProtocolSays' };

export const LINK_TOUCHES: Table<LinkConfig> = {
  ...{ code: 'restarts', name: 'ignored', type: 'restarts', protocol: 'restarts', framing: 'restarts' },
  ...{ host: 'restarts', port: 'restarts', standbyHost: 'restarts', localPort: 'restarts', serialPort: 'restarts' },
  ...{ connectTimeoutMs: 'restarts', reconnectFirstMs: 'restarts', reconnectMaxMs: 'restarts' },
  ...{ line: 'restarts', allowFrom: 'restarts', tls: 'restarts', calls: 'restarts' },
};

export const DEVICE_TOUCHES: Table<DeviceConfig> = {
  ...{ code: 'restarts', name: 'ignored', description: 'ignored', station: 'ignored' },
  ...{ link: 'restarts', protocol: 'restarts', settings: 'asItsProtocolSays' },
  /** Of a device that is collected before and after; whether it is at all is looked at first. */
  life: 'adopted',
  ...{ passOnWhileOnTest: 'adopted', points: 'adopted' },
};

export const OUTBOUND_TOUCHES: Table<OutboundConfig> = {
  ...{ code: 'restarts', name: 'ignored', centre: 'adopted' },
  ...{ link: 'restarts', protocol: 'restarts', settings: 'asItsProtocolSays' },
  // Whoever is connected and may be no longer has to go.
  ...{ allowFrom: 'restarts', peerName: 'restarts' },
  ...{ controls: 'adopted', controlsFrom: 'adopted' },
  ...{ partner: 'restarts', alsoPartners: 'restarts' },
  mappings: 'adopted',
};

const strongest = (touches: readonly Touch[]): Touch =>
  TOUCHES[touches.reduce((most, touch) => Math.max(most, TOUCHES.indexOf(touch)), 0)];

/** Of two configurations of one thing; equal ones: ignored. */
function touchOf<Config extends object>(
  table: Table<Config>,
  before: Config,
  after: Config,
  ofSettings: readonly string[] = [],
): Touch {
  const touches: Touch[] = [];
  for (const field of Object.keys(table) as (keyof Config)[]) {
    const [old, next] = [before[field], after[field]];
    if (sameDocument(old, next)) continue;
    const touch = table[field];
    touches.push(touch === 'asItsProtocolSays' ? settingsTouch(old as object, next as object, ofSettings) : touch);
  }
  return strongest(touches);
}

function settingsTouch(before: object, after: object, adopts: readonly string[]): Touch {
  const [old, next] = [before, after] as Record<string, unknown>[];
  const differ = [...new Set([...Object.keys(old), ...Object.keys(next)])].filter(
    (key) => !sameDocument(old[key], next[key]),
  );
  return differ.every((key) => adopts.includes(key)) ? 'adopted' : 'restarts';
}

/** Those of the settings that a running session adopts. */
export const adopted = (settings: object, adopts: readonly string[]): object =>
  Object.fromEntries(Object.entries(settings).filter(([key]) => adopts.includes(key)));

export const linkTouch = (before: LinkConfig, after: LinkConfig): Touch => touchOf(LINK_TOUCHES, before, after);
export const deviceTouch = (before: DeviceConfig, after: DeviceConfig): Touch =>
  touchOf(DEVICE_TOUCHES, before, after, deviceOf(before.protocol).adopts);
export const outboundTouch = (before: OutboundConfig, after: OutboundConfig): Touch =>
  touchOf(OUTBOUND_TOUCHES, before, after, wayOut(before.protocol)?.adopts ?? []);
