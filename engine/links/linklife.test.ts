import { OBJECT_SCHEMAS } from '@halvix/core/config';
import type { ClientNews, DeviceSettings } from '@halvix/core/protocols';
import { encodeLinkFrame, masterSettings } from '@halvix/core/protocols/dnp3';
import type { Call } from '@halvix/wire';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import { theDoor, theWay } from '../testing/ways.ts';

/* A link with sessions that do as they are told, on a way that is made up, in virtual time. */

vi.mock('./transport.ts', async () => (await import('../testing/ways.ts')).transports);
vi.mock('@halvix/wire', async (original) => ({
  ...(await original<object>()),
  ...(await import('../testing/ways.ts')).doors,
}));
const { LinkRunner } = await import('./link.ts');

const NOW = Date.UTC(2096, 0, 1);
let changes: number;
let link: InstanceType<typeof LinkRunner>;
const [way, door] = [theWay, theDoor];

/** The session of a device: asks when it is told to. */
class Session {
  did: string[] = [];
  news: ClientNews[] = [];
  share = 1;
  deadline: number | null = null;
  holdsLine = false;
  atRest = false;
  asks = 0;
  private out: unknown[] = [];
  constructor(readonly address: number) {}
  get client(): never {
    return this as never;
  }
  say(effect: unknown): void {
    this.out.push(effect);
  }
  start = (): unknown => this.did.push('start');
  stop = (): unknown => this.did.push('stop');
  wake = (): void => {};
  command = ({ type }: { type: string }): unknown => this.did.push(type);
  take = (): unknown[] => this.out.splice(0);
  wants = (at: number): unknown => (this.asks > 0 ? { priority: 2, since: at, words: 'a poll' } : null);
  grant = (): void => {
    this.asks--;
    this.out.push({ type: 'send', octets: Uint8Array.of(this.address) });
  };
  octetsArrive = (): void => {};
  owns = ({ frame }: { frame: { source: number } }): boolean => frame.source === this.address;
  receiveEvent = (): void => {
    this.did.push('heard');
    this.out.push({ type: 'answered', roundTripMs: 1 });
  };
  strangerHeard = (): void => {};
}
const sessions = new Map<number, Session>();
function attach(address: number): Session {
  const session = new Session(address);
  sessions.set(address, session);
  link.attach({
    code: `D${address}`,
    settings: masterSettings.parse({ ourAddress: 1, theirAddress: address }) as DeviceSettings,
    client: session.client,
    onEffect: (effect) => session.news.push(effect),
  });
  return session;
}
/** What a device sends. */
const frameOf = (source: number, destination = 1): Uint8Array =>
  encodeLinkFrame({
    ...{ fromMaster: false, primary: true, countBit: false, countValid: false, functionCode: 4 },
    ...{ destination, source, data: Uint8Array.of(0xc0, 0xc0, 0x81, 0, 0) },
  });
const pass = (ms = 0): Promise<unknown> => vi.advanceTimersByTimeAsync(ms);

function begin(more: object): void {
  link = new LinkRunner(OBJECT_SCHEMAS.link.parse({ code: 'L', name: 'link', type: 'tcpClient', ...more }), {
    changed: () => changes++,
  });
  link.start();
}
beforeEach(() => {
  vi.useFakeTimers({ now: NOW });
  changes = 0;
});
afterEach(async () => {
  await link.stop();
  vi.useRealTimers();
});

