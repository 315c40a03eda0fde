import type { Wish } from '../../line/index.ts';
import type { Instant } from '../../session/index.ts';
import type { Client, ClientCommand, ClientNews, ClientOptions, ClientPoint, DetailTable } from '../client.ts';
import type { ControlOrder } from '../control.ts';
import type { GuestCommand } from '../conversation.ts';
import type { Counters } from '../counterset.ts';
import { Presence } from '../polling/presence.ts';
import { WaitingControls } from '../polling/waitingcontrols.ts';
import { MmsClient, type Answer, type MmsClientEffect, type MmsClientSettings, type Told } from './client.ts';
import { MessageLog } from './messagelog.ts';
import { Within } from './within.ts';
import type { ServiceName, Services } from './wire/services.ts';

/*
 * Our side towards one server of MMS, whatever is asked of it: the life of its association. It has its connection for
 * itself: what it sends needs no turn.
 *
 * state        what happens                                       becomes      and then
 * -----------  -------------------------------------------------  -----------  --------------------------------------
 * down         the connection is there                            associating  the association is asked for
 * associating  it is made                                         exploring    what has to be known first is asked for
 * exploring    all is answered (`explored`)                       running
 * any          refused, aborted, three requests unanswered        down         silent; the connection is hung up
 * any          the connection is lost                             down         silent once it is away too long
 *
 * A server that has said nothing for half of `keepAliveMs` is asked whether it is there, and is gone when it has said nothing
 * for all of it.
 *
 * A control that comes while the association is made, or made anew, waits for it as long as the control lives; not while the
 * server is silent.
 */

/** What every session of this kind counts. */
export type BaseCounter =
  'associations' | 'requests' | 'responses' | 'errors' | 'timeouts' | 'octetsSent' | 'octetsReceived' | 'odd';

/** What is known while an association stands; `Own`: what its protocol knows. */
export type Associated<Own> = Own & {
  client: MmsClient;
  /** Points that cannot be had, by their numbers, and why. */
  unreadable: Map<number, string>;
  lastHeard: Instant;
  /** Whether the server is being asked if it is there. */
  asking: boolean;
  counted: { requests: number; responses: number; errors: number; timeouts: number };
};

export interface SessionSettings {
  association: MmsClientSettings;
  keepAliveMs: number;
}

/** Messages for a guest that come before it knows of the association, at most. */
const MOST_EARLY = 20;
/** Of a message where nothing was agreed on. */
const MOST_OCTETS = 65_000;

export abstract class ClientSession<Place, Order, Own extends object, Name extends string> implements Client<
  Place,
  Order,
  Uint8Array
