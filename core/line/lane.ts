import type { Instant, Session } from '../session/index.ts';
import { Priority, type Framing, type Party, type Wish } from './party.ts';
import { octetMs, type LineTiming } from './timing.ts';

/*
 * The queue of a line that several devices share.
 *
 * Rules:
 *  1. One party holds the line at a time: from its request until its answer has come or its time-out has passed. While
 *     an answer waits for its commit the line is free for others; the confirm takes a turn of its own.
 *  2. Whose turn is next: the most urgent wish (control, confirm, events, integrity, background); among equals the
 *     device that had the least of the line so far, weighed by its share. A wish below events that has waited for
 *     `AGEING_MS` counts one step more urgent, so that nothing waits for ever.
 *  3. A device that begins anew after a rest does not get the time it did not use.
 *  4. Frames go to the party of the device that sent them. Checksum errors and garbage count for the one that holds
 *     the line, otherwise for the line.
 *  5. What is sent after something else of ours follows it on the line without a gap. On a radio the transmitter is
 *     keyed, and `keyUpMs` later the octets go; after the last one it is let go `keyDownMs` later. After octets that are
 *     not for us the line rests for `quietMs`, after any for as long as the framing wants.
 */

export interface LaneCommand<Command> {
  device: string;
  command: Command;
}

export type LaneEffect<Effect> =
  | { type: 'send'; octets: Uint8Array; device: string }
  /** The transmitter's key. */
  | { type: 'key'; on: boolean }
  | { type: 'device'; device: string; effect: Effect }
  | { type: 'turn'; turn: Turn };

/** One device's time on the line. */
export interface Turn {
  device: string;
  words: string;
  began: Instant;
  ended: Instant;
  /** Spent waiting for the other end, without octets on the line. */
  waitingMs: number;
  sendingMs: number;
  receivingMs: number;
  outcome: 'answered' | 'silent' | 'sent';
}

interface Member<P> {
  device: string;
  party: P;
  /** The line time it has had, weighed by its share, milliseconds. */
  used: number;
  polls: Cycles;
  turns: number;
  silentTurns: number;
}

const MOST_POLLS = 256;

/** How often each of the polls of a device is made, by its words. */
class Cycles {
  private readonly polls = new Map<string, { last: Instant; everyMs: number | null }>();

  begins(words: string, now: Instant): void {
    const known = this.polls.get(words);
    if (known === undefined && this.polls.size >= MOST_POLLS) this.polls.clear();
    this.polls.set(words, { last: now, everyMs: known === undefined ? null : now - known.last });
  }

  get isEmpty(): boolean {
    return this.polls.size === 0;
  }

  /** Of the one that is made most often; null: none has been made twice. */
  get shortestMs(): number | null {
    let shortest = Infinity;
    for (const { everyMs } of this.polls.values()) shortest = Math.min(shortest, everyMs ?? Infinity);
    return shortest === Infinity ? null : shortest;
  }
}

/** Line time of each device since `since`, for the screen. */
export interface LaneNumbers {
  since: Instant;
  turns: number;
  sendingMs: number;
  receivingMs: number;
  waitingMs: number;
  turningMs: number;
  otherFrames: number;
  badFrames: number;
  devices: Record<string, { cycleMs: number | null; turns: number; silentTurns: number; lineMs: number }>;
}

const AGEING_MS = 10_000;
const NO_EFFECTS = Object.freeze<never[]>([]) as never[];

/** One line; `Effect` is what a party brings about beside octets, `Event` what the framing makes of those that come. */
export class Lane<Command, Effect extends { type: string }, Event> implements Session<
  LaneCommand<Command>,
  LaneEffect<Effect>
