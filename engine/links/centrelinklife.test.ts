import { OBJECT_SCHEMAS, type OutboundConfig } from '@halvix/core/config';
import type { Call } from '@halvix/wire';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import { theDoor, theWay } from '../testing/ways.ts';
import type { OutboundMember } from './outboundlink.ts';

/* A link to centres whose ways are made up, in virtual time: an octet below 10 says whose it is, 90 is of C1 or C2. */

let most: Record<string, number>;
vi.mock('./transport.ts', async () => (await import('../testing/ways.ts')).transports);
vi.mock('@halvix/wire', async (original) => ({
  ...(await original<object>()),
  ...(await import('../testing/ways.ts')).doors,
}));
vi.mock('@halvix/core/protocols/sessions', async (original) => ({
  ...(await original<object>()),
  serverSide: () => ({
    peers: ({ theirAddress }: { theirAddress: number }) => most[`C${theirAddress}`] ?? 1,
    recogniser: (centres: { code: string }[]) => ({
      push: (octets: Uint8Array) =>
        [...octets].flatMap((octet) => (octet === 90 ? ['C1', 'C2'] : octet < 10 ? [`C${octet}`] : [])),
      known: centres.length,
    }),
  }),
}));
const { OutboundLink } = await import('./outboundlink.ts');

const NOW = Date.UTC(2096, 0, 1);
const LATE_MS = 60_000;
let link: InstanceType<typeof OutboundLink>;
let changes: number;

class Told implements OutboundMember {
  lines: string[] = [];
  config: OutboundConfig;
  constructor(number: number, more: object = {}) {
    this.config = {
      ...OBJECT_SCHEMAS.outbound.parse({
        ...{ code: `C${number}`, name: 'centre', centre: 'Centre', link: 'L', protocol: 'dnp3' },
        settings: { ourAddress: 10, theirAddress: number },
        ...more,
      }),
      mappings: [],
    };
  }
  up = (peer: number, from: string, address: string | null): void =>
    void this.lines.push(`up ${peer} ${from} ${address}`);
  down = (peer: number): void => void this.lines.push(`down ${peer}`);
  data = (peer: number, octets: Uint8Array): void => void this.lines.push(`${peer}: ${octets.join(' ')}`);
  refused = (words: string): void => void this.lines.push(words);
  changed = (): void => void this.lines.push('changed');
  take(): string[] {
    return this.lines.splice(0);
  }
}
class Caller {
  did: string[] = [];
  isKnown = false;
  readonly call: Call;
  constructor(address: string, names: string[] = []) {
    this.call = {
      ...{ from: `${address}:1`, address, names },
      send: (octets: Uint8Array) => this.did.push(octets.join(' ')),
      known: () => (this.isKnown = true),
      end: () => this.did.push('ended'),
    } as unknown as Call;
    theDoor().events.came(this.call);
  }
  say = (...octets: number[]): void => theDoor().events.data(this.call, Uint8Array.from(octets));
  hangUp = (): void => theDoor().events.ended(this.call);
}
function open(type: string, members: Told[], more: object = {}, speaksFirst = false): void {
  const config = OBJECT_SCHEMAS.link.parse({ code: 'L', name: 'link', type, port: 20_100, protocol: 'dnp3', ...more });
  link = new OutboundLink(config, () => changes++, speaksFirst);
  for (const member of members) link.add(member);
}
const pass = (ms: number): Promise<unknown> => vi.advanceTimersByTimeAsync(ms);

beforeEach(() => {
  vi.useFakeTimers({ now: NOW });
  [changes, most] = [0, {}];
});
afterEach(async () => {
  await link.close();
  vi.useRealTimers();
});

