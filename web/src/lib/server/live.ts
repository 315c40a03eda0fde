import { codeSchema } from '@halvix/core/config';
import { CHANNELS, ENGINE_STALE_MS, trailSchema, type EngineRequest } from '@halvix/core/path';
import {
  commandById,
  draftVersion,
  hopStates,
  journalEntries,
  latestOf,
  listen,
  newestRevisionId,
  notify,
  probeById,
  standbys,
  trailOf,
} from '@halvix/db';
import { MAX_ASKED, MAX_ASKED_POINTS, numbersOf, type Asked, type Hops, type LiveMessage } from '../live/topics.ts';
import { commandView } from './commands.ts';
import { database } from './database.ts';
import { forgetModel } from './model.ts';
import { webSettings } from './settings.ts';

const SHORTEST_PAUSE_MS = 250;
/** Without an announcement: notices a stopped engine, and makes up for a lost notification. */
const LONGEST_PAUSE_MS = 1000;
const WATCH_EVERY_MS = 10_000;
const JOURNAL_LINES = 40;
const MAX_CLIENTS = 500;

interface Client {
  asked: Asked;
  /** What was sent last, part by part, as text. */
  sent: Map<string, string>;
  send: (message: LiveMessage) => void;
  /** Whether the browser keeps up; one that does not gets the newest later. */
  ready: () => boolean;
  /** Whose it is, and by which session (the hash of its token). */
  person: string;
  session: string;
  end: () => void;
}

/** Asks an engine for something; lost when none runs. */
export const ask = (request: EngineRequest): Promise<unknown> =>
  notify(database, CHANNELS.request, JSON.stringify(request));

/**
 * Fans live values out to browsers: one LISTEN for the whole process, one look at the database for all browsers
 * together, at most four times a second, and to each only what changed of what it has on screen.
 */
class LiveHub {
  private readonly clients = new Set<Client>();
  private listening = false;
  private timer: NodeJS.Timeout | null = null;
  private timerAt = 0;
  private last = 0;
  private looking = false;
  private lastWatch = 0;
  private hopsText = '';
  private lastHops: Hops | null = null;
  private databaseAway: number | null = null;
  private trouble: LiveMessage['trouble'] = null;

  get full(): boolean {
    return this.clients.size >= MAX_CLIENTS;
  }

  streamsOf(person: string): number {
    return [...this.clients].filter((client) => client.person === person).length;
  }

  /** Sessions that are over: their streams end at once. */
  endSessions(sessions: readonly string[]): void {
    for (const client of [...this.clients]) if (sessions.includes(client.session)) client.end();
  }

  add(client: Omit<Client, 'sent'>): () => void {
    const added: Client = { ...client, sent: new Map() };
    this.clients.add(added);
    this.lastWatch = 0;
    void this.listen();
    this.schedule(0);
    return () => this.clients.delete(added);
  }

  private async listen(): Promise<void> {
    if (this.listening) return;
    this.listening = true;
    const soon = (): void => this.schedule(this.last + SHORTEST_PAUSE_MS - Date.now());
    // It listens again by itself whenever the connection is lost; a revision may have been missed meanwhile.
    const renewed = { lost: forgetModel };
    const stop = await listen(
      webSettings.HALVIX_DATABASE_URL,
      'web listening',
      {
        [CHANNELS.live]: soon,
        [CHANNELS.draft]: soon,
        [CHANNELS.revision]: () => {
          forgetModel();
          this.schedule(0);
        },
      },
      renewed,
    );
    process.on('sveltekit:shutdown', () => void stop());
  }

  private schedule(wait: number): void {
    const at = Date.now() + Math.max(0, wait);
    if (this.looking || (this.timer !== null && this.timerAt <= at)) return;
    if (this.timer !== null) clearTimeout(this.timer);
    this.timerAt = at;
    this.timer = setTimeout(() => void this.look(), at - Date.now());
  }

  private async look(): Promise<void> {
    this.timer = null;
    if (this.clients.size === 0) return;
    this.looking = true;
    this.last = Date.now();
    try {
      await this.askForTrails();
      await this.tell();
      this.databaseAway = null;
      this.trouble = await troubleOf(this.lastHops);
    } catch {
      // The next look may succeed; until then the browsers are told why what they see grows old.
      this.databaseAway ??= Date.now();
      this.trouble = { what: 'database', since: this.databaseAway, words: 'The database does not answer' };
      this.tellTrouble();
    }
    this.looking = false;
    this.schedule(LONGEST_PAUSE_MS);
  }

