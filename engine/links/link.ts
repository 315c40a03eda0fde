import { bitsPerOctet, endpointWords, isAllowed, linkTouch, type LinkConfig } from '@halvix/core/config';
import { Lane, octetMs, type LaneCommand, type LaneEffect, type LineTiming, type Turn } from '@halvix/core/line';
import {
  type Client,
  type ClientCommand,
  type ClientNews,
  type ConversationTerms,
  type DeviceSettings,
  type PointAt,
  type Recogniser,
} from '@halvix/core/protocols';
import { clientSide } from '@halvix/core/protocols/sessions';
import type { LaneState, LinkState } from '@halvix/core/path';
import { CallServer, clock, Driver, type Call, type Reconnecting } from '@halvix/wire';
import { RecentTurns } from './recentturns.ts';
import { CertificateEnd } from './certificateend.ts';
import { makeTransport, tlsOf } from './transport.ts';

type Command = ClientCommand<PointAt, unknown>;
export type DeviceCommand = Command;

/** A device as its link sees it. */
export interface LinkMember {
  code: string;
  settings: DeviceSettings;
  client: Client<PointAt, unknown, unknown>;
  onEffect: (effect: ClientNews) => void;
}

export interface LinkContext {
  /** The state of a hop changed: publish it soon. */
  changed: () => void;
}

export const lineTiming = (link: LinkConfig): LineTiming => {
  const { bitRate, keyUpMs, keyDownMs, quietMs } = link.line;
  return { bitRate, bitsPerOctet: bitsPerOctet(link), keyUpMs, keyDownMs, quietMs };
};

/** How a device is reached. */
export interface DeviceLink {
  readonly config: LinkConfig;
  readonly isEmpty: boolean;
  /** Its devices speak within conversations that others have made. */
  readonly isGuest: boolean;
  fits(config: LinkConfig): boolean;
  attach(member: LinkMember): void;
  detach(code: string): void;
  command(device: string, command: Command): void;
  isUp(device: string): boolean;
  /** What a guest has to keep to, once its conversation stands. */
  within?(device: string): () => ConversationTerms;
  start(): void;
  /** Calls now, where it is made on demand. */
  call?(): void;
  stop(): Promise<void>;
}

/** One lane with the driver that gives it time. */
export class RunningLane {
  readonly lane: Lane<Command, ClientNews, unknown>;
  private readonly driver: Driver<LaneCommand<Command>, LaneEffect<ClientNews>>;
  private readonly members = new Map<string, LinkMember>();
  private readonly recent = new RecentTurns();
  lastTurn = clock.now();

  constructor(
    { protocol, framing, ...link }: LinkConfig,
    private readonly wire: {
      send: (octets: Uint8Array, device: string) => void;
      key: (on: boolean) => void;
      /** A device answered. */
      useful: () => void;
      /** Its connection is good for nothing any more. */
      hangUp: (device: string, words: string) => void;
    },
  ) {
    const timing = lineTiming({ protocol, framing, ...link });
    this.lane = new Lane(timing, clientSide(protocol).framing(framing, octetMs(timing)), clock.now());
    this.driver = new Driver(this.lane, (effect) => this.onEffect(effect));
  }

  add(member: LinkMember): void {
    this.members.set(member.code, member);
    this.lane.add(member.code, member.client, clock.now());
    this.driver.settle();
  }

  /** Ends the device's session; its last effects are carried out. */
  remove(code: string): void {
    this.lane.remove(code, clock.now());
    this.driver.settle();
    this.members.delete(code);
  }

  get size(): number {
    return this.members.size;
  }

  /** The last ones, in order. */
  get turns(): Turn[] {
    return this.recent.all();
  }

  start(): void {
    this.lastTurn = clock.now();
    this.driver.start();
  }

  stop(): void {
    this.driver.stop();
  }

  close(): void {
    this.driver.stop();
    this.driver.close();
  }

  receive(bytes: Uint8Array): void {
    this.driver.receive(bytes);
  }

  command(device: string, command: Command): void {
    this.driver.command({ device, command });
  }

