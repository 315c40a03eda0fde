import {
  endpointWords,
  isAllowed,
  isNamed,
  linkTouch,
  type LinkConfig,
  type OutboundConfig,
} from '@halvix/core/config';
import { octetMs } from '@halvix/core/line';
import type { LinkState } from '@halvix/core/path';
import { type ConversationTerms, type Message, type Recogniser, wayOut } from '@halvix/core/protocols';
import { serverSide } from '@halvix/core/protocols/sessions';
import { CallServer, clock, type Call, type Reconnecting } from '@halvix/wire';
import { lineTiming } from './link.ts';
import { CertificateEnd } from './certificateend.ts';
import { makeTransport, tlsOf } from './transport.ts';

/*
 * A link to centres: connections that they make to a port of ours, or one way that is there by itself (a serial port, a
 * connection that we make, datagrams). Several outbounds may share it: octets belong to the one that the frames name.
 *
 * Rules:
 * 1. Of those that call, only addresses that some outbound's list allows are let in; a connection becomes an outbound's
 *    only when that outbound's own list allows it and, with TLS, the name in its certificate is the one that the
 *    outbound wants.
 * 2. Where an outbound has one peer, a new connection of it takes over at once: its old one may be half dead. Nobody
 *    else can, nor can whoever may not operate cut off whoever may: it has to bear the right addresses, come from an
 *    allowed place, and hold a certificate where they are asked for.
 *    Where it may have several and all places are taken, whoever may operate or stands in the list by the address itself
 *    gets the place of one that does not; else the address that has the most gives one of its own; else one gives way
 *    that has said nothing for a minute. Among those it is who has been silent longest. Otherwise it is not let in.
 * 3. A connection that bears no such frame for a while is closed.
 * 4. On a way that is there by itself nobody comes or goes: a centre counts as connected from its first frame until the
 *    way is gone, or until it has said nothing for as long as the link allows.
 */

export interface OutboundMember {
  config: OutboundConfig;
  /**
   * A peer has come, from there, by that address; `peer` is its number. No address: it has none on such a link. `within`: in
   * a conversation that stands.
   */
  up: (peer: number, from: string, address: string | null, within?: ConversationTerms) => void;
  down: (peer: number) => void;
  data: (peer: number, bytes: Uint8Array) => void;
  /** Somebody was not let in; in words. */
  refused: (words: string) => void;
  /** What became of a packet; null: its destination has it. */
  carried?: (packet: number, problem: string | null) => void;
  changed: () => void;
}

/** How a centre is reached, or reaches us. */
export interface CentreLink {
  /** Null: it is no link of the configuration. */
  readonly config: LinkConfig | null;
  /** Where it leads, as people say it. */
  readonly where: string;
  readonly timing: { framing: string; octetMs: number };
  /** Why nobody can get here now; null: somebody can. */
  readonly problem: string | null;
  readonly isEmpty: boolean;
  /** Only one outbound can be asked there; absent: that means nothing. */
  readonly isSole?: boolean;
  /** Whether it can go on for that configuration. */
  fits(config: LinkConfig | undefined): boolean;
  add(member: OutboundMember): void;
  remove(member: OutboundMember): void;
  /** `peer`: to whom; absent: to the only one. */
  send(member: OutboundMember, octets: Uint8Array, peer?: number): void;
  /** Takes a packet to its destination, and says what became of it; absent: nothing is carried here. */
  carry?(packet: number, messages: readonly Message[]): void;
  /** A connection of the member is done with: it ends, where it can. */
  hangUp(member: OutboundMember, peer?: number, words?: string): void;
  /** Something came of the connection: the next pause before a try is short again; absent: nobody tries. */
  useful?(): void;
  close(): Promise<void>;
}

/** How octets come and go: a call, or the one way that there is. */
interface Way {
  from: string;
  address: string | null;
  names: readonly string[];
  send: (octets: Uint8Array) => void;
  /** It is clear whose it is. */
  known?: () => void;
  /** Null: it stays, whoever is on it. */
  end: (() => void) | null;
}

interface Connection {
  way: Way;
  peer: number;
  since: number;
  /** When something came last. */
  last: number;
  /** What came since somebody was known by a frame: it may be the beginning of somebody else's first. */
  early: Uint8Array[];
  caller: Recogniser;
  members: Set<OutboundMember>;
  /** When each of them was heard last. */
  heard: Map<OutboundMember, number>;
  timer: NodeJS.Timeout | null;
}

/** A connection shows by then whose it is. */
const UNKNOWN_MS = 20_000;

/** Who says nothing for so long gives way where all places are taken. */
const IDLE_MS = 60_000;

