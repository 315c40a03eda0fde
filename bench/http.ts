import { POINT_KINDS, type PointKind } from '@halvix/core/point';
import { createServer, type IncomingMessage, type Server } from 'node:http';
import { z } from 'zod';
import type { CentreStandIn } from './centre.ts';
import { impairmentsSchema } from './impairments.ts';
import type { BenchLink } from './link.ts';
import { endsOf, playSchema } from '@halvix/core/playing';
import type { StandIn } from './standin.ts';

const MAX_BODY = 250_000;
const powerBody = z.object({ on: z.boolean({ error: 'on: must be true or false' }) });
const forceBody = z.object({
  value: z.union([z.number(), z.boolean()], { error: 'value: must be a number, true or false' }),
});
const stormBody = z.object({ perSecond: z.number().int().min(0).max(5000) });
const clockBody = z.object({ offsetMs: z.number().int().min(-31_536_000_000).max(31_536_000_000) });
const faultsBody = z.object({
  driftPpm: z.number().min(-100_000).max(100_000).default(0),
  answerDelayMs: z.number().int().min(0).max(60_000).default(0),
});
/** An answer that is not 200. */
class Refusal extends Error {
  constructor(
    readonly status: number,
    words: string,
  ) {
    super(words);
  }
}

export interface BenchParts {
  devices: ReadonlyMap<string, StandIn>;
  links: ReadonlyMap<string, BenchLink>;
  centres: ReadonlyMap<string, CentreStandIn>;
}

/** The bench's control: JSON over HTTP on loopback, for people, tests and the demo. */
export function serveControl(host: string, port: number, parts: BenchParts, onFailure: (error: Error) => void): Server {
  const server = createServer((request, response) => {
    answer(request, parts).then(
      (body) => send(200, body),
      (error: unknown) => {
        if (error instanceof Refusal) send(error.status, { error: error.message });
        else if (error instanceof z.ZodError)
          send(400, { error: error.issues.map((i) => `${i.path.join('.')}: ${i.message}`).join('; ') });
        else send(500, { error: 'the bench failed' });
      },
    );
    function send(status: number, body: unknown): void {
      response.writeHead(status, { 'content-type': 'application/json', 'cache-control': 'no-store' });
      response.end(JSON.stringify(body));
    }
  });
  server.on('error', onFailure);
  server.listen(port, host);
  return server;
}

async function answer(request: IncomingMessage, { devices, links, centres }: BenchParts): Promise<unknown> {
  // A browser page of any site can send requests here, but cannot hide that it does.
  if (request.headers.origin !== undefined) throw new Refusal(403, 'not for web pages');
  const url = new URL(request.url ?? '/', 'http://bench');
  const [collection, code, ...rest] = url.pathname.split('/').filter(Boolean).map(decode);
  const route = `${request.method ?? ''} ${rest[0] ?? ''}${rest.length > 1 ? '/' + '*'.repeat(rest.length - 1) : ''}`;
  if (collection === 'healthz' && code === undefined) return { ok: true };
  if (collection === 'devices') {
    if (code === undefined) return [...devices.values()].map((device) => device.report());
    const device = devices.get(code);
    if (device === undefined) throw new Refusal(404, `there is no device ${code}`);
    return answerDevice(device, route, rest, request, url);
  }
  if (collection === 'links') {
    if (code === undefined) return [...links.values()].map((link) => link.report());
    const link = links.get(code);
    if (link === undefined) throw new Refusal(404, `there is no link ${code}`);
    return answerLink(link, route, request);
  }
  if (collection === 'centres') {
    if (code === undefined) return [...centres.values()].map((centre) => centre.report());
    const centre = centres.get(code);
    if (centre === undefined) throw new Refusal(404, `there is no centre ${code}`);
    return answerCentre(centre, route, request, url);
  }
  throw new Refusal(404, 'there are /devices, /links and /centres');
}

