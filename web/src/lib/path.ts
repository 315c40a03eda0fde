import type { DeviceLife } from '@halvix/core/config';
import type { ProtocolCode } from '@halvix/core/protocols';
import { CENTRE_SILENT_MS, ENGINE_STALE_MS } from '@halvix/core/path';
import { age, capital, clockTime, numberWord } from './format.ts';
import type { Hops } from './live/topics.ts';

/** What the screens need to know of a device and where its points go. */
export interface DeviceOnPath {
  code: string;
  name: string;
  station: string;
  description: string;
  protocol: ProtocolCode;
  /** How it is addressed: `address 21`. */
  where: string;
  /** What the protocol calls our and its address; null: there is none. */
  ourAddress: number | null;
  theirAddress: number | null;
  /** Out of service: not polled. On test: collected, not passed on. */
  life: DeviceLife;
  link: { code: string; name: string; endpoint: string };
  outbounds: string[];
}

export interface OutboundOnPath {
  code: string;
  name: string;
  centre: string;
  /** How it gets to us, in short: a port, or what the way is. */
  way: string;
  link: string;
  protocol: ProtocolCode;
  ourAddress: number | null;
  theirAddress: number | null;
  mapped: number;
}

/** good: alive; lost: broken here; idle: not in use, nothing wrong; unknown: hidden by a break before it. */
export type SegmentState = 'good' | 'lost' | 'idle' | 'unknown';

export interface Hop {
  state: SegmentState;
  words: string;
}

export interface DevicePath {
  /** From the device to its link, from the link to the engine, and the engine itself. */
  device: Hop;
  link: Hop;
  engine: Hop;
  outbounds: { outbound: OutboundOnPath; hop: Hop }[];
}

/** Whether it is reached over a link; the others tell of what is known here. */
export const isOnLink = ({ link }: DeviceOnPath): boolean => link.code !== '';

export function engineHop(hops: Hops, now: number): Hop {
  const engines = Object.values(hops.engines);
  const newest = engines.reduce((latest, engine) => Math.max(latest, engine.updated), 0);
  if (engines.length === 0) return { state: 'lost', words: 'no engine has run yet' };
  if (now - newest > ENGINE_STALE_MS) return { state: 'lost', words: `the engine stopped ${age(now - newest)} ago` };
  const stalled = stalledHistory(hops) === null ? '' : ', history stands still';
  const perSecond = engines.reduce((sum, engine) => sum + engine.readingsPerSecond, 0);
  return { state: 'good', words: `${perSecond} readings/s${stalled}` };
}

/** Why history is not written, and how much waits for it; null: it is written. */
function stalledHistory(hops: Hops): { problem: string; waiting: number } | null {
  for (const { historyProblem: problem, queuedReadings: waiting } of Object.values(hops.engines))
    if (problem !== null) return { problem, waiting };
  return null;
}

export function devicePath(
  device: DeviceOnPath,
  outbounds: readonly OutboundOnPath[],
  hops: Hops,
  now: number,
): DevicePath {
  const engine = engineHop(hops, now);
  if (!isOnLink(device)) {
    const here: Hop =
      device.life === 'outOfService'
        ? { state: 'idle', words: 'out of service' }
        : { state: engine.state === 'good' ? 'good' : 'unknown', words: 'known here' };
    return { engine, link: here, device: here, outbounds: outboundHops(outbounds, hops, engine, now) };
  }
  const link: Hop =
    device.life === 'outOfService'
      ? { state: 'idle', words: 'not used' }
      : linkHop(hops, device.link.code, engine, now);
  return {
    engine,
    link,
    device: deviceHop(hops, device, engine, link, now),
    outbounds: outboundHops(outbounds, hops, engine, now),
  };
}

const outboundHops = (
  outbounds: readonly OutboundOnPath[],
  hops: Hops,
  engine: Hop,
  now: number,
): DevicePath['outbounds'] =>
  outbounds.map((outbound) => ({ outbound, hop: outboundHop(hops, outbound.code, engine, now) }));