  private onEffect(effect: LaneEffect<ClientNews>): void {
    switch (effect.type) {
      case 'send':
        this.wire.send(effect.octets, effect.device);
        break;
      case 'key':
        this.wire.key(effect.on);
        break;
      case 'device':
        if (effect.effect.type === 'answered') this.wire.useful();
        if (effect.effect.type === 'hangUp') this.wire.hangUp(effect.device, effect.effect.words);
        this.members.get(effect.device)?.onEffect(effect.effect);
        break;
      case 'turn':
        this.lastTurn = effect.turn.ended;
        this.recent.add(effect.turn);
        break;
      default:
        effect satisfies never;
    }
  }
}

/** A caller that says nothing for so long is asked who it is. */
const SILENT_CALLER_MS = 1500;
const IDLE_LOOK_MS = 200;

/**
 * A link and the lanes on it. Where we connect, all its devices share one lane. Where devices call us, each has a lane
 * of its own on the connection on which it was last heard; unless the link has a line (a bit rate): then one gateway
 * calls for all of them, they share a lane, and the newest call counts.
 */
export class LinkRunner implements DeviceLink {
  readonly isGuest = false;
  private readonly shared: RunningLane | null;
  private readonly own = new Map<string, RunningLane>();
  private readonly members = new Map<string, LinkMember>();
  private readonly transport: Reconnecting | null;
  private readonly server: CallServer | null;
  private readonly callers = new Map<Call, CallerState>();
  /** The call of the gateway, where one calls for all. */
  private gateway: Call | null = null;
  /** Orders for devices whose link rests: they go when it is up. */
  private waiting: { device: string; command: Command; until: number }[] = [];
  private readonly idle: NodeJS.Timeout | null;
  private upSince: number | null = null;
  /** Why somebody who called was not let in, until somebody is. */
  private refusal: string | null = null;

  constructor(
    readonly config: LinkConfig,
    private readonly context: LinkContext,
  ) {
    this.certificate = new CertificateEnd(config);
    this.transport = makeTransport(config, {
      up: () => this.onUp(),
      down: () => this.onDown(),
      data: (bytes) => this.shared?.receive(bytes),
      changed: () => context.changed(),
    });
    this.server =
      this.transport === null
        ? new CallServer(
            {
              host: config.host,
              port: config.port,
              ...tlsOf(config),
              link: config.code,
              allows: (address) => isAllowed(address, config.allowFrom),
            },
            {
              came: (call) => this.onCall(call),
              data: (call, bytes) => this.onCallData(call, bytes),
              ended: (call) => this.onCallEnd(call),
              changed: () => context.changed(),
              refused: (words) => {
                this.refusal = words;
                context.changed();
              },
            },
          )
        : null;
    const { transport } = this;
    this.shared =
      transport !== null || config.line.bitRate > 0
        ? new RunningLane(config, {
            send: (octets) => (transport === null ? this.gateway?.send(octets) : transport.send(octets)),
            key: (on) => transport?.key(on),
            useful: () => transport?.useful(),
            hangUp: (_device, words) => (transport === null ? this.gateway?.end() : transport.drop(words)),
          })
        : null;
    this.idle = config.calls.when === 'onDemand' && transport ? setInterval(() => this.lookIdle(), IDLE_LOOK_MS) : null;
  }

  private started = false;
  private readonly certificate: CertificateEnd;

  /** Opens the link, once. */
  start(): void {
    if (this.started) return;
    this.started = true;
    this.transport?.open();
    this.server?.open();
  }

  async stop(): Promise<void> {
    if (this.idle !== null) clearInterval(this.idle);
    this.transport?.close();
    this.shared?.close();
    for (const lane of this.own.values()) lane.close();
    for (const { timer } of this.callers.values()) clearTimeout(timer);
    await this.server?.close();
  }

  /** Whether this runner can go on for that configuration. */
  fits(config: LinkConfig): boolean {
    return linkTouch(this.config, config) !== 'restarts';
  }

  get isEmpty(): boolean {
    return this.members.size === 0;
  }