> {
  readonly share = 1;
  readonly holdsLine = false;
  readonly nextIntegrity: Instant | null = null;
  readonly learned = null;
  protected effects: (ClientNews | { type: 'send'; octets: Uint8Array })[] = [];
  protected state: 'down' | 'associating' | 'exploring' | 'running' = 'down';
  protected standing: Associated<Own> | null = null;
  protected points: readonly ClientPoint<Place>[];
  protected roundTripMs = 0;
  private readonly presence: Presence;
  private readonly waiting = new WaitingControls<ControlOrder<Place>>((id, step) =>
    this.effects.push({ type: 'control', id, ...step }),
  );
  private readonly notes = new Set<string>();
  private readonly log = new MessageLog();
  private told = '';
  /** Whether somebody is a guest of our associations, and knows that this one stands. */
  private hasGuest = false;
  private guestKnows = false;
  /** What was for the guest before it knew. */
  private early: Uint8Array[] = [];

  constructor(
    private readonly session: SessionSettings,
    readonly counters: Counters<Name | BaseCounter>,
    now: Instant,
    private readonly options: ClientOptions<Place>,
  ) {
    this.points = options.points;
    const patienceMs = Math.min(session.association.timeoutMs, session.keepAliveMs);
    this.presence = new Presence(now, () => options.absenceMs ?? patienceMs);
  }

  // ---- what a protocol has of its own

  abstract readonly keep: Uint8Array;
  abstract get atRest(): boolean;
  abstract get indications(): string[];
  abstract get details(): readonly DetailTable[];
  /** For an association that is about to be asked for. */
  protected abstract own(client: MmsClient): Own;
  /** It is made: what has to be known is asked for; `explored` when it is. */
  protected abstract explore(standing: Associated<Own>, now: Instant): void;
  protected abstract onTold(told: Told, now: Instant): void;
  /** Whether it stands or not. */
  protected abstract readonly ownDeadline: Instant;
  protected abstract wakeOwn(now: Instant): void;
  /** While it runs. */
  protected abstract runningDeadline(standing: Associated<Own>): Instant;
  protected abstract wakeRunning(standing: Associated<Own>, now: Instant): void;
  /** The association is gone. */
  protected abstract lost(): void;
  abstract command(command: ClientCommand<Place, Order>, now: Instant): void;
  /** The association runs, and the control is in time. */
  protected abstract operate(control: ControlOrder<Place>, standing: Associated<Own>, now: Instant): void;

  // ---- the line

  start(now: Instant): void {
    this.end(now);
    this.state = 'associating';
    const { within } = this.options;
    const { association } = this.session;
    const client = new MmsClient(
      association,
      (told, at) => this.onTold(told, at),
      ...(within === undefined ? [] : [new Within(within())]),
    );
    client.log = this.log;
    // The peer may ask in the same breath in which it takes the association.
    if (this.hasGuest) client.guest = (octets) => this.handToGuest(octets);
    this.early = [];
    this.standing = {
      ...this.own(client),
      ...{ client, unreadable: new Map<number, string>() },
      ...{ lastHeard: now, asking: false, counted: { requests: 0, responses: 0, errors: 0, timeouts: 0 } },
    };
    client.start(now);
    this.collect(now);
  }

  stop(now: Instant): void {
    if (this.state === 'down') return;
    this.end(now);
    this.presence.linkLost(now);
  }

  /** Nothing of this association is left. */
  private end(now: Instant): void {
    const { standing } = this;
    this.state = 'down';
    this.standing = null;
    if (standing === null) return;
    standing.client.lost(now);
    this.lost();
    if (this.guestKnows) this.effects.push({ type: 'guest', what: 'ends' });
    this.guestKnows = false;
  }

  octetsArrive(): void {
    // There is no line whose time would have to be kept.
  }
  strangerHeard(): void {
    // Nobody else is on this connection.
  }
  wants(): Wish | null {
    return null;
  }
  grant(): void {
    // It never asks for the line.
  }
  owns(): boolean {
    return true;
  }

  receiveEvent(octets: Uint8Array, now: Instant): void {
    const { standing } = this;
    if (standing === null) return;
    standing.lastHeard = now;
    this.counters.add('octetsReceived', octets.length);
    standing.client.receive(octets, now);
    this.collect(now);
  }

  wake(now: Instant): void {
    const { standing } = this;
    this.waiting.expire(now);
    if (standing === null) {
      const { givenUpAt } = this.presence;
      if (givenUpAt !== null && now >= givenUpAt) this.becomeSilent('no connection', now);
      return;
    }
    standing.client.wake(now);
    this.wakeOwn(now);
    this.collect(now);
    if (this.standing !== standing || this.state !== 'running') return;
    this.wakeRunning(standing, now);
    if (standing.asking && now >= standing.lastHeard + this.session.keepAliveMs)
      standing.client.abort(`it has said nothing for ${this.session.keepAliveMs} ms`, now);
    else if (!standing.asking && standing.client.atRest && now >= this.askAt(standing)) {
      standing.asking = true;
      this.ask(standing, 'status', { extended: false }, now, () => (standing.asking = false));
    }
    this.collect(now);
  }

  private askAt({ lastHeard }: Associated<Own>): Instant {
    return lastHeard + this.session.keepAliveMs / 2;
  }

  get deadline(): Instant | null {
    const { standing } = this;
    const { nextExpiry } = this.waiting;
    if (standing === null) {
      const earliest = Math.min(this.presence.givenUpAt ?? Infinity, nextExpiry);
      return earliest === Infinity ? null : earliest;
    }
    const times = [standing.client.deadline ?? Infinity, this.ownDeadline, nextExpiry];
    if (this.state === 'running') {
      times.push(this.runningDeadline(standing));
      if (standing.asking) times.push(standing.lastHeard + this.session.keepAliveMs);
      else if (standing.client.atRest) times.push(this.askAt(standing));
    }
    const earliest = Math.min(...times);
    return earliest === Infinity ? null : earliest;
  }

  take(): (ClientNews | { type: 'send'; octets: Uint8Array })[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  /** Once in an association. */
  protected note(words: string): void {
    if (this.notes.has(words)) return;
    this.notes.add(words);
    this.effects.push({ type: 'noted', words });
  }

  // ---- the association

  protected collect(now: Instant): void {
    const { standing } = this;
    if (standing === null) return;
    this.count(standing);
    // What comes of an effect may have more of them.
    for (let effects = standing.client.take(); effects.length > 0; effects = standing.client.take())
      for (const effect of effects) this.onEffect(effect, standing, now);
  }

  private onEffect(effect: MmsClientEffect, standing: Associated<Own>, now: Instant): void {
    switch (effect.type) {
      case 'send':
        this.counters.add('octetsSent', effect.octets.length);
        this.effects.push(effect);
        break;
      case 'open':
        this.counters.add('associations');
        this.state = 'exploring';
        this.tellGuest(standing);
        this.explore(standing, now);
        break;
      case 'odd':
        this.counters.add('odd');
        this.note(`not expected: ${effect.words}`);
        break;
      case 'closed':
        this.onClosed(effect.words, now);
        break;
      default:
        effect satisfies never;
    }
  }

  // ---- a guest

  protected onGuest(command: GuestCommand, now: Instant): void {
    const { standing } = this;
    if (command.what === 'says') return standing?.client.pass(command.octets, now);
    this.hasGuest = command.what === 'comes';
    if (this.hasGuest && standing !== null) {
      standing.client.guest = (octets) => this.handToGuest(octets);
      return this.tellGuest(standing);
    }
    if (standing !== null) standing.client.guest = null;
    this.guestKnows = false;
  }

  private tellGuest({ client }: Associated<Own>): void {
    const { agreement } = client;
    if (!this.hasGuest || this.guestKnows || agreement === null) return;
    this.guestKnows = true;
    const terms = { octets: agreement.size ?? MOST_OCTETS, requests: agreement.calling };
    this.effects.push({ type: 'guest', what: 'begins', terms });
    for (const octets of this.early.splice(0)) this.handToGuest(octets);
  }

  /** Returns whether there is one. */
  protected handToGuest(octets: Uint8Array): boolean {
    if (this.guestKnows) this.effects.push({ type: 'guest', what: 'hears', octets });
    else if (this.hasGuest && this.early.length < MOST_EARLY) this.early.push(octets);
    return this.hasGuest;
  }

  /** What the association has counted since the last look. */
  private count({ client: { counts }, counted }: Associated<Own>): void {
    for (const name of ['requests', 'responses', 'errors', 'timeouts'] as const) {
      this.counters.add(name, counts[name] - counted[name]);
      counted[name] = counts[name];
    }
  }

  private onClosed(words: string, now: Instant): void {
    this.end(now);
    this.becomeSilent(words, now);
    // The connection may stand, and is good for nothing.
    this.effects.push({ type: 'hangUp', words });
  }

  private becomeSilent(words: string, now: Instant): void {
    // It is asked again by its connection, which is made again.
    if (!this.presence.giveUp(now, 0)) return;
    this.notes.clear();
    this.waiting.failAll(words);
    this.effects.push({ type: 'communication', state: 'silent', words });
  }

  /** Carries out a control, now or as soon as the association stands. */
  protected control(control: ControlOrder<Place>, now: Instant): void {
    if (this.standing !== null && this.state === 'running' && now < control.expiresAt)
      this.operate(control, this.standing, now);
    else this.waiting.add(control, this.presence.refuses, now);
  }

  /** What had to be known is known. */
  protected explored(now: Instant): void {
    this.state = 'running';
    if (this.presence.answered() !== 'answering')
      this.effects.push({ type: 'communication', state: 'answering', words: 'associated' });
    this.answered();
    this.waiting.expire(now);
    for (let next = this.waiting.first; next !== undefined && this.standing !== null; next = this.waiting.first) {
      this.waiting.take(next);
      this.operate(next, this.standing, now);
    }
  }

  protected answered(): void {
    this.effects.push({ type: 'answered', roundTripMs: this.roundTripMs });
  }

  protected ask<Service extends ServiceName>(
    standing: Associated<Own>,
    service: Service,
    request: Services[Service]['request'],
    now: Instant,
    done: (answer: Answer<Service>, now: Instant, octets: Uint8Array | null) => void,
  ): void {
    standing.client.ask(
      service,
      request,
      (answer, at, octets) => {
        if (answer.ok) {
          this.roundTripMs = at - now;
          this.answered();
        }
        if (this.standing === standing) done(answer, at, octets);
      },
      now,
    );
  }

  /** What was said lately, in both directions; over associations that are gone too. */
  protected get messageTable(): DetailTable {
    return this.log.table;
  }

  // ---- what cannot be had

  protected refuse(standing: Associated<Own>, points: readonly number[], words: string): void {
    const isNews = points.some((id) => standing.unreadable.get(id) !== words);
    for (const id of points) standing.unreadable.set(id, words);
    if (isNews) this.tellUnreadable(standing, words);
  }

  protected tellUnreadable(standing: Associated<Own>, words?: string): void {
    const points = [...standing.unreadable.keys()];
    const all = [...new Set(standing.unreadable.values())];
    const few = words ?? all.slice(0, 5).join('; ') + (all.length > 5 ? ` and ${all.length - 5} more` : '');
    const key = `${points.join(',')} ${few}`;
    if (key === this.told) return;
    this.told = key;
    this.effects.push({ type: 'unreadable', points, words: few });
  }
}