  private tellTrouble(): void {
    for (const client of [...this.clients])
      if (client.ready()) client.send({ now: Date.now(), trouble: this.trouble ?? null });
  }

  private async askForTrails(): Promise<void> {
    if (this.last - this.lastWatch < WATCH_EVERY_MS) return;
    this.lastWatch = this.last;
    const watched = new Set([...this.clients].flatMap(({ asked }) => asked.trails));
    for (const pointId of watched) await ask({ type: 'watch', pointId });
    const links = new Set([...this.clients].flatMap(({ asked }) => asked.lanes));
    for (const link of links) await ask({ type: 'watchLink', link });
    const devices = new Set([...this.clients].flatMap(({ asked }) => asked.details));
    for (const device of devices) await ask({ type: 'watchDevice', device });
  }

  private async tell(): Promise<void> {
    const clients = [...this.clients];
    const ids = new Set(clients.flatMap(({ asked }) => asked.points));
    const [readings, states] = [await latestOf(database, [...ids]), await hopStates(database)];
    const hops = hopsOf(states, await standbys(database, STANDBY_SEEN_MS));
    this.lastHops = hops;
    this.hopsText = JSON.stringify(hops);
    const journal = clients.some(({ asked }) => asked.journal) ? await journalEntries(database, JOURNAL_LINES) : [];
    const [draft, revision] = [await draftVersion(database), await newestRevisionId(database)];
    const probes = await eachOf(
      clients.flatMap(({ asked }) => asked.probes),
      (id) => probeById(database, id),
    );
    const trails = await eachOf(
      clients.flatMap(({ asked }) => asked.trails),
      (id) => trailOf(database, id),
    );
    const commands = await eachOf(
      clients.flatMap(({ asked }) => asked.commands),
      (id) => commandById(database, id),
    );
    for (const client of clients) {
      if (client.ready())
        this.tellOne(client, { readings, states, hops, journal, draft, revision, probes, trails, commands });
    }
  }

  private tellOne(client: Client, known: Known): void {
    const { readings, states, hops, journal, draft, revision, probes, trails, commands } = known;
    const { asked } = client;
    const message: LiveMessage = { now: Date.now(), trouble: this.trouble ?? null };
    const points: NonNullable<LiveMessage['points']> = {};
    for (const id of asked.points) {
      const reading = readings.get(id);
      if (reading && isNew(client, `point ${id}`, JSON.stringify(reading))) points[id] = reading;
    }
    if (Object.keys(points).length > 0) message.points = points;
    if (isNew(client, 'hops', this.hopsText)) message.hops = hops;
    if (asked.journal && isNew(client, 'journal', String(journal[0]?.id))) message.journal = journal;
    message.trails = newOf(client, 'trail', asked.trails, (id) => {
      const trail = trails.get(id) ?? null;
      return [JSON.stringify(trail), () => trail && trailSchema.parse(trail)];
    });
    message.commands = newOf(client, 'command', asked.commands, (id) => {
      const command = commands.get(id) ?? null;
      return [JSON.stringify(command), () => command && commandView(command)];
    });
    message.probes = newOf(client, 'probe', asked.probes, (id) => {
      const probe = probes.get(id) ?? null;
      return [JSON.stringify(probe), () => probe && { id: probe.id, state: probe.state, result: probe.result }];
    });
    message.lanes = newOf(client, 'lane', asked.lanes, (code) => {
      const lane = states.lane.get(code)?.state ?? null;
      return [`${lane?.at}`, () => lane];
    });
    message.details = newOf(client, 'detail', asked.details, (code) => {
      const detail = states.detail.get(code)?.state ?? null;
      return [`${detail?.at}`, () => detail];
    });
    if (isNew(client, 'draft', String(draft))) message.draft = draft;
    if (isNew(client, 'revision', String(revision))) message.revision = revision;
    try {
      client.send(message);
    } catch {
      // One browser's stream that is broken is no reason to leave the others without theirs.
      client.end();
    }
  }
}