  attach(member: LinkMember): void {
    this.members.set(member.code, member);
    if (this.shared) this.shared.add(member);
    else {
      const lane = new RunningLane(this.config, {
        send: (octets, device) => this.callOf(device)?.send(octets),
        key: () => {},
        useful: () => {},
        hangUp: (device) => this.callOf(device)?.end(),
      });
      this.own.set(member.code, lane);
      lane.add(member);
    }
  }

  detach(code: string): void {
    this.members.delete(code);
    this.shared?.remove(code);
    const lane = this.own.get(code);
    lane?.remove(code);
    lane?.close();
    this.own.delete(code);
    for (const state of this.callers.values()) state.devices.delete(code);
  }

  command(device: string, command: Command): void {
    const lane = this.shared ?? this.own.get(device);
    const waits = command.type === 'control' || command.type === 'order' || command.type === 'survey';
    if (this.transport !== null && this.isResting && waits) {
      const until = command.type === 'control' ? command.expiresAt : clock.now() + this.config.connectTimeoutMs * 2;
      this.waiting.push({ device, command, until });
      setTimeout(() => this.giveUpWaiting(), Math.max(0, until - clock.now()) + 1);
      this.transport.call();
      return;
    }
    lane?.command(device, command);
  }

  /** Whether the device can be reached now. */
  isUp(device: string): boolean {
    if (this.transport !== null) return this.transport.state.state === 'connected';
    return this.shared !== null ? this.gateway !== null : this.callOf(device) !== undefined;
  }

  /** Calls now, where the link is made on demand. */
  call(): void {
    this.transport?.call();
  }

  private get isResting(): boolean {
    return this.config.calls.when === 'onDemand' && this.transport?.state.state !== 'connected';
  }

  private giveUpWaiting(): void {
    const now = clock.now();
    const over = this.waiting.filter(({ until }) => now >= until);
    this.waiting = this.waiting.filter(({ until }) => now < until);
    // Without a link each of them ends with its reason.
    for (const { device, command } of over) this.shared?.command(device, command);
  }

  private onUp(): void {
    this.upSince = clock.now();
    this.shared?.start();
    for (const { device, command } of this.waiting.splice(0)) this.shared?.command(device, command);
  }

  private onDown(): void {
    this.upSince = null;
    this.shared?.stop();
  }

  /** Hangs up a link on demand once nobody on it has anything left to do. */
  private lookIdle(): void {
    const { transport, shared, config } = this;
    if (transport?.state.state !== 'connected' || !shared || this.upSince === null) return;
    const now = clock.now();
    const busy = [...this.members.values()].some(({ client }) => !client.atRest);
    if (busy || now - Math.max(shared.lastTurn, this.upSince) < config.calls.idleMs) return;
    const { everyMs } = config.calls;
    transport.rest(everyMs > 0 ? Math.max(now + 1000, this.upSince + everyMs) : null);
  }

  // ---- devices that call

  private callOf(device: string): Call | undefined {
    for (const [call, { devices }] of this.callers) if (devices.has(device)) return call;
    return undefined;
  }

  private onCall(call: Call): void {
    const { use, serverName } = this.config.tls;
    if (use && serverName !== '' && !call.names.includes(serverName)) {
      call.end();
      return;
    }
    const caller = clientSide(this.config.protocol).recogniser([...this.members.values()]);
    if (caller === null) {
      call.end();
      return;
    }
    this.refusal = null;
    const timer = setTimeout(() => this.askWho(call), SILENT_CALLER_MS);
    this.callers.set(call, { caller, devices: new Set(), timer, since: clock.now() });
    this.context.changed();
  }

  /** Whoever called says nothing: those who are not connected are asked for their link status. */
  private askWho(call: Call): void {
    const state = this.callers.get(call);
    if (state === undefined || state.devices.size > 0) return;
    const missing = [...this.members.values()].filter(({ code }) => this.callOf(code) === undefined);
    for (const { settings } of missing.slice(0, MOST_ASKED)) {
      const question = clientSide(this.config.protocol).question(settings);
      if (question !== null) call.send(question);
    }
    state.timer = setTimeout(() => {
      if (state.devices.size === 0) call.end();
    }, SILENT_CALLER_MS * 4);
  }