/** Octets that are kept for whoever it will be. */
const MOST_EARLY = 1024;

const SILENCE_LOOK_MS = 500;

/** Whether several peers may use it at once. */
const isShared = ({ config: { protocol, settings } }: OutboundMember): boolean =>
  (serverSide(protocol).peers(settings) ?? 1) > 1;

export class OutboundLink implements CentreLink {
  private readonly members = new Set<OutboundMember>();
  private readonly connections = new Set<Connection>();
  private readonly calls = new Map<Call, Connection>();
  /** The connections of each, oldest first. */
  private readonly current = new Map<OutboundMember, Connection[]>();
  private peers = 0;
  private readonly server: CallServer | null;
  private readonly transport: Reconnecting | null;
  /** The one connection, where there is one by itself. */
  private only: Connection | null = null;
  private readonly silence: NodeJS.Timeout | null;
  private since = clock.now();
  private readonly certificate: CertificateEnd;
  readonly timing;

  constructor(
    readonly config: LinkConfig,
    private readonly changed: () => void,
    /** Its members begin to speak themselves: a connection of ours is theirs as soon as it stands. */
    private readonly speaksFirst = false,
  ) {
    this.timing = { framing: config.framing, octetMs: octetMs(lineTiming(config)) };
    this.certificate = new CertificateEnd(config);
    this.transport = makeTransport(config, {
      up: () => this.onUp(),
      down: () => this.onDown(),
      data: (bytes) => this.only && this.onData(this.only, bytes),
      changed: () => this.onChanged(),
    });
    this.server = this.transport === null ? this.listening() : null;
    const looks = this.transport !== null && config.calls.lateAfterMs > 0;
    this.silence = looks ? setInterval(() => this.lookSilent(), SILENCE_LOOK_MS) : null;
    this.transport?.open();
    this.server?.open();
  }

  private listening(): CallServer {
    const { host, port } = this.config;
    return new CallServer(
      { host, port, link: this.config.code, ...tlsOf(this.config), allows: (address) => this.allows(address) },
      {
        came: (call) => this.calls.set(call, this.begin({ ...call, end: () => call.end() }, UNKNOWN_MS)),
        data: (call, bytes) => {
          const connection = this.calls.get(call);
          if (connection) this.onData(connection, bytes);
        },
        ended: (call) => {
          const connection = this.calls.get(call);
          this.calls.delete(call);
          if (connection) this.finish(connection);
        },
        changed: () => this.onChanged(),
        refused: (words) => this.members.forEach((member) => member.refused(words)),
      },
    );
  }

  private onChanged(): void {
    this.since = clock.now();
    for (const member of this.members) member.changed();
    this.changed();
  }

  get problem(): string | null {
    if (this.transport === null) return this.server?.problem ?? null;
    const { state, problem } = this.transport.state;
    return state === 'connected' ? null : (problem ?? 'not connected yet');
  }

  get isEmpty(): boolean {
    return this.members.size === 0;
  }

  get isSole(): boolean {
    return this.members.size === 1;
  }

  get where(): string {
    return endpointWords(this.config);
  }
  fits(config: LinkConfig | undefined): boolean {
    return config !== undefined && linkTouch(this.config, config) !== 'restarts';
  }

  add(member: OutboundMember): void {
    this.members.add(member);
    // On the one way it may be the next to be asked: whoever is asked there is found out anew.
    if (this.only) this.only.caller = this.recogniser();
    if (this.only && this.speaksFirst) this.join(this.only, member);
  }

  remove(member: OutboundMember): void {
    this.members.delete(member);
    for (const connection of this.connectionsOf(member)) this.leave(connection, member);
    if (this.only) this.only.caller = this.recogniser();
  }

  send(member: OutboundMember, octets: Uint8Array, peer?: number): void {
    const own = this.connectionsOf(member);
    const connection = peer === undefined ? own.at(-1) : own.find((one) => one.peer === peer);
    connection?.way.send(octets);
  }

  hangUp(member: OutboundMember, peer?: number, words?: string): void {
    // What we began is made anew after a pause.
    if (this.speaksFirst && words !== undefined) return this.transport?.drop(words);
    const own = this.connectionsOf(member);
    const connection = peer === undefined ? own.at(-1) : own.find((one) => one.peer === peer);
    if (connection) this.leave(connection, member);
  }

  useful(): void {
    this.transport?.useful();
  }

  private connectionsOf(member: OutboundMember): readonly Connection[] {
    return this.current.get(member) ?? [];
  }