interface Known {
  readings: Awaited<ReturnType<typeof latestOf>>;
  states: Awaited<ReturnType<typeof hopStates>>;
  hops: Hops;
  journal: Awaited<ReturnType<typeof journalEntries>>;
  draft: number;
  revision: number | null;
  probes: ReadonlyMap<string, Awaited<ReturnType<typeof probeById>>>;
  trails: ReadonlyMap<number, Awaited<ReturnType<typeof trailOf>>>;
  commands: ReadonlyMap<string, Awaited<ReturnType<typeof commandById>>>;
}

/** Each once, whoever asked. */
async function eachOf<Key, Found>(keys: readonly Key[], find: (key: Key) => Promise<Found>): Promise<Map<Key, Found>> {
  const found = new Map<Key, Found>();
  for (const key of new Set(keys)) found.set(key, await find(key));
  return found;
}

/** What of the kind is new to this browser; undefined: nothing. */
function newOf<Key extends string | number, Shown>(
  client: Client,
  kind: string,
  keys: readonly Key[],
  of: (key: Key) => [text: string, show: () => Shown],
): Record<Key, Shown> | undefined {
  const shown: [Key, Shown][] = [];
  for (const key of keys) {
    const [text, show] = of(key);
    if (isNew(client, `${kind} ${key}`, text)) shown.push([key, show()]);
  }
  return shown.length > 0 ? (Object.fromEntries(shown) as Record<Key, Shown>) : undefined;
}

function isNew(client: Client, part: string, text: string): boolean {
  if (client.sent.get(part) === text) return false;
  client.sent.set(part, text);
  return true;
}

export const readHops = async (): Promise<Hops> =>
  hopsOf(await hopStates(database), await standbys(database, STANDBY_SEEN_MS));

const STANDBY_SEEN_MS = 30_000;
const HEALTH_WAIT_MS = 800;

/** An engine that writes nothing may run all the same: it is asked itself. */
async function troubleOf(hops: Hops | null): Promise<LiveMessage['trouble']> {
  const engines = Object.values(hops?.engines ?? {});
  const newest = engines.reduce((latest, { updated }) => Math.max(latest, updated), 0);
  if (engines.length === 0 || Date.now() - newest < ENGINE_STALE_MS) return null;
  try {
    const answer = await fetch(webSettings.HALVIX_ENGINE_URL + '/healthz', {
      signal: AbortSignal.timeout(HEALTH_WAIT_MS),
    });
    const health = (await answer.json()) as { state?: string; problem?: string | null };
    if (health.state !== 'degraded' && health.state !== 'running') return null;
    return {
      what: 'writing',
      since: newest,
      words: `The engine runs but cannot write: ${health.problem ?? 'it does not say why'}`,
    };
  } catch {
    return null;
  }
}

function hopsOf(states: Awaited<ReturnType<typeof hopStates>>, standingBy: string[]): Hops {
  const plain = <State>(from: Map<string, { state: State }>): Record<string, State> =>
    Object.fromEntries([...from].map(([code, { state }]) => [code, state]));
  return {
    links: plain(states.link),
    devices: plain(states.device),
    outbounds: plain(states.outbound),
    standbys: standingBy,
    engines: Object.fromEntries([...states.engine].map(([code, { state, updated }]) => [code, { ...state, updated }])),
  };
}

/** As the database takes it; anything else would fail the look for everybody. */
const isUuid = (text: string): boolean => /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/.test(text);

/** What a browser asks for; whatever is not well-formed is left out. */
export function askedFromQuery(query: URLSearchParams): Asked {
  const some = (name: string, good: (text: string) => boolean): string[] =>
    (query.get(name) ?? '').split(',').filter(good).slice(0, MAX_ASKED);
  return {
    points: numbersOf(query.get('points') ?? '', MAX_ASKED_POINTS),
    journal: query.get('journal') === '1',
    trails: numbersOf(query.get('trail') ?? '', MAX_ASKED),
    commands: some('command', isUuid),
    probes: some('probe', isUuid),
    lanes: some('lane', (text) => codeSchema.safeParse(text).success),
    details: some('detail', (text) => codeSchema.safeParse(text.replace(/^to /, '')).success),
  };
}

export const liveHub = new LiveHub();