describe('a connection of ours', () => {
  test('is opened once; devices begin when it stands and end with it', () => {
    begin({});
    const device = attach(21);
    link.start();
    expect(way().did).toEqual(['open']);
    expect([link.isUp('D21'), device.did]).toEqual([false, []]);
    way().up();
    expect([link.isUp('D21'), device.did]).toEqual([true, ['start']]);
    way().down();
    expect(device.did).toEqual(['start', 'stop']);
    expect(link.essence()).toBe('waiting 0 lost');
  });

  test('carries what its devices say, and an answer proves it', () => {
    begin({});
    const device = attach(21);
    way().up();
    device.asks = 1;
    link.command('D21', { type: 'poll' } as never);
    expect(way().sent).toEqual([Uint8Array.of(21)]);
    expect(device.did).toEqual(['start', 'poll']);
    way().events.data(frameOf(21));
    expect(way().did).toEqual(['open', 'useful']);
    expect(device.news).toMatchObject([{ type: 'answered' }]);
    expect(link.laneState()).toMatchObject({ turns: 1, devices: { D21: { turns: 1 } } });
    expect(link.laneState().strip).toHaveLength(1);
    device.say({ type: 'hangUp', words: 'good for nothing' });
    link.command('D21', { type: 'poll' } as never);
    expect(way().did.at(-1)).toBe('drop good for nothing');
  });

  test('a device that is taken off is ended; the link is empty after the last', () => {
    begin({});
    const [first, second] = [attach(21), attach(22)];
    way().up();
    link.detach('D21');
    expect([first.did, link.isEmpty]).toEqual([['start', 'stop'], false]);
    link.command('D21', { type: 'poll' } as never);
    link.detach('D22');
    expect([second.did, link.isEmpty]).toEqual([['start', 'stop'], true]);
    expect(link.state().devices).toEqual([]);
  });

  test('fits what differs by its name alone', () => {
    begin({});
    const { config } = link;
    expect(link.fits({ ...config, name: 'other' })).toBe(true);
    expect(link.fits({ ...config, port: 1 })).toBe(false);
  });

  test('an end closes it, and what runs on it', async () => {
    begin({});
    const device = attach(21);
    way().up();
    await link.stop();
    expect(way().did).toEqual(['open', 'close']);
    expect(device.did).toEqual(['start', 'stop']);
  });
});

describe('a connection on demand', () => {
  const demand = (more: object = {}): Session => {
    begin({ connectTimeoutMs: 4000, calls: { when: 'onDemand', idleMs: 3000, everyMs: 60_000, ...more } });
    return attach(21);
  };

  test('hangs up once nobody has anything left to do for a while, and calls again by its schedule', async () => {
    const device = demand();
    way().up();
    await pass(5000);
    expect(way().did).toEqual(['open']);
    device.atRest = true;
    await pass(200);
    expect(way().did).toEqual(['open', `rest ${NOW + 60_000}`]);
  });

  test('is not hung up before it has been still for as long as it says', async () => {
    const device = demand();
    device.atRest = true;
    way().up();
    await pass(2800);
    device.asks = 1;
    link.command('D21', { type: 'poll' } as never);
    await pass(2800);
    expect(way().did).toEqual(['open']);
    await pass(400);
    expect(way().did).toHaveLength(2);
  });

  test('without a schedule rests until it is needed', async () => {
    const device = demand({ everyMs: 0 });
    device.atRest = true;
    way().up();
    await pass(3200);
    expect(way().did).toEqual(['open', 'rest null']);
    link.call();
    expect(way().did.at(-1)).toBe('call');
  });

  test('a control calls, waits for the connection, and goes then', async () => {
    const device = demand();
    link.command('D21', { type: 'control', expiresAt: NOW + 5000 } as never);
    expect([way().did, device.did]).toEqual([['open', 'call'], []]);
    await pass(4000);
    way().up();
    expect(device.did).toEqual(['start', 'control']);
    await pass(5000);
    expect(device.did).toEqual(['start', 'control']);
  });

  test('one whose time is over goes to its session, which ends it; what is no order does not call', async () => {
    const device = demand();
    link.command('D21', { type: 'committed', token: 1 } as never);
    expect([way().did, device.did]).toEqual([['open'], ['committed']]);
    link.command('D21', { type: 'control', expiresAt: NOW + 5000 } as never);
    link.command('D21', { type: 'order' } as never);
    await pass(5000);
    expect(device.did).toEqual(['committed']);
    await pass(1);
    expect(device.did).toEqual(['committed', 'control']);
    // Twice the time that a connection may take.
    await pass(3000);
    expect(device.did).toEqual(['committed', 'control', 'order']);
  });
});