async function answerDevice(
  device: StandIn,
  route: string,
  rest: string[],
  request: IncomingMessage,
  url: URL,
): Promise<unknown> {
  switch (route) {
    case 'GET ':
      return device.report();
    case 'GET points':
      return device.points();
    case 'GET heard':
      return device.heardAt.filter((at) => at > Number(url.searchParams.get('after') ?? 0));
    case 'PUT power': {
      const { on } = powerBody.parse(await bodyOf(request));
      await device.power(on);
      return device.report();
    }
    case 'PUT points/**': {
      const { kind, index } = pointOf(device, rest);
      const { value } = forceBody.parse(await bodyOf(request));
      const misfit = device.misfit(kind, Number(value));
      if (misfit !== null) throw new Refusal(400, `value: ${String(value)} ${misfit}`);
      device.force(kind, index, Number(value));
      return device.points().find((point) => point.kind === kind && point.index === index);
    }
    case 'PUT points/***': {
      const { kind, index } = pointOf(device, rest);
      if (rest[3] !== 'play') throw new Refusal(404, `a point has no ${rest[3]}`);
      const play = playSchema.parse(await bodyOf(request));
      const ends = endsOf(play);
      if (!ends.ok) throw new Refusal(400, `csv: ${ends.problem}`);
      for (const value of ends.value) {
        const misfit = device.misfit(kind, value);
        if (misfit !== null) throw new Refusal(400, `value: ${value} ${misfit}`);
      }
      device.play(kind, index, play);
      return device.points().find((point) => point.kind === kind && point.index === index);
    }
    case 'DELETE points/**': {
      const { kind, index } = pointOf(device, rest);
      device.release(kind, index);
      return device.points().find((point) => point.kind === kind && point.index === index);
    }
    case 'PUT faults': {
      const faults = faultsBody.parse(await bodyOf(request));
      device.setFaults(faults);
      return device.report();
    }
    default:
      return answerMore(device, route, request, url);
  }
}

/** What not every stand-in has: events, a clock, sleep. */
async function answerMore(device: StandIn, route: string, request: IncomingMessage, url: URL): Promise<unknown> {
  const { events } = device;
  const lacks = new Refusal(404, `this device has no ${route.trim()}`);
  const needsPower = (): void => {
    if (!device.on) throw new Refusal(409, 'the device is off');
  };
  switch (route) {
    case 'GET log':
      if (events === null) throw lacks;
      return events.log(Number(url.searchParams.get('after') ?? 0));
    case 'PUT storm': {
      if (events === null) throw lacks;
      const { perSecond } = stormBody.parse(await bodyOf(request));
      if (perSecond > 0) needsPower();
      events.setStorm(perSecond);
      return device.report();
    }
    case 'POST fill':
      if (events === null) throw lacks;
      needsPower();
      events.fill();
      return device.report();
    case 'POST reboot':
      if (device.reboot === undefined) throw lacks;
      needsPower();
      await device.reboot();
      return device.report();
    case 'POST wake':
      needsPower();
      if (device.wake === undefined) throw new Refusal(409, 'this device does not sleep');
      device.wake();
      return device.report();
    case 'PUT clock':
      if (device.setClock === undefined) throw lacks;
      device.setClock(clockBody.parse(await bodyOf(request)).offsetMs);
      return device.report();
    default:
      throw lacks;
  }
}

async function answerLink(link: BenchLink, route: string, request: IncomingMessage): Promise<unknown> {
  switch (route) {
    case 'GET ':
      return link.report();
    case 'PUT impairments':
      link.impair(impairmentsSchema.parse(await bodyOf(request)));
      return link.report();
    case 'POST cut':
      link.cut();
      return link.report();
    default:
      throw new Refusal(404, `a link has no ${route.trim()}`);
  }
}

async function answerCentre(
  centre: CentreStandIn,
  route: string,
  request: IncomingMessage,
  url: URL,
): Promise<unknown> {
  switch (route) {
    case 'GET ':
      return centre.report();
    case 'GET points':
      return centre.points();
    case 'GET events':
      return centre.events.slice(Number(url.searchParams.get('after') ?? 0));
    case 'GET commands':
      return centre.commands;
    case 'PUT power': {
      centre.power(powerBody.parse(await bodyOf(request)).on);
      return centre.report();
    }
    case 'POST controls':
      return centre.control(await bodyOf(request));
    default:
      throw new Refusal(404, `a centre has no ${route.trim()}`);
  }
}

function pointOf(device: StandIn, [, kindWord, indexWord]: string[]): { kind: PointKind; index: number } {
  const kind = POINT_KINDS.find((one) => one === kindWord);
  if (kind === undefined) throw new Refusal(404, `kind: ${kindWord} is none of ${POINT_KINDS.join(', ')}`);
  const index = /^\d{1,5}$/.test(indexWord) ? Number(indexWord) : NaN;
  if (!device.hasPoint(kind, index)) throw new Refusal(404, `index: there is no ${kind} ${indexWord}`);
  return { kind, index };
}

function decode(part: string): string {
  try {
    return decodeURIComponent(part);
  } catch {
    throw new Refusal(400, `${part} is not a well-formed path`);
  }
}

async function bodyOf(request: IncomingMessage): Promise<unknown> {
  const parts: Buffer[] = [];
  let octets = 0;
  for await (const part of request as AsyncIterable<Buffer>) {
    octets += part.length;
    if (octets > MAX_BODY) throw new Refusal(413, `the body has more than ${MAX_BODY} octets`);
    parts.push(part);
  }
  try {
    return JSON.parse(Buffer.concat(parts).toString('utf8'));
  } catch {
    throw new Refusal(400, 'the body is not JSON');
  }
}