  private onCallData(call: Call, bytes: Uint8Array): void {
    const state = this.callers.get(call);
    if (state === undefined) return;
    if (this.shared !== null) {
      this.onGatewayData(call, state, bytes);
      return;
    }
    for (const device of state.caller.push(bytes, clock.now())) {
      if (state.devices.has(device)) continue;
      // Its newest connection counts.
      const before = this.callOf(device);
      if (before) this.leave(before, device);
      state.devices.add(device);
      clearTimeout(state.timer);
      call.known();
      this.own.get(device)?.start();
      this.context.changed();
    }
    for (const device of state.devices) this.own.get(device)?.receive(bytes);
  }

  private onGatewayData(call: Call, state: CallerState, bytes: Uint8Array): void {
    for (const device of state.caller.push(bytes, clock.now())) state.devices.add(device);
    if (state.devices.size === 0) return;
    if (this.gateway !== call) {
      clearTimeout(state.timer);
      call.known();
      const before = this.gateway;
      this.gateway = call;
      if (before !== null) {
        this.onDown();
        before.end();
      }
      this.onUp();
      this.context.changed();
    }
    this.shared?.receive(bytes);
  }

  private leave(call: Call, device: string): void {
    const state = this.callers.get(call);
    if (!state?.devices.delete(device)) return;
    this.own.get(device)?.stop();
    if (state.devices.size === 0) call.end();
  }

  private onCallEnd(call: Call): void {
    const state = this.callers.get(call);
    this.callers.delete(call);
    if (state === undefined) return;
    clearTimeout(state.timer);
    if (this.gateway === call) {
      this.gateway = null;
      this.onDown();
    }
    for (const device of state.devices) this.own.get(device)?.stop();
    this.context.changed();
  }

  // ---- what people see

  /** What of its state people act on. */
  essence(): string {
    const { state, since, problem } = this.transport?.state ?? this.state();
    return `${state} ${since} ${problem}`;
  }

  state(): LinkState {
    const endpoint = this.transport?.where ?? endpointWords(this.config);
    const devices = [...this.members.keys()];
    const certificateEnds = this.certificate.at;
    if (this.transport !== null) return { ...this.transport.state, endpoint, devices, certificateEnds };
    const connected = [...this.callers.values()].filter((caller) => caller.devices.size > 0);
    const since = Math.max(0, ...connected.map((caller) => caller.since));
    const problem = this.server?.problem ?? this.refusal;
    return {
      state: connected.length > 0 ? 'connected' : problem === null ? 'resting' : 'waiting',
      since: since || clock.now(),
      tries: 0,
      nextTry: null,
      problem,
      endpoint,
      devices,
      certificateEnds,
    };
  }

  /** The lane as a screen shows it. */
  laneState(): LaneState {
    const lanes = this.shared ? [this.shared] : [...this.own.values()];
    const now = clock.now();
    const numbers = lanes.map(({ lane }) => lane.numbers());
    const sum = (of: (one: (typeof numbers)[number]) => number): number =>
      numbers.reduce((total, one) => total + of(one), 0);
    return {
      at: now,
      since: Math.min(...numbers.map(({ since }) => since), now),
      turns: sum((one) => one.turns),
      sendingMs: sum((one) => one.sendingMs),
      receivingMs: sum((one) => one.receivingMs),
      waitingMs: sum((one) => one.waitingMs),
      turningMs: sum((one) => one.turningMs),
      otherFrames: sum((one) => one.otherFrames),
      badFrames: sum((one) => one.badFrames),
      bitRate: this.config.line.bitRate,
      devices: Object.assign({}, ...numbers.map(({ devices }) => devices)) as LaneState['devices'],
      queue: lanes.flatMap(({ lane }) => lane.queue(now)),
      strip: lanes
        .flatMap(({ turns }) => turns)
        .sort((a, b) => a.began - b.began)
        .slice(-MAX_STRIP),
    };
  }
}

interface CallerState {
  caller: Recogniser;
  devices: Set<string>;
  timer: NodeJS.Timeout;
  since: number;
}

const MOST_ASKED = 50;
const MAX_STRIP = 120;