function linkHop(hops: Hops, code: string, engine: Hop, now: number): Hop {
  if (engine.state === 'lost') return { state: 'unknown', words: 'not known while the engine is away' };
  const link = hops.links[code];
  if (link === undefined) return { state: 'unknown', words: 'not started yet' };
  if (link.state === 'connected') return { state: 'good', words: `connected for ${age(now - link.since)}` };
  if (link.state === 'resting')
    return {
      state: 'idle',
      words: link.nextTry === null ? 'between calls' : `between calls; next in ${age(link.nextTry - now)}`,
    };
  const next = link.nextTry === null ? 'trying now' : `next try in ${age(link.nextTry - now)}`;
  return { state: 'lost', words: `${link.problem ?? 'connecting'}; ${next}` };
}

function deviceHop(hops: Hops, { code, life }: DeviceOnPath, engine: Hop, link: Hop, now: number): Hop {
  if (engine.state === 'lost') return { state: 'unknown', words: 'not known while the engine is away' };
  if (life === 'outOfService') return { state: 'idle', words: 'out of service, not polled' };
  const device = hops.devices[code];
  if (device === undefined) return { state: 'unknown', words: 'not started yet' };
  if (device.state === 'answering' && link.state === 'good')
    return { state: 'good', words: device.lastGood === null ? 'answers' : age(now - device.lastGood) };
  if (device.state === 'unknown')
    return { state: 'unknown', words: link.state === 'idle' ? 'has not called yet' : 'not asked yet' };
  if (device.state === 'resting')
    return {
      state: 'idle',
      words: device.lastGood === null ? device.words : `called ${age(now - device.lastGood)} ago`,
    };
  const since = device.lastGood === null ? 'never answered' : `last answer ${age(now - device.lastGood)} ago`;
  if (link.state === 'lost') return { state: 'unknown', words: since };
  return { state: 'lost', words: `${device.words}; ${since}` };
}

export function outboundHop(hops: Hops, code: string, engine: Hop, now: number): Hop {
  if (engine.state === 'lost') return { state: 'unknown', words: 'not known while the engine is away' };
  const outbound = hops.outbounds[code];
  if (outbound === undefined) return { state: 'unknown', words: 'not started yet' };
  if (outbound.state === 'failed') return { state: 'lost', words: outbound.problem ?? 'cannot listen' };
  const waiting =
    outbound.eventsWaiting > 0
      ? `, ${outbound.eventsWaiting} ${outbound.eventsWaiting === 1 ? 'event waits' : 'events wait'}`
      : '';
  if (outbound.connectedFrom === null) return { state: 'idle', words: `not connected${waiting}` };
  if (outbound.pushes) {
    const last =
      outbound.lastConfirmed === null
        ? 'nothing has gone out yet'
        : `delivered ${age(now - outbound.lastConfirmed)} ago`;
    return { state: outbound.lastConfirmed === null ? 'idle' : 'good', words: `${last}${waiting}` };
  }
  if (outbound.lastHeard === null) return { state: 'idle', words: 'connected, has not asked yet' };
  if (!outbound.isQuiet && now - outbound.lastHeard > CENTRE_SILENT_MS)
    return { state: 'lost', words: `connected, but silent for ${age(now - outbound.lastHeard)}${waiting}` };
  if (outbound.lastConfirmed === null) return { state: 'good', words: `asked ${age(now - outbound.lastHeard)} ago` };
  return { state: 'good', words: `confirmed ${age(now - outbound.lastConfirmed)} ago` };
}

/** Whether the whole way from the device to the engine holds, or nobody wants it to: the device is out of service. */
export const isReached = (path: DevicePath): boolean =>
  path.device.state === 'idle' ||
  (path.device.state === 'good' && path.link.state === 'good' && path.engine.state === 'good');

