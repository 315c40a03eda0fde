import type { Instant } from '../../session/index.ts';
import type { Message } from '../publishing/form.ts';
import { reasonWords, refusalWords } from './wire/reasons.ts';
import { MOST_OCTETS, octetsOf, PacketReader, type Packet, type Version } from './wire/packets.ts';

/*
 * Our side of a connection with a broker, whoever uses it: signing in, keeping alive, and publishing with quality of service 1.
 *
 *   down ──start──▶ signing in ──CONNACK 0──▶ in
 *     ▲                 │ refused, silent       │ silent, nonsense, DISCONNECT
 *     └─────────────────┴───────────────────────┘ hangUp, with words
 *
 * Rules (MQTT 3.1.1 and 5.0 alike, where nothing else is said):
 * 1. Nothing is sent before CONNACK but CONNECT.
 * 2. At most as many messages are under way as the broker takes (5.0: receive maximum), each with an identifier of its own
 *    until PUBACK; the others wait in their order.
 * 3. Where nothing was sent for the keep-alive, PINGREQ goes; without PINGRESP, or PUBACK of what is under way, for as long as
 *    patience lasts, the connection is given up.
 * 4. Nothing is subscribed to: what a broker sends all the same is acknowledged, and nobody's.
 * 5. What was under way when a connection ends is not known to have come; whoever wants it there gives it again. So each
 *    connection begins clean: there is nothing that a broker has to keep for us.
 */

export interface ConnectTerms {
  version: Version;
  clientId: string;
  user: string;
  password: string;
  /** Seconds; 0: never. */
  keepAliveS: number;
  will: LastWords | null;
}

export interface LastWords {
  topic: string;
  text: string;
  retain: boolean;
}

export type ConversationNews =
  | { type: 'send'; octets: Uint8Array }
  /** We are in. */
  | { type: 'in' }
  /** A message that was given with that tag has come; a problem: the broker has refused it. */
  | { type: 'published'; tag: number; problem: string | null }
  | { type: 'heard' }
  | { type: 'diagnostic'; words: string }
  /** The connection is good for nothing any more. */
  | { type: 'hangUp'; words: string };

interface Outgoing extends Message {
  tag: number;
  retain: boolean;
}

/** Without an answer for so long a connection is given up, milliseconds. */
const PATIENCE_MS = 20_000;
/** Messages under way where the broker does not say how many it takes. */
const MOST_UNDER_WAY = 20;
/** So many connections that ended soon after they stood, one after the other, have a cause. */
const SHORT_MS = 60_000;
const MANY_SHORT = 3;

export class BrokerConversation {
  private news: ConversationNews[] = [];
  private state: 'down' | 'signingIn' | 'in' = 'down';
  private reader: PacketReader;
  private identifier = 0;
  private readonly underWay = new Map<number, Outgoing>();
  private waiting: Outgoing[] = [];
  private mostUnderWay = MOST_UNDER_WAY;
  private mostOctets = MOST_OCTETS;
  private keepAliveMs: number;
  private lastSent: Instant = 0;
  /** Since when an answer is owed to us; null: none is. */
  private owedSince: Instant | null = null;
  private isPinging = false;
  private inSince: Instant | null = null;
  private shortOnes = 0;
  /** It was ended by us, or with words of the broker. */
  private isSaid = false;

  constructor(private readonly terms: ConnectTerms) {
    this.reader = new PacketReader(terms.version);
    this.keepAliveMs = terms.keepAliveS * 1000;
  }

  get isIn(): boolean {
    return this.state === 'in';
  }
  take(): ConversationNews[] {
    const { news } = this;
    this.news = [];
    return news;
  }

  // ---- the connection

  start(now: Instant): void {
    const { version, clientId, user, password, keepAliveS, will } = this.terms;
    this.reader = new PacketReader(version);
    this.state = 'signingIn';
    this.isSaid = false;
    this.keepAliveMs = keepAliveS * 1000;
    this.owedSince = now;
    this.send(
      {
        ...{
          cmd: 'connect',
          protocolId: 'MQTT',
          protocolVersion: version,
          clientId,
          clean: true,
          keepalive: keepAliveS,
        },
        ...(user === '' ? {} : { username: user }),
        ...(password === '' ? {} : { password: password as never }),
        ...(will === null ? {} : { will: { topic: will.topic, payload: will.text, qos: 1, retain: will.retain } }),
        ...(version === 5 ? { properties: { maximumPacketSize: MOST_OCTETS } } : {}),
      },
      now,
    );
  }