describe('a port that centres call', () => {
  test('is opened at once, for those whom some outbound allows, and says why nobody gets there', async () => {
    const one = new Told(1, { allowFrom: ['10.0.0.0/24'] });
    open('tcpServer', [one]);
    expect(theDoor().did).toEqual(['open']);
    expect([theDoor().options.allows('10.0.0.3'), theDoor().options.allows('10.0.1.3')]).toEqual([true, false]);
    expect([link.problem, link.isEmpty]).toEqual([null, false]);
    expect(link.state()).toMatchObject({ state: 'resting', since: NOW, problem: null });
    await pass(5);
    theDoor().problem = 'taken';
    theDoor().events.changed();
    expect([one.take(), changes]).toEqual([['changed'], 1]);
    expect(link.state()).toMatchObject({ state: 'waiting', since: NOW + 5, problem: 'taken' });
    expect(link.essence()).toBe(`waiting ${NOW + 5} taken`);
    theDoor().events.refused('nobody from there');
    expect(one.take()).toEqual(['nobody from there']);
    link.remove(one);
    expect(link.isEmpty).toBe(true);
    await link.close();
    expect(theDoor().did).toEqual(['open', 'close']);
  });

  test('a connection is whose its first frame says; who says nothing for twenty seconds is sent away', async () => {
    const [one, two] = [new Told(1), new Told(2)];
    open('tcpServer', [one, two]);
    const caller = new Caller('10.0.0.3');
    caller.say(50);
    expect([one.take(), two.take()]).toEqual([[], []]);
    await pass(19_999);
    expect(caller.did).toEqual([]);
    caller.say(2, 60);
    expect([one.take(), two.take()]).toEqual([[], ['up 1 10.0.0.3:1 10.0.0.3', '1: 50', '1: 2 60']]);
    expect(link.state()).toMatchObject({ state: 'connected', since: NOW });
    await pass(60_000);
    expect(caller.did).toEqual([]);
    const quiet = new Caller('10.0.0.4');
    await pass(20_000);
    expect(quiet.did).toEqual(['ended']);
    caller.hangUp();
    expect(two.take()).toEqual(['down 1']);
    expect(link.state().state).toBe('resting');
  });

  test('who may not operate does not cut off who may, however the other way round', () => {
    const one = new Told(1, { controlsFrom: ['10.0.0.0/24'] });
    open('tcpServer', [one]);
    const [watcher, operator, other] = [new Caller('10.9.9.9'), new Caller('10.0.0.3'), new Caller('10.9.9.8')];
    watcher.say(1);
    operator.say(1);
    expect([watcher.did, operator.did]).toEqual([['ended'], []]);
    one.take();
    other.say(1);
    expect([other.did, operator.did]).toEqual([['ended'], []]);
    expect(one.take()).toEqual(['connection from 10.9.9.8:1 refused: 10.0.0.3:1 is connected, which may operate']);
    operator.hangUp();
    const later = new Caller('10.9.9.8');
    later.say(1);
    expect(later.did).toEqual([]);
  });

  test('who looks is told whenever somebody comes or goes', () => {
    const one = new Told(1);
    open('tcpServer', [one]);
    const caller = new Caller('10.0.0.3');
    expect(changes).toBe(0);
    caller.say(1);
    expect(changes).toBe(1);
    caller.say(1);
    expect(changes).toBe(1);
    link.hangUp(one);
    expect(changes).toBe(2);
    caller.hangUp();
    expect(changes).toBe(3);
  });

  test('one that is refused has none of what it said given to anybody', () => {
    most = { C1: 2 };
    const one = new Told(1);
    open('tcpServer', [one]);
    for (const address of ['10.0.0.3', '10.0.0.4', '10.0.0.5']) new Caller(address).say(40, 1);
    one.take();
    const fourth = new Caller('10.0.0.6');
    fourth.say(41);
    fourth.say(1);
    expect(one.take()).toEqual(['connection from 10.0.0.6:1 refused: 2 are connected already']);
  });

  test('what is sent goes to who is connected, and nowhere when nobody is', () => {
    const one = new Told(1);
    open('tcpServer', [one]);
    link.send(one, Uint8Array.of(7));
    const caller = new Caller('10.0.0.3');
    caller.say(1);
    link.send(one, Uint8Array.of(8));
    link.send(one, Uint8Array.of(9), 44);
    expect(caller.did).toEqual(['8']);
    caller.hangUp();
    link.send(one, Uint8Array.of(8));
    expect(caller.did).toEqual(['8']);
  });

  test('of one peer the newest connection counts, and the one before is ended', () => {
    const one = new Told(1);
    open('tcpServer', [one]);
    const [first, second] = [new Caller('10.0.0.3'), new Caller('10.0.0.3')];
    first.say(1);
    one.take();
    second.say(1);
    expect(one.take()).toEqual(['down 1', 'up 2 10.0.0.3:1 10.0.0.3', '2: 1']);
    expect([first.did, second.did]).toEqual([['ended'], []]);
    first.hangUp();
    expect(one.take()).toEqual([]);
    second.say(30);
    expect(one.take()).toEqual(['2: 30']);
  });

  describe('where all places are taken', () => {
    const come = (address: string): Caller => {
      const caller = new Caller(address);
      caller.say(1);
      return caller;
    };
    const ended = (...callers: Caller[]): boolean[] => callers.map(({ did }) => did.includes('ended'));

    test('the address that has the most gives one up, the one that has been silent longest', async () => {
      most = { C1: 3 };
      const one = new Told(1);
      open('tcpServer', [one]);
      const many = [1, 2, 3].map(() => come('10.0.0.3'));
      expect(many.every(({ isKnown }) => isKnown)).toBe(true);
      await pass(10);
      many[0].say(1);
      one.take();
      const other = come('10.0.0.4');
      expect(ended(...many, other)).toEqual([false, true, false, false]);
      expect(one.take()).toEqual([
        'connection from 10.0.0.3:1 ended: its place is needed for 10.0.0.4:1',
        ...['down 2', 'up 4 10.0.0.4:1 10.0.0.4', '4: 1'],
      ]);
      // Two to one is not more than its share.
      const third = come('10.0.0.4');
      expect(ended(...many, other, third)).toEqual([false, true, false, false, true]);
    });

    test('whoever has said nothing for a minute gives way', async () => {
      most = { C1: 2 };
      const one = new Told(1);
      open('tcpServer', [one]);
      const [idle, busy] = [come('10.0.0.3'), come('10.0.0.4')];
      await pass(59_999);
      busy.say(1);
      expect(ended(come('10.0.0.5'))).toEqual([true]);
      await pass(1);
      expect(ended(come('10.0.0.5'), idle, busy)).toEqual([false, true, false]);
    });

    test('a place is kept for whoever may operate, and for whom the list names by the address itself', () => {
      most = { C1: 2 };
      const one = new Told(1, {
        ...{ controls: true, allowFrom: ['10.0.0.0/16', '10.0.0.9'], controlsFrom: ['10.0.5.0/24'] },
      });
      open('tcpServer', [one]);
      const [first, second] = [come('10.0.0.3'), come('10.0.0.4')];
      const named = come('10.0.0.9');
      const operator = come('10.0.5.1');
      expect(ended(first, second, named, operator)).toEqual([true, true, false, false]);
      expect(ended(come('10.0.0.3'))).toEqual([true]);
      const another = come('10.0.5.2');
      expect(ended(named, operator, another)).toEqual([true, false, false]);
    });
  });

  test('of several each is served by its number, and one more than that is refused', () => {
    most = { C1: 2 };
    const one = new Told(1);
    open('tcpServer', [one]);
    const callers = ['10.0.0.3', '10.0.0.4', '10.0.0.5'].map((address) => new Caller(address));
    for (const caller of callers) caller.say(1);
    expect(one.take()).toEqual([
      ...['up 1 10.0.0.3:1 10.0.0.3', '1: 1', 'up 2 10.0.0.4:1 10.0.0.4', '2: 1'],
      'connection from 10.0.0.5:1 refused: 2 are connected already',
    ]);
    expect(callers[2].did).toEqual(['ended']);
    link.send(one, Uint8Array.of(8), 1);
    link.send(one, Uint8Array.of(9));
    expect(callers.slice(0, 2).map(({ did }) => did)).toEqual([['8'], ['9']]);
    link.hangUp(one, 1);
    expect(one.take()).toEqual(['down 1']);
    expect(callers[0].did).toEqual(['8', 'ended']);
    link.hangUp(one);
    link.hangUp(one);
    expect(one.take()).toEqual(['down 2']);
  });

  test('one that may not be its centre is refused and ended; what it is of somebody else stays', () => {
    const [one, two] = [new Told(1), new Told(2, { allowFrom: ['10.0.9.0/24'] })];
    open('tcpServer', [one, two]);
    const caller = new Caller('10.0.0.3');
    caller.say(2);
    expect(two.take()).toEqual(['connection from 10.0.0.3 refused: its network is not allowed']);
    expect(caller.did).toEqual(['ended']);
    const both = new Caller('10.0.0.4');
    both.say(1);
    both.say(2);
    expect(both.did).toEqual([]);
    expect(one.take()).toContain('2: 2');
  });

  test('with TLS the certificate has to be of the name that is wanted', () => {
    const one = new Told(1, { peerName: 'quillstone' });
    open('tcpServer', [one], { tls: { use: true } });
    const wrong = new Caller('10.0.0.3', ['other', 'another']);
    wrong.say(1);
    new Caller('10.0.0.3').say(1);
    new Caller('10.0.0.3', ['other', 'quillstone']).say(1);
    expect(one.take()).toEqual([
      'connection from 10.0.0.3 refused: its certificate is of other, another, not of quillstone',
      'connection from 10.0.0.3 refused: its certificate is of nobody, not of quillstone',
      'up 3 10.0.0.3:1 10.0.0.3',
      '3: 1',
    ]);
  });

  test('of what comes before anybody is known a kilo-octet is kept; where there is one alone it is told of the rest', () => {
    const one = new Told(1);
    open('tcpServer', [one]);
    const caller = new Caller('10.0.0.3');
    for (let piece = 0; piece < 4; piece++) caller.say(...new Array<number>(400).fill(50 + piece));
    expect(one.take().map((line) => line.slice(0, 5))).toEqual(['1: 50', '1: 51']);
    caller.hangUp();
    expect(one.take().map((line) => line.slice(0, 5))).toEqual(['1: 52', '1: 53']);
    link.add(new Told(2));
    const other = new Caller('10.0.0.3');
    other.say(50);
    other.hangUp();
    expect(one.take()).toEqual([]);
  });

  test('whose is nobody’s here belongs to nobody', () => {
    const one = new Told(1);
    open('tcpServer', [one]);
    const caller = new Caller('10.0.0.3');
    caller.say(7);
    expect([one.take(), caller.did]).toEqual([[], []]);
  });
});

