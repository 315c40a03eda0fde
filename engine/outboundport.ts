import { isAllowed, type OutboundConfig } from '@halvix/core/config';
import type { Recogniser } from '@halvix/core/protocols';
import { serverSide } from '@halvix/core/protocols/sessions';
import { CallServer, type Call } from '@halvix/wire';
import { tlsOf } from './transport.ts';

/*
 * One port that centres connect to. Several outbounds may share it: a connection belongs to the one whose two addresses
 * its first good frame bears.
 *
 * Rules:
 * 1. Only addresses that some outbound's list allows are let in; a connection becomes an outbound's only when that
 *    outbound's own list allows it and, with TLS, the name in its certificate is the one that the outbound wants.
 * 2. Where an outbound has one peer, a new connection of it takes over at once: its old one may be half dead. Nobody
 *    else can: it has to bear the right addresses, come from an allowed place, and hold a certificate where they are
 *    asked for. Where it may have several, one more than that is not let in.
 * 3. A connection that bears no such frame for a while is closed.
 */

export interface PortMember {
  config: OutboundConfig;
  /** A peer has come, from there, by that address; `peer` is its number. */
  up: (peer: number, from: string, address: string) => void;
  down: (peer: number) => void;
  data: (peer: number, bytes: Uint8Array) => void;
  /** Somebody was not let in; in words. */
  refused: (words: string) => void;
  changed: () => void;
}

interface Connection {
  peer: number;
  /** What came before it was known whose it is. */
  early: Uint8Array[];
  caller: Recogniser;
  members: Set<PortMember>;
  timer: NodeJS.Timeout;
}

/** A connection shows by then whose it is. */
const UNKNOWN_MS = 20_000;

/** Octets that are kept for whoever it will be. */
const MOST_EARLY = 1024;

/** Whether several peers may use it at once. */
const isShared = ({ config: { protocol, settings } }: PortMember): boolean => serverSide(protocol).peers(settings) > 1;

export class OutboundPort {
  private readonly members = new Set<PortMember>();
  private readonly connections = new Map<Call, Connection>();
  /** The connections of each, oldest first. */
  private readonly current = new Map<PortMember, Call[]>();
  private peers = 0;
  private readonly server: CallServer;
  private readonly protocol: OutboundConfig['protocol'];

  constructor(config: OutboundConfig) {
    this.protocol = config.protocol;
    this.server = new CallServer(
      {
        host: config.host,
        port: config.port,
        ...tlsOf(config),
        allows: (address) => this.allows(address),
      },
      {
        came: (call) => this.onCall(call),
        data: (call, bytes) => this.onData(call, bytes),
        ended: (call) => this.onEnd(call),
        changed: () => this.members.forEach((member) => member.changed()),
      },
    );
    this.server.open();
  }

  get problem(): string | null {
    return this.server.problem;
  }

  get isEmpty(): boolean {
    return this.members.size === 0;
  }

  add(member: PortMember): void {
    this.members.add(member);
  }

  remove(member: PortMember): void {
    this.members.delete(member);
    for (const call of this.callsOf(member)) this.leave(call, member);
  }

  /** `peer`: to whom; absent: to the only one. */
  send(member: PortMember, octets: Uint8Array, peer?: number): void {
    const calls = this.callsOf(member);
    const call = peer === undefined ? calls.at(-1) : calls.find((one) => this.connections.get(one)?.peer === peer);
    call?.send(octets);
  }

  private callsOf(member: PortMember): readonly Call[] {
    return this.current.get(member) ?? [];
  }

  close(): Promise<void> {
    for (const { timer } of this.connections.values()) clearTimeout(timer);
    return this.server.close();
  }

  private allows(address: string): boolean {
    const allowed = [...this.members].some(({ config }) => isAllowed(address, config.allowFrom));
    if (!allowed)
      for (const member of this.members)
        member.refused(`connection from ${address} refused: its network is not allowed`);
    return allowed;
  }

  private onCall(call: Call): void {
    const centres = [...this.members].map(({ config: { code, settings } }) => ({ code, settings }));
    const caller = serverSide(this.protocol).recogniser(centres);
    const timer = setTimeout(() => call.end(), UNKNOWN_MS);
    this.connections.set(call, { peer: ++this.peers, early: [], caller, members: new Set(), timer });
  }

  private onData(call: Call, bytes: Uint8Array): void {
    const connection = this.connections.get(call);
    if (connection === undefined) return;
    const known = connection.members.size > 0;
    for (const code of new Set(connection.caller.push(bytes))) {
      const member = [...this.members].find(({ config }) => config.code === code);
      if (member !== undefined && !connection.members.has(member)) this.join(call, connection, member);
    }
    if (!known) this.hold(connection, bytes);
    // Garbage and other addresses are counted where there is only one whose they could be.
    const takers = connection.members.size > 0 ? connection.members : this.soleMember();
    for (const member of takers) member.data(connection.peer, bytes);
  }

  /** The first request may come in pieces: whose it is shows with the last of them, and all of them are for its session. */
  private hold(connection: Connection, bytes: Uint8Array): void {
    const [member] = connection.members;
    if (member !== undefined) {
      if (isShared(member)) for (const early of connection.early) member.data(connection.peer, early);
      connection.early = [];
      return;
    }
    connection.early.push(bytes);
    // The oldest go first: what is being put together is at the end.
    const length = (): number => connection.early.reduce((sum, piece) => sum + piece.length, 0);
    while (connection.early.length > 1 && length() > MOST_EARLY) connection.early.shift();
  }

  private soleMember(): ReadonlySet<PortMember> {
    const [sole] = this.members;
    const alone = this.members.size === 1 && !isShared(sole) && this.callsOf(sole).length === 0;
    return alone ? this.members : new Set();
  }

  private join(call: Call, connection: Connection, member: PortMember): void {
    const { config } = member;
    const wanted = config.tls.use ? config.tls.serverName : '';
    if (!isAllowed(call.address, config.allowFrom))
      member.refused(`connection from ${call.address} refused: its network is not allowed`);
    else if (wanted !== '' && !call.names.includes(wanted))
      member.refused(
        `connection from ${call.address} refused: its certificate is of ${call.names.join(', ') || 'nobody'}, not of ${wanted}`,
      );
    else {
      const most = serverSide(config.protocol).peers(config.settings);
      const before = this.callsOf(member);
      if (most > 1 && before.length >= most) {
        member.refused(`connection from ${call.address} refused: ${most} are connected already`);
        if (connection.members.size === 0) call.end();
        return;
      }
      clearTimeout(connection.timer);
      if (most === 1) for (const one of before) this.leave(one, member);
      connection.members.add(member);
      this.current.set(member, [...this.callsOf(member), call]);
      member.up(connection.peer, call.from, call.address);
      return;
    }
    if (connection.members.size === 0) call.end();
  }

  /** The connection is this member's no more. */
  private leave(call: Call, member: PortMember): void {
    const connection = this.connections.get(call);
    this.forget(call, member);
    if (connection === undefined) return;
    connection.members.delete(member);
    member.down(connection.peer);
    if (connection.members.size === 0) call.end();
  }

  private onEnd(call: Call): void {
    const connection = this.connections.get(call);
    this.connections.delete(call);
    if (connection === undefined) return;
    clearTimeout(connection.timer);
    for (const member of connection.members) {
      this.forget(call, member);
      member.down(connection.peer);
    }
  }

  private forget(call: Call, member: PortMember): void {
    const rest = this.callsOf(member).filter((one) => one !== call);
    if (rest.length > 0) this.current.set(member, rest);
    else this.current.delete(member);
  }
}