  async close(): Promise<void> {
    if (this.silence !== null) clearInterval(this.silence);
    for (const { timer } of this.connections) if (timer !== null) clearTimeout(timer);
    this.transport?.close();
    await this.server?.close();
  }

  private allows(address: string): boolean {
    return [...this.members].some(({ config }) => isAllowed(address, config.allowFrom));
  }

  private recogniser(): Recogniser {
    const centres = [...this.members].map(({ config: { code, settings } }) => ({ code, settings }));
    return serverSide(this.config.protocol).recogniser(centres, this.timing);
  }

  private begin(way: Way, unknownMs: number | null): Connection {
    const connection: Connection = {
      ...{ way, peer: ++this.peers, since: clock.now(), last: clock.now(), early: [], caller: this.recogniser() },
      ...{ members: new Set(), heard: new Map() },
      timer: unknownMs === null ? null : setTimeout(() => way.end?.(), unknownMs),
    };
    this.connections.add(connection);
    return connection;
  }

  private onUp(): void {
    const { transport } = this;
    if (transport === null) return;
    const way: Way = {
      ...{ from: endpointWords(this.config), address: null, names: [] },
      send: (octets) => transport.send(octets),
      // Whoever has begun to speak on it was a session that is over: the next one begins on a new connection.
      end: this.speaksFirst ? () => transport.drop('it is begun anew') : null,
    };
    const only = (this.only = this.begin(way, null));
    if (this.speaksFirst) for (const member of this.members) this.join(only, member);
  }

  private onDown(): void {
    const { only } = this;
    this.only = null;
    if (only) this.finish(only);
  }

  /** Who has said nothing for too long is not there any more. */
  private lookSilent(): void {
    const { only } = this;
    if (only === null) return;
    const before = clock.now() - this.config.calls.lateAfterMs;
    for (const member of only.members) if ((only.heard.get(member) ?? 0) < before) this.leave(only, member);
  }

  private onData(connection: Connection, bytes: Uint8Array): void {
    const now = (connection.last = clock.now());
    const codes = new Set(this.meant(connection, connection.caller.push(bytes, now)));
    for (const code of codes) {
      const member = [...this.members].find(({ config }) => config.code === code);
      if (member === undefined) continue;
      connection.heard.set(member, now);
      this.transport?.useful();
      if (connection.members.has(member) || !this.join(connection, member)) continue;
      // Its first request may have come in pieces.
      for (const early of connection.early) member.data(connection.peer, early);
    }
    if (codes.size > 0) connection.early = [];
    else this.hold(connection, bytes);
    for (const member of connection.members) member.data(connection.peer, bytes);
  }

  /** Those of the named whose it may be: where callers are told apart by who they are, one, and the same from then on. */
  private meant(connection: Connection, named: readonly string[]): readonly string[] {
    if (named.length < 2 || !wayOut(this.config.protocol)?.byCaller) return named;
    const members = [...this.members].filter(({ config }) => named.includes(config.code));
    const meant =
      members.find((member) => connection.members.has(member)) ??
      members.find((member) => this.objection(connection, member) === null) ??
      members[0];
    return meant === undefined ? [] : [meant.config.code];
  }

  /** Whether whoever is there may operate anything, by where it is. */
  private operates({ way: { address } }: Connection, { config }: OutboundMember): boolean {
    return address === null || isAllowed(address, config.controlsFrom);
  }

  /** Who leaves where all places are taken; null: nobody has to. */
  private whoGivesWay(newcomer: Connection, member: OutboundMember, taken: readonly Connection[]): Connection | null {
    const { config } = member;
    const standing = (one: Connection): number =>
      (config.controls && this.operates(one, member) ? 2 : 0) +
      (one.way.address !== null && isNamed(one.way.address, config.allowFrom) ? 1 : 0);
    const own = standing(newcomer);
    const silentFirst = [...taken].sort((a, b) => a.last - b.last);
    const lesser = silentFirst.filter((one) => standing(one) < own);
    const lowest = Math.min(...lesser.map(standing));
    if (lesser.length > 0) return lesser.find((one) => standing(one) === lowest) ?? null;
    const equal = silentFirst.filter((one) => standing(one) === own);
    const placesOf = ({ way: { address } }: Connection): number =>
      taken.filter((one) => one.way.address === address).length;
    const most = Math.max(0, ...equal.map(placesOf));
    if (most >= placesOf(newcomer) + 2) return equal.find((one) => placesOf(one) === most) ?? null;
    return equal.find(({ last }) => clock.now() - last >= IDLE_MS) ?? null;
  }