describe('a way that is there by itself', () => {
  test('is a centre’s from its first frame until it is gone', () => {
    const [one, two] = [new Told(1), new Told(2)];
    open('serial', [one, two], { serialPort: '/dev/tty' });
    expect(theWay().did).toEqual(['open']);
    expect(link.problem).toBe('no connection');
    theWay().up();
    expect(link.problem).toBeNull();
    expect([one.take(), two.take()]).toEqual([[], []]);
    theWay().events.data(Uint8Array.of(1));
    expect(one.take()).toEqual(['up 1 /dev/tty null', '1: 1']);
    expect(theWay().did).toContain('useful');
    link.send(one, Uint8Array.of(6));
    expect(theWay().sent).toEqual([Uint8Array.of(6)]);
    theWay().down();
    expect(one.take()).toEqual(['down 1']);
    expect(link.state()).toMatchObject({ problem: 'lost', endpoint: 'somewhere' });
    theWay().events.data(Uint8Array.of(1));
    expect(one.take()).toEqual([]);
  });

  test('who has been silent for as long as the link allows is gone, and comes back with a frame', async () => {
    const one = new Told(1);
    open('serial', [one], { serialPort: '/dev/tty', calls: { lateAfterMs: LATE_MS } });
    theWay().up();
    theWay().events.data(Uint8Array.of(1));
    one.take();
    await pass(LATE_MS - 500);
    theWay().events.data(Uint8Array.of(1));
    one.take();
    await pass(LATE_MS);
    expect(one.take()).toEqual([]);
    await pass(500);
    expect(one.take()).toEqual(['down 1']);
    theWay().events.data(Uint8Array.of(1));
    expect(one.take()).toEqual(['up 1 /dev/tty null', '1: 1']);
  });

  test('without such a bound nobody is gone for being silent', async () => {
    const one = new Told(1);
    open('serial', [one], { serialPort: '/dev/tty' });
    theWay().up();
    theWay().events.data(Uint8Array.of(1));
    one.take();
    await pass(10 * LATE_MS);
    expect(one.take()).toEqual([]);
  });

  test('where its members speak first it is theirs as soon as it stands, also of one that comes later', () => {
    const [one, two] = [new Told(1), new Told(2)];
    open('tcpClient', [one], { host: '10.0.0.9' }, true);
    theWay().up();
    expect(one.take()).toEqual([expect.stringMatching(/^up 1 .*10\.0\.0\.9/)]);
    link.add(two);
    expect(two.take()).toHaveLength(1);
    link.remove(one);
    expect(one.take()).toEqual(['down 1']);
    theWay().events.data(Uint8Array.of(30));
    expect([one.take(), two.take()]).toEqual([[], ['1: 30']]);
  });

  test('a connection on which we speak first ends with the last session on it, or in words, and is called again at once only once it is of use', () => {
    const one = new Told(1);
    open('tcpClient', [one], { host: '10.0.0.9' }, true);
    theWay().up();
    link.hangUp(one, undefined, 'the password is wrong');
    expect(theWay().did.at(-1)).toBe('drop the password is wrong');
    theWay().up();
    link.useful();
    expect(theWay().did.at(-1)).toBe('useful');
    link.remove(one);
    expect(theWay().did.at(-1)).toBe('drop it is begun anew');
  });
});