> {
  private readonly members = new Map<string, Member<Party<Command, Effect, Event>>>();
  /** The same, in the order in which they came: gone through for each octet that comes. */
  private inOrder: Member<Party<Command, Effect, Event>>[] = [];
  private effects: LaneEffect<Effect>[] = [];
  private out: { device: string; octets: Uint8Array }[] = [];
  private up = false;
  private holder: Member<Party<Command, Effect, Event>> | null = null;
  private turn: Turn | null = null;
  /** The line is ours to send on from then on. */
  private freeAt: Instant = 0;
  /** Our own octets are on the line until then; more of ours may follow them without a gap. */
  private sendingUntil: Instant = 0;
  /** The transmitter is keyed: since when octets may go, and until when it stays. */
  private key: { readyAt: Instant; offAt: Instant | null } | null = null;
  private wakeAt: Instant | null = null;
  private totals = { turns: 0, sendingMs: 0, receivingMs: 0, waitingMs: 0, turningMs: 0, otherFrames: 0, badFrames: 0 };
  private since: Instant;
  /** The time as fine as it was told: silences are kept by it. Parties live by whole milliseconds. */
  private fine: Instant;
  readonly isFine = true;

  constructor(
    readonly timing: LineTiming,
    private readonly framing: Framing<Event>,
    now: Instant,
  ) {
    this.since = this.fine = now;
  }

  /** Takes the time; returns it in whole milliseconds. */
  private tell(now: Instant): Instant {
    this.fine = now;
    return Math.floor(now);
  }

  get devices(): string[] {
    return [...this.members.keys()];
  }

  /** The party of a device; no other on this line owns what comes for it. */
  add(device: string, party: Party<Command, Effect, Event>, at: Instant): void {
    const now = this.tell(at);
    const member = {
      device,
      party,
      used: this.leastUsed(),
      polls: new Cycles(),
      turns: 0,
      silentTurns: 0,
    };
    this.members.set(device, member);
    this.inOrder = [...this.members.values()];
    if (this.up) party.start(now);
    this.run(now);
  }

  remove(device: string, at: Instant): void {
    const member = this.members.get(device);
    if (member === undefined) return;
    const now = this.tell(at);
    member.party.stop(now);
    this.collect(member);
    this.members.delete(device);
    this.inOrder = [...this.members.values()];
    if (this.holder === member) this.endTurn(now);
    this.run(now);
  }

  private leastUsed(): number {
    const used = [...this.members.values()].map((member) => member.used);
    return used.length > 0 ? Math.min(...used) : 0;
  }

  start(at: Instant): void {
    const now = this.tell(at);
    this.up = true;
    this.framing.reset();
    this.freeAt = this.sendingUntil = this.fine;
    for (const { party } of this.inOrder) party.start(now);
    this.run(now);
  }

  stop(at: Instant): void {
    if (!this.up) return;
    const now = this.tell(at);
    this.up = false;
    if (this.key !== null) this.effects.push({ type: 'key', on: false });
    this.key = null;
    this.turn = null;
    this.holder = null;
    this.out = [];
    for (const { party } of this.inOrder) party.stop(now);
    this.run(now);
  }

  receive(bytes: Uint8Array, at: Instant): void {
    if (!this.up) return;
    const now = this.tell(at);
    const { holder } = this;
    const took = bytes.length * octetMs(this.timing);
    holder?.party.octetsArrive(now);
    if (this.turn !== null) this.turn.receivingMs += took;
    for (const event of this.framing.push(bytes, now)) {
      if (!this.framing.isFrame(event)) {
        this.totals.badFrames++;
        holder?.party.receiveEvent(event, now);
        continue;
      }
      const member = this.memberOf(event);
      if (member !== undefined) member.party.receiveEvent(event, now);
      else {
        this.totals.otherFrames++;
        // Where one device alone is asked, whoever answers is meant to be it.
        holder?.party.strangerHeard(event);
        this.freeAt = Math.max(this.freeAt, this.fine + this.timing.quietMs);
      }
    }
    // The other end lets its transmitter go before ours may be keyed, and frames keep their distance.
    const rest = Math.max(this.timing.keyDownMs, this.framing.gapMs);
    if (rest > 0) this.freeAt = Math.max(this.freeAt, this.fine + rest);
    this.run(now);
  }

  private memberOf(event: Event): Member<Party<Command, Effect, Event>> | undefined {
    for (const member of this.inOrder) if (member.party.owns(event)) return member;
    return undefined;
  }

  command({ device, command }: LaneCommand<Command>, at: Instant): void {
    const now = this.tell(at);
    this.members.get(device)?.party.command(command, now);
    this.run(now);
  }

  wake(at: Instant): void {
    this.run(this.tell(at));
  }

  get deadline(): Instant | null {
    return this.wakeAt;
  }

  take(): LaneEffect<Effect>[] {
    const { effects } = this;
    if (effects.length === 0) return NO_EFFECTS;
    this.effects = [];
    return effects;
  }

  numbers(): LaneNumbers {
    const devices = Object.fromEntries(
      [...this.members.values()].map(({ device, polls, turns, silentTurns, used, party }) => [
        device,
        { cycleMs: polls.shortestMs, turns, silentTurns, lineMs: Math.round(used * party.share) },
      ]),
    );
    return { since: this.since, ...this.totals, devices };
  }

  /** Who waits for the line now, the most urgent first. */
  queue(now: Instant): { device: string; words: string; since: Instant }[] {
    return this.inOrder
      .flatMap((member) => this.candidate(member, now) ?? [])
      .sort(byUrgency)
      .map(({ member, wish }) => ({ device: member.device, words: wish.words, since: wish.since }));
  }

  // ---- whose turn it is

  private run(now: Instant): void {
    for (const member of this.inOrder) {
      const at = member.party.deadline;
      if (at !== null && now >= at) member.party.wake(now);
      this.collect(member);
    }
    if (this.holder !== null && !this.holder.party.holdsLine) this.endTurn(now);
    this.flush();
    if (this.up) this.assign(now);
    this.letGo(now);
    this.wakeAt = this.nextWake(now);
  }

  /** Gives the line to whoever is next, as long as it is free. */
  private assign(now: Instant): void {
    for (;;) {
      if (this.holder !== null) {
        // The holder's own confirm belongs to the exchange that it holds the line for.
        if (this.holder.party.wants(now)?.priority !== Priority.confirm) return;
        this.transmit(this.holder, now);
        continue;
      }
      if (this.fine < this.freeAt || this.out.length > 0) return;
      const next = this.mostUrgent(now);
      if (next === null) return;
      if (!this.isKeyed()) return;
      const { member, wish } = next;
      this.beginTurn(member, wish, now);
      this.transmit(member, now);
      if (!member.party.holdsLine) this.endTurn(now);
    }
  }

  /** What a member wants of the line, and how urgent that is; null: nothing. */
  private candidate(member: Member<Party<Command, Effect, Event>>, now: Instant): Candidate<typeof member> | null {
    const wish = member.party.wants(now);
    if (wish === null) return null;
    const aged = Math.floor((now - wish.since) / AGEING_MS);
    const urgency = wish.priority > Priority.events ? Math.max(Priority.events, wish.priority - aged) : wish.priority;
    return { member, wish, urgency };
  }

  private mostUrgent(now: Instant): Candidate<Member<Party<Command, Effect, Event>>> | null {
    let first: Candidate<Member<Party<Command, Effect, Event>>> | null = null;
    for (const member of this.inOrder) {
      const candidate = this.candidate(member, now);
      if (candidate !== null && (first === null || byUrgency(candidate, first) < 0)) first = candidate;
    }
    return first;
  }

  private beginTurn(
    member: Member<Party<Command, Effect, Event>>,
    { words, priority }: { words: string; priority: number },
    now: Instant,
  ): void {
    this.holder = member;
    // Whoever rested begins where the others are.
    member.used = Math.max(member.used, this.leastUsedOfOthers(member));
    if (priority === Priority.events || priority === Priority.integrity) {
      member.polls.begins(words, now);
    }
    this.turn = {
      device: member.device,
      words,
      began: now,
      ended: now,
      waitingMs: 0,
      sendingMs: 0,
      receivingMs: 0,
      outcome: 'sent',
    };
  }

  private leastUsedOfOthers(member: Member<Party<Command, Effect, Event>>): number {
    let least = Infinity;
    for (const other of this.inOrder) if (other !== member && !other.polls.isEmpty) least = Math.min(least, other.used);
    return least === Infinity ? 0 : least - MOST_ARREARS_MS;
  }

  private transmit(member: Member<Party<Command, Effect, Event>>, now: Instant): void {
    member.party.grant(now, Math.max(this.fine, this.sendingUntil));
    this.collect(member);
    if (this.turn !== null && member.party.holdsLine) this.turn.outcome = 'silent';
  }

  private endTurn(now: Instant): void {
    const { holder, turn } = this;
    this.holder = null;
    this.turn = null;
    if (holder === null || turn === null) return;
    const ended = Math.max(now, turn.outcome === 'sent' ? Math.floor(this.sendingUntil) : now);
    turn.ended = ended;
    const took = Math.max(0, ended - turn.began);
    turn.waitingMs = Math.max(0, took - turn.sendingMs - turn.receivingMs);
    // Waiting for a device that does not answer is not its use of the line: it is found silent no later for that.
    holder.used += (turn.outcome === 'silent' ? turn.sendingMs : took) / holder.party.share;
    holder.turns++;
    if (turn.outcome === 'silent') holder.silentTurns++;
    this.totals.turns++;
    this.totals.sendingMs += turn.sendingMs;
    this.totals.receivingMs += turn.receivingMs;
    this.totals.waitingMs += turn.waitingMs;
    this.effects.push({ type: 'turn', turn });
  }

  // ---- the line itself

  /** Passes on what a party brought about; its octets go out as soon as the line is ours. */
  private collect(member: Member<Party<Command, Effect, Event>>): void {
    for (const effect of member.party.take()) {
      if (isSend(effect)) this.out.push({ device: member.device, octets: effect.octets });
      else {
        if (effect.type === 'answered' && this.turn?.device === member.device) this.turn.outcome = 'answered';
        this.effects.push({ type: 'device', device: member.device, effect });
      }
    }
    this.flush();
  }

  /** Sends what waits, as soon as the line is ours. */
  private flush(): void {
    while (this.out.length > 0 && this.fine >= this.freeAt && this.isKeyed()) {
      const sent = this.out.shift();
      if (sent === undefined) return;
      const { device, octets } = sent;
      const took = octets.length * octetMs(this.timing);
      this.sendingUntil = Math.max(this.fine, this.sendingUntil) + took;
      if (this.key !== null) this.key.offAt = this.sendingUntil + this.timing.keyDownMs;
      if (this.turn !== null) this.turn.sendingMs += took;
      this.effects.push({ type: 'send', octets, device });
    }
  }

  /** Keys the transmitter when there is one; true once octets may go. */
  private isKeyed(): boolean {
    if (this.timing.keyUpMs === 0) return true;
    if (this.key === null) {
      this.key = { readyAt: this.fine + this.timing.keyUpMs, offAt: null };
      this.totals.turningMs += this.timing.keyUpMs + this.timing.keyDownMs;
      this.effects.push({ type: 'key', on: true });
    }
    return this.fine >= this.key.readyAt;
  }

  private letGo(now: Instant): void {
    const { key } = this;
    if (key === null || this.fine < (key.offAt ?? key.readyAt)) return;
    // Keyed for something that has gone away since: let go as well.
    if (key.offAt === null && (this.out.length > 0 || this.mostUrgent(now) !== null)) return;
    this.key = null;
    this.freeAt = Math.max(this.freeAt, this.fine);
    this.effects.push({ type: 'key', on: false });
  }

  private nextWake(now: Instant): Instant | null {
    let earliest = Infinity;
    let waits = false;
    for (const { party } of this.inOrder) {
      const at = party.deadline;
      // What is due already waits for the line. Parties live by whole milliseconds.
      if (at !== null && at > now) earliest = Math.min(earliest, Math.ceil(at));
      else if (at !== null) waits = true;
    }
    if (this.key !== null) {
      const at = this.key.offAt !== null && this.out.length === 0 ? this.key.offAt : this.key.readyAt;
      if (at > this.fine) earliest = Math.min(earliest, at);
    }
    if (this.up && this.freeAt > this.fine) {
      const someoneWaits = this.holder === null && (waits || this.mostUrgent(now) !== null);
      if (someoneWaits || this.out.length > 0) earliest = Math.min(earliest, this.freeAt);
    }
    return earliest === Infinity ? null : earliest;
  }
}

interface Candidate<M> {
  member: M;
  wish: Wish;
  urgency: number;
}

/** The most urgent first; among equals who has had the least of the line, then who has waited longest. */
const byUrgency = (a: Candidate<{ used: number }>, b: Candidate<{ used: number }>): number =>
  a.urgency - b.urgency || a.member.used - b.member.used || a.wish.since - b.wish.since;

/** How far a device that rested may be behind the others in line time. */
const MOST_ARREARS_MS = 200;

const isSend = (effect: { type: string }): effect is { type: 'send'; octets: Uint8Array } => effect.type === 'send';