  /** Why a connection cannot be the member's; null: it can. */
  private objection({ way: { address, names } }: Connection, { config }: OutboundMember): string | null {
    if (address === null) return null;
    const wanted = this.config.tls.use ? config.peerName : '';
    if (!isAllowed(address, config.allowFrom)) return 'its network is not allowed';
    if (wanted === '' || names.includes(wanted)) return null;
    return `its certificate is of ${names.join(', ') || 'nobody'}, not of ${wanted}`;
  }

  /** Keeps what may be the beginning of somebody's first request. The oldest go first: what is being put together is at the end. */
  private hold(connection: Connection, bytes: Uint8Array): void {
    const { early } = connection;
    early.push(bytes);
    const length = (): number => early.reduce((sum, piece) => sum + piece.length, 0);
    while (early.length > 1 && length() > MOST_EARLY) this.nobodys(connection, early.splice(0, 1));
  }

  /** Garbage and other addresses are counted where there is only one whose they could be; what is somebody's is not, twice. */
  private nobodys({ peer, members }: Connection, pieces: readonly Uint8Array[]): void {
    if (members.size > 0) return;
    for (const member of this.soleMember()) for (const piece of pieces) member.data(peer, piece);
  }

  private soleMember(): ReadonlySet<OutboundMember> {
    const [sole] = this.members;
    const alone = this.members.size === 1 && !isShared(sole) && this.connectionsOf(sole).length === 0;
    return alone ? this.members : new Set();
  }

  /** Whether it is the member's now. */
  private join(connection: Connection, member: OutboundMember): boolean {
    const { config } = member;
    const { address, from } = connection.way;
    const objection = this.objection(connection, member);
    if (objection !== null) member.refused(`connection from ${address} refused: ${objection}`);
    else {
      const most = serverSide(config.protocol).peers(config.settings) ?? 1;
      const before = this.connectionsOf(member);
      if (most > 1 && before.length >= most) {
        const out = this.whoGivesWay(connection, member, before);
        if (out === null) {
          member.refused(`connection from ${from} refused: ${most} are connected already`);
          if (connection.members.size === 0) connection.way.end?.();
          return false;
        }
        member.refused(`connection from ${out.way.from} ended: its place is needed for ${from}`);
        this.leave(out, member);
      }
      const operator =
        most === 1 && !this.operates(connection, member) ? before.find((one) => this.operates(one, member)) : undefined;
      if (operator !== undefined) {
        member.refused(`connection from ${from} refused: ${operator.way.from} is connected, which may operate`);
        if (connection.members.size === 0) connection.way.end?.();
        return false;
      }
      if (connection.timer !== null) clearTimeout(connection.timer);
      if (most === 1) for (const one of before) this.leave(one, member);
      connection.way.known?.();
      connection.members.add(member);
      this.current.set(member, [...this.connectionsOf(member), connection]);
      member.up(connection.peer, from, address);
      this.changed();
      return true;
    }
    if (connection.members.size === 0) connection.way.end?.();
    return false;
  }

  /** The connection is this member's no more. */
  private leave(connection: Connection, member: OutboundMember): void {
    this.forget(connection, member);
    if (!connection.members.delete(member)) return;
    member.down(connection.peer);
    if (connection.members.size === 0) connection.way.end?.();
    this.changed();
  }

  private finish(connection: Connection): void {
    this.connections.delete(connection);
    if (connection.timer !== null) clearTimeout(connection.timer);
    this.nobodys(connection, connection.early.splice(0));
    for (const member of connection.members) {
      this.forget(connection, member);
      member.down(connection.peer);
    }
    this.changed();
  }

  private forget(connection: Connection, member: OutboundMember): void {
    const rest = this.connectionsOf(member).filter((one) => one !== connection);
    if (rest.length > 0) this.current.set(member, rest);
    else this.current.delete(member);
  }

  // ---- what people see

  /** What of its state people act on. */
  essence(): string {
    const { state, since, problem } = this.state();
    return `${state} ${since} ${problem}`;
  }

  state(): LinkState {
    const endpoint = this.transport?.where ?? endpointWords(this.config);
    const about = { endpoint, devices: [], certificateEnds: this.certificate.at };
    if (this.transport !== null) return { ...this.transport.state, ...about };
    const connected = [...this.connections].filter(({ members }) => members.size > 0);
    const problem = this.server?.problem ?? null;
    return {
      state: connected.length > 0 ? 'connected' : problem === null ? 'resting' : 'waiting',
      since: connected.length > 0 ? Math.max(...connected.map(({ since }) => since)) : this.since,
      ...{ tries: 0, nextTry: null, problem, ...about },
    };
  }
}