  /** The connection is gone. */
  stop(now: Instant): void {
    const { inSince } = this;
    if (inSince !== null && !this.isSaid) {
      this.shortOnes = now - inSince < SHORT_MS ? this.shortOnes + 1 : 0;
      if (this.shortOnes >= MANY_SHORT)
        this.news.push({
          type: 'diagnostic',
          words: `the broker has ended ${this.shortOnes} connections in a row soon after it had let us in: does another client use the client id ${this.terms.clientId}?`,
        });
    }
    this.state = 'down';
    this.inSince = this.owedSince = null;
    this.isPinging = false;
    this.underWay.clear();
    this.waiting = [];
  }

  /** In order: whoever ends the connection behind it. Our last words are true then, too: they are to be published. */
  leave(now: Instant): void {
    const { will, version } = this.terms;
    this.isSaid = true;
    if (this.state !== 'in') return;
    if (will === null) this.send({ cmd: 'disconnect' }, now);
    else if (version === 5) this.send({ cmd: 'disconnect', reasonCode: 0x04 }, now);
    // In 3.1.1 there is no such goodbye: DISCONNECT takes them back.
  }

  receive(octets: Uint8Array, now: Instant): void {
    if (this.state === 'down') return;
    const read = this.reader.push(octets);
    if (!read.ok) return this.hangUp(read.problem);
    for (const { packet } of read.value) {
      this.onPacket(packet, now);
      // What comes behind a packet that ended it is nobody's.
      if ((this.state as string) === 'down') return;
    }
  }

  get deadline(): Instant | null {
    if (this.state === 'down') return null;
    const patience = this.owedSince === null ? Infinity : this.owedSince + PATIENCE_MS;
    const ping =
      this.state === 'in' && this.keepAliveMs > 0 && !this.isPinging ? this.lastSent + this.keepAliveMs : Infinity;
    const earliest = Math.min(patience, ping);
    return earliest === Infinity ? null : earliest;
  }

  wake(now: Instant): void {
    if (this.state === 'down') return;
    if (this.owedSince !== null && now >= this.owedSince + PATIENCE_MS) {
      const what = this.state === 'signingIn' ? 'the wish to sign in' : this.isPinging ? 'a ping' : 'a message';
      return this.hangUp(`no answer to ${what} for ${PATIENCE_MS / 1000} s`);
    }
    if (this.state === 'in' && this.keepAliveMs > 0 && !this.isPinging && now >= this.lastSent + this.keepAliveMs) {
      this.isPinging = true;
      this.owedSince ??= now;
      this.send({ cmd: 'pingreq' }, now);
    }
  }

  private send(packet: Packet, now: Instant): void {
    this.sendOctets(octetsOf(packet, this.terms.version), now);
  }

  private sendOctets(octets: Uint8Array, now: Instant): void {
    this.lastSent = now;
    this.news.push({ type: 'send', octets });
  }

  private hangUp(words: string): void {
    this.state = 'down';
    this.isSaid = true;
    this.news.push({ type: 'hangUp', words });
  }

  // ---- what we say

  /** Messages to go out, with quality of service 1; each has come once `published` says so with its tag. */
  publish(messages: readonly Outgoing[], now: Instant): void {
    this.waiting.push(...messages);
    this.sendWaiting(now);
  }

  private sendWaiting(now: Instant): void {
    while (this.state === 'in' && this.waiting.length > 0 && this.underWay.size < this.mostUnderWay) {
      const [next] = this.waiting.splice(0, 1);
      const messageId = this.nextIdentifier();
      const packet: Packet = {
        ...{ cmd: 'publish', qos: 1, dup: false, messageId },
        ...{ topic: next.to, payload: next.octets as never, retain: next.retain },
      };
      const written = this.written(packet);
      if (typeof written === 'string') {
        this.news.push({ type: 'published', tag: next.tag, problem: written });
        continue;
      }
      this.underWay.set(messageId, next);
      this.owedSince ??= now;
      this.sendOctets(written, now);
    }
  }