/** Certificates are told of so long before they are over. */
const CERTIFICATE_TOLD_MS = 30 * 86_400_000;

/** Links whose certificates are over soon, or already, the first to end first. */
export const endingCertificates = (hops: Hops, now: number): { link: string; ends: number; words: string }[] =>
  Object.entries(hops.links)
    .flatMap(([link, { certificateEnds: ends }]) =>
      ends !== null && ends - now < CERTIFICATE_TOLD_MS ? [{ link, ends, words: endWords(ends, now) }] : [],
    )
    .sort((a, b) => a.ends - b.ends);

/** How long a certificate still holds, as people say it. */
export function endWords(ends: number, now: number): string {
  const days = Math.floor((ends - now) / 86_400_000);
  if (ends <= now) return 'is over: nobody who checks it connects any more';
  return days === 0 ? 'ends within a day' : `ends in ${days === 1 ? '1 day' : `${days} days`}`;
}

/** One sentence on how things stand, and one on what to look at first. */
export function standing(
  all: readonly DeviceOnPath[],
  outbounds: readonly OutboundOnPath[],
  hops: Hops,
  now: number,
): { headline: string; advice: { before: string; subject: string; after: string; href: string } | null } {
  const devices = all.filter(isOnLink);
  if (devices.length === 0) return { headline: 'No device is configured yet', advice: null };
  const engine = engineHop(hops, now);
  if (engine.state === 'lost')
    return {
      headline: capital(engine.words),
      advice: {
        before: 'Nothing is polled and nothing is passed on. Start the ',
        subject: 'engine',
        after: ' first; its log says why it stopped.',
        href: '/run',
      },
    };
  const paths = devices.map((device) => ({ device, path: devicePath(device, [], hops, now) }));
  const reached = paths.filter(({ path }) => isReached(path)).length;
  const broken = paths.find(({ path }) => !isReached(path));
  const some = `${capital(numberWord(reached))} of ${numberWord(devices.length)} devices ${reached === 1 ? 'answers' : 'answer'}`;
  const every = devices.length === 1 ? 'The device answers' : `All ${numberWord(devices.length)} devices answer`;
  const headline = reached === devices.length ? every : devices.length === 1 ? 'The device does not answer' : some;
  const stalled = stalledHistory(hops);
  if (stalled !== null)
    return {
      headline,
      advice: {
        before: 'Nothing is written to the ',
        subject: 'history',
        after: ` database: ${stalled.problem}. ${stalled.waiting === 1 ? '1 reading waits' : `${stalled.waiting} readings wait`}, and devices keep their events; present values go on. Look at its disk, and at who holds its tables.`,
        href: '/upkeep/history',
      },
    };
  if (broken !== undefined) {
    const { device, path } = broken;
    const state = hops.devices[device.code];
    const since = state ? `, since ${clockTime(state.since, now, 0)}` : '';
    const href = `/run/device/${device.code}`;
    if (path.link.state === 'lost')
      return {
        headline,
        advice: {
          before: `The path breaks between ${device.link.name} and the engine${since}: `,
          subject: device.name,
          after: `, ${path.link.words}. Look at ${device.link.endpoint} first.`,
          href,
        },
      };
    return {
      headline,
      advice: {
        before: `The path breaks between `,
        subject: device.name,
        after: ` and ${device.link.name}${since}: ${path.device.words}. The link itself is up, so look at the device first: supply, ${device.where}.`,
        href,
      },
    };
  }
  const away = outbounds.filter(({ code }) => outboundHop(hops, code, engine, now).state !== 'good');
  if (away.length === 0) return { headline, advice: null };
  const [first] = away;
  const { state, words } = outboundHop(hops, first.code, engine, now);
  if (state === 'unknown') return { headline, advice: null };
  return {
    headline,
    advice: {
      before: '',
      subject: first.centre,
      after: ` (${first.name}) is ${words}.`,
      href: `/run/outbound/${first.code}`,
    },
  };
}