describe('devices that call', () => {
  const call = (from = '127.0.0.1', names: string[] = []): Call & { sent: Uint8Array[]; ended: number } => {
    const one = {
      ...{ sent: [] as Uint8Array[], ended: 0, names, from, address: from },
      send: (octets: Uint8Array) => one.sent.push(octets),
      known: () => {},
      end: () => {
        one.ended++;
        door().events.ended(one as never);
      },
    };
    door().events.came(one as never);
    return one as never;
  };
  const serve = (more: object = {}): void => begin({ type: 'tcpServer', port: 20_000, ...more });

  test('are recognised by their address and each has its own lane', () => {
    serve();
    const [first, second] = [attach(21), attach(22)];
    expect(door().did).toEqual(['open']);
    expect(link.state()).toMatchObject({ state: 'resting', problem: null });
    const one = call();
    door().events.data(one, frameOf(21));
    expect([first.did, second.did]).toEqual([['start', 'heard'], []]);
    expect([link.isUp('D21'), link.isUp('D22')]).toEqual([true, false]);
    expect(link.state()).toMatchObject({ state: 'connected', since: NOW, devices: ['D21', 'D22'] });
    first.asks = 1;
    link.command('D21', { type: 'poll' } as never);
    expect(one.sent).toEqual([Uint8Array.of(21)]);
    first.say({ type: 'hangUp', words: 'enough' });
    link.command('D21', { type: 'poll' } as never);
    expect(one.ended).toBe(1);
    expect([link.isUp('D21'), first.did.at(-1)]).toEqual([false, 'stop']);
  });

  test('the newest connection of one counts; its old one ends when nobody else is on it', () => {
    serve();
    const [first, second] = [attach(21), attach(22)];
    const old = call();
    door().events.data(old, frameOf(21));
    door().events.data(old, frameOf(22));
    const fresh = call();
    door().events.data(fresh, frameOf(21));
    expect(first.did).toEqual(['start', 'heard', 'stop', 'start', 'heard']);
    expect(old.ended).toBe(0);
    door().events.data(fresh, frameOf(22));
    expect(old.ended).toBe(1);
    expect(second.did.filter((one) => one === 'start')).toHaveLength(2);
    expect([fresh.ended, link.isUp('D21'), link.isUp('D22')]).toEqual([0, true, true]);
  });

  test('one that says nothing is asked who it is, and let go when it does not say', async () => {
    serve();
    attach(21);
    attach(22);
    const known = call();
    door().events.data(known, frameOf(22));
    const silent = call();
    await pass(1499);
    expect(silent.sent).toEqual([]);
    await pass(1);
    // Whoever is there already is not asked for.
    expect(silent.sent).toHaveLength(1);
    await pass(5999);
    expect(silent.ended).toBe(0);
    await pass(1);
    expect(silent.ended).toBe(1);
    await pass(60_000);
    expect(known.ended).toBe(0);
  });

  test('one that says who it is stays', async () => {
    serve();
    attach(21);
    const one = call();
    await pass(2000);
    door().events.data(one, frameOf(21));
    await pass(60_000);
    expect(one.ended).toBe(0);
  });

  test('one that is not let in is told of, until somebody is', () => {
    serve({ allowFrom: ['10.0.0.0/8'] });
    attach(21);
    expect([door().options.allows('10.1.2.3'), door().options.allows('127.0.0.1')]).toEqual([true, false]);
    const before = changes;
    door().events.refused('127.0.0.1 is not in its list');
    expect(changes).toBe(before + 1);
    expect(link.state()).toMatchObject({ state: 'waiting', problem: '127.0.0.1 is not in its list' });
    call('10.1.2.3');
    expect(link.state()).toMatchObject({ state: 'resting', problem: null });
  });

  test('with TLS it has to bear the name that the link wants', () => {
    serve({ tls: { use: true, serverName: 'gate', key: 'k', certificate: 'c', authority: 'a' } });
    attach(21);
    expect(call('127.0.0.1', ['other']).ended).toBe(1);
    expect(call('127.0.0.1', ['gate']).ended).toBe(0);
  });

  test('one that is taken off the list is not answered any more', () => {
    serve();
    const device = attach(21);
    const one = call();
    door().events.data(one, frameOf(21));
    link.detach('D21');
    expect([device.did.at(-1), link.isUp('D21')]).toEqual(['stop', false]);
    door().events.data(one, frameOf(21));
    expect(device.did.at(-1)).toBe('stop');
  });

  test('a gateway calls for all of them: the newest counts, and they share a lane', () => {
    serve({ line: { bitRate: 9600 } });
    const [first, second] = [attach(21), attach(22)];
    const old = call();
    door().events.data(old, frameOf(21));
    expect([first.did, second.did]).toEqual([['start', 'heard'], ['start']]);
    expect([link.isUp('D21'), link.isUp('D22')]).toEqual([true, true]);
    const fresh = call();
    expect(old.ended).toBe(0);
    door().events.data(fresh, frameOf(22));
    expect(old.ended).toBe(1);
    expect(first.did).toEqual(['start', 'heard', 'stop', 'start']);
    second.say({ type: 'hangUp', words: 'enough' });
    link.command('D22', { type: 'poll' } as never);
    expect([fresh.ended, link.isUp('D21')]).toEqual([1, false]);
  });

  test('an end closes the door and forgets whom it was about to ask', async () => {
    serve();
    attach(21);
    const one = call();
    await link.stop();
    await pass(10_000);
    expect([door().did, one.sent]).toEqual([['open', 'close'], []]);
  });
});
