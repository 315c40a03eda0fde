import { clock, inWords, TcpListener } from '@halvix/wire';
import { connect, type Socket } from 'node:net';
import { ImpairedWire, type Impairments } from './impairments.ts';

/** A device as its link sees it. */
export interface LinkUser {
  up(): void;
  down(): void;
  data(octets: Uint8Array): void;
}

export interface LinkReport {
  code: string;
  name: string;
  port: number;
  connected: boolean;
  problem: string | null;
  impairments: Impairments;
  counts: ImpairedWire['counts'];
}

const LOOK_MS = 250;

/** The bench's end of a link: one connection at a time, with what is wrong with it, and the devices behind it. */
export abstract class BenchLink {
  protected readonly wire: ImpairedWire;
  protected readonly users = new Set<LinkUser>();
  problem: string | null = null;
  private readonly timer: NodeJS.Timeout;
  private lastCut = clock.now();

  constructor(
    readonly code: string,
    readonly name: string,
    readonly port: number,
    halfDuplex = false,
  ) {
    this.wire = new ImpairedWire(clock.fine, Math.random, halfDuplex);
    this.timer = setInterval(() => this.look(), LOOK_MS);
    this.timer.unref();
  }

  get impairments(): Impairments {
    return this.wire.settings;
  }

  impair(settings: Impairments): void {
    this.wire.set(settings);
    this.lastCut = clock.now();
  }

  report(): LinkReport {
    const { code, name, port, problem, connected } = this;
    const { settings: impairments, counts } = this.wire;
    return { code, name, port, connected, problem, impairments, counts };
  }

  /** What a device sends. */
  send(octets: Uint8Array): void {
    this.wire.send(octets, 'toMaster', (arrived) => this.write(arrived));
  }

  private look(): void {
    const { cutEveryMs } = this.wire.settings;
    const now = clock.now();
    if (this.wire.isOut) this.cut();
    else if (cutEveryMs > 0 && now - this.lastCut >= cutEveryMs) {
      this.lastCut = now;
      this.cut();
    }
  }

  protected onUp(): void {
    this.wire.clear();
    for (const user of this.users) user.up();
  }

  protected onDown(): void {
    this.wire.clear();
    for (const user of this.users) user.down();
  }

  protected onData(octets: Uint8Array): void {
    this.wire.send(octets, 'toDevice', (arrived) => {
      for (const user of this.users) user.data(arrived);
    });
  }

  abstract readonly connected: boolean;
  protected abstract write(octets: Uint8Array): void;
  /** Ends the connection as a broken line does. */
  abstract cut(): void;
  abstract join(user: LinkUser): Promise<void>;
  abstract leave(user: LinkUser): Promise<void>;
}

/** Devices that listen: a relay on its own port, or a line with several behind a terminal server. */
export class ListeningLink extends BenchLink {
  private readonly listener: TcpListener;

  constructor(host: string, code: string, name: string, port: number, halfDuplex = false) {
    super(code, name, port, halfDuplex);
    this.listener = new TcpListener(
      { host, port, quietMs: 5000 },
      {
        up: () => (this.wire.isOut ? this.cut() : this.onUp()),
        down: () => this.onDown(),
        data: (octets) => {
          this.listener.heard();
          this.onData(octets);
        },
        refused: () => {},
        changed: () => (this.problem = this.listener.problem),
      },
    );
  }

  get connected(): boolean {
    return this.listener.connected;
  }

  protected write(octets: Uint8Array): void {
    this.listener.send(octets);
  }

  cut(): void {
    this.listener.cut();
  }

  /** The port is open as long as a device is behind it that has power. */
  join(user: LinkUser): Promise<void> {
    this.users.add(user);
    if (this.users.size === 1) this.listener.open();
    else if (this.connected) user.up();
    return Promise.resolve();
  }

  async leave(user: LinkUser): Promise<void> {
    this.users.delete(user);
    user.down();
    if (this.users.size === 0) await this.listener.close();
  }
}

/** A device that calls: it connects when it wakes and hangs up when it is done. */
export class CallingLink extends BenchLink {
  private socket: Socket | null = null;
  private up = false;

  constructor(
    private readonly host: string,
    code: string,
    name: string,
    port: number,
  ) {
    super(code, name, port);
  }

  get connected(): boolean {
    return this.up;
  }

  protected write(octets: Uint8Array): void {
    if (this.up) this.socket?.write(octets);
  }

  cut(): void {
    this.socket?.destroy();
  }

  join(user: LinkUser): Promise<void> {
    this.users.add(user);
    return Promise.resolve();
  }

  leave(user: LinkUser): Promise<void> {
    this.users.delete(user);
    this.cut();
    user.down();
    return Promise.resolve();
  }

  call(): void {
    if (this.socket !== null || this.wire.isOut) return;
    const socket = connect({ host: this.host, port: this.port, noDelay: true });
    this.socket = socket;
    socket.on('error', (error) => (this.problem = inWords(error)));
    socket.on('connect', () => {
      this.problem = null;
      this.up = true;
      this.onUp();
    });
    socket.on('data', (octets) => this.onData(octets));
    socket.on('close', () => {
      this.socket = null;
      if (this.up) this.onDown();
      this.up = false;
    });
  }
}