  /** Its octets; a text: why it cannot go out. */
  private written(packet: Packet): Uint8Array | string {
    try {
      const octets = octetsOf(packet, this.terms.version);
      return octets.length <= this.mostOctets
        ? octets
        : `a packet of ${octets.length} octets is longer than the ${this.mostOctets} that the broker takes`;
    } catch (error) {
      return `the message cannot be written: ${error instanceof Error ? error.message : String(error)}`;
    }
  }

  private nextIdentifier(): number {
    do this.identifier = (this.identifier % 0xffff) + 1;
    while (this.underWay.has(this.identifier));
    return this.identifier;
  }

  // ---- what the broker says

  private onPacket(packet: Packet, now: Instant): void {
    if (this.state === 'signingIn' && packet.cmd !== 'connack')
      return this.hangUp(`it answered the wish to sign in by ${packet.cmd.toUpperCase()}`);
    switch (packet.cmd) {
      case 'connack':
        this.onConnack(packet, now);
        break;
      case 'pingresp':
        this.isPinging = false;
        this.answered(now);
        break;
      case 'puback':
        this.onPuback(packet.messageId ?? 0, packet.reasonCode ?? 0, now);
        break;
      case 'publish':
        if (packet.qos > 0)
          this.send({ cmd: packet.qos === 1 ? 'puback' : 'pubrec', messageId: packet.messageId }, now);
        break;
      case 'pubrel':
        this.send({ cmd: 'pubcomp', messageId: packet.messageId }, now);
        break;
      case 'disconnect':
        this.hangUp(`the broker has ended the connection: ${reasonWords(packet.reasonCode ?? 0x80)}`);
        break;
      default:
        this.hangUp(`it sent ${packet.cmd.toUpperCase()}, which a broker does not`);
    }
    if (this.state === 'in') this.news.push({ type: 'heard' });
  }

  private onConnack(packet: Packet & { cmd: 'connack' }, now: Instant): void {
    if (this.state === 'in') return this.hangUp('it let us in twice');
    const { version } = this.terms;
    const code = (version === 5 ? packet.reasonCode : packet.returnCode) ?? 0;
    if (code !== 0) return this.hangUp(`the broker does not let us in: ${refusalWords(code, version)}`);
    const { receiveMaximum, maximumPacketSize, serverKeepAlive, maximumQoS, retainAvailable } = packet.properties ?? {};
    if (maximumQoS === 0)
      return this.hangUp('the broker does not acknowledge messages (it takes quality of service 0 only)');
    if (retainAvailable === false)
      this.news.push({ type: 'diagnostic', words: 'the broker keeps no retained messages' });
    this.mostUnderWay = Math.min(MOST_UNDER_WAY, receiveMaximum ?? MOST_UNDER_WAY);
    this.mostOctets = maximumPacketSize ?? MOST_OCTETS;
    if (serverKeepAlive !== undefined) this.keepAliveMs = serverKeepAlive * 1000;
    this.state = 'in';
    this.inSince = now;
    this.owedSince = null;
    this.news.push({ type: 'in' });
    this.sendWaiting(now);
  }

  private onPuback(messageId: number, code: number, now: Instant): void {
    const done = this.underWay.get(messageId);
    // Of a message of an earlier connection, or of none.
    if (done === undefined) return;
    this.underWay.delete(messageId);
    this.news.push({
      ...{ type: 'published', tag: done.tag },
      problem: code < 0x80 ? null : `the broker does not take what goes to ${done.to}: ${reasonWords(code)}`,
    });
    this.answered(now);
    this.sendWaiting(now);
  }

  /** Something that was owed has come: patience begins anew for what still is. */
  private answered(now: Instant): void {
    this.owedSince = this.underWay.size > 0 || this.isPinging ? now : null;
  }
}
