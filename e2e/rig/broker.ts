import { spawn, type ChildProcess } from 'node:child_process';
import { chmodSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { connect } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { freePorts } from '../../scripts/lib/ports.mjs';
import { Proxy } from './proxy.ts';
import type { Received } from './receiver.ts';

/** A line of mosquitto_sub: a message as it came. */
export interface Heard {
  topic: string;
  retained: boolean;
  payload: string;
}

/** mosquitto (Debian) on a port of its own, and what its own subscriber hears of it. */
export class Broker {
  readonly heard: Heard[] = [];
  private readonly folder = mkdtempSync(join(tmpdir(), 'halvix-broker-'));
  private readonly processes: ChildProcess[] = [];

  private constructor(readonly port: number) {}

  /** `more`: further lines of its configuration. Whoever subscribes hears everything that comes from then on. */
  static async start(more: (folder: string) => string[] = () => [], subscribe: string[] = []): Promise<Broker> {
    const [port] = await freePorts(1);
    const broker = new Broker(port);
    // It gives up the rights of root, and has to read what is here all the same.
    chmodSync(broker.folder, 0o755);
    const file = join(broker.folder, 'mosquitto.conf');
    // Of what it has to say, only what goes wrong.
    const lines = ['log_type error', `listener ${port} 127.0.0.1`, 'max_queued_messages 0'];
    const own = more(broker.folder);
    writeFileSync(file, [...lines, ...(own.length > 0 ? own : ['allow_anonymous true']), ''].join('\n'));
    broker.spawn('/usr/sbin/mosquitto', ['-c', file]);
    for (let n = 0; n < 200 && !(await answers(port)); n++) await new Promise((resolve) => setTimeout(resolve, 50));
    await broker.subscribe(subscribe);
    return broker;
  }

  private spawn(command: string, args: string[]): ChildProcess {
    const child = spawn(command, args, { stdio: ['ignore', 'pipe', 'inherit'] });
    this.processes.push(child);
    return child;
  }

  private async subscribe(more: string[]): Promise<void> {
    const args = ['-h', '127.0.0.1', '-p', String(this.port), '-q', '1', '-t', '#', '-F', '%r\t%t\t%p', ...more];
    const { stdout } = this.spawn('mosquitto_sub', args);
    const lines = createInterface({ input: stdout as NodeJS.ReadableStream });
    let begun = (): void => {};
    const first = new Promise<void>((resolve) => (begun = resolve));
    lines.on('line', (line) => {
      const [retained, topic, ...payload] = line.split('\t');
      if (topic === 'begun') begun();
      else this.heard.push({ topic, retained: retained === '1', payload: payload.join('\t') });
    });
    const own = more.filter((_, at) => ['-u', '-P'].includes(more[at]) || ['-u', '-P'].includes(more[at - 1] ?? ''));
    const tell = setInterval(() => {
      this.spawn('mosquitto_pub', ['-h', '127.0.0.1', '-p', String(this.port), '-t', 'begun', '-m', 'x', ...own]);
    }, 200);
    await first;
    clearInterval(tell);
  }

  /** Objects of Halvix's own message, in the order in which they came. */
  objects(topics: (topic: string) => boolean = () => true): ValueObject[] {
    return this.heard
      .filter(({ topic }) => topics(topic))
      .flatMap(({ topic, payload }) =>
        [JSON.parse(payload) as ValueObject | ValueObject[]].flat().map((one) => ({ ...one, topic })),
      );
  }

  stop(): void {
    for (const child of this.processes) child.kill('SIGKILL');
    rmSync(this.folder, { recursive: true, force: true });
  }
}

export interface ValueObject {
  topic: string;
  id: number;
  time: number;
  values: Record<string, unknown>;
  quality?: Record<string, string>;
}

const answers = (port: number): Promise<boolean> =>
  new Promise((resolve) => {
    const socket = connect({ port, host: '127.0.0.1' });
    socket.once('connect', () => resolve(true)).once('error', () => resolve(false));
    socket.once('connect', () => socket.destroy());
  });

/** A broker as somebody listens there: what has an id that was there already is dropped. Away is the way to it. */
export class BrokerReceiver {
  private wire: Proxy | null = null;

  private constructor(
    private readonly broker: Broker,
    public port: number,
    private readonly topic: string,
  ) {}

  static async start(topic: string): Promise<BrokerReceiver> {
    const [port] = await freePorts(1);
    return new BrokerReceiver(await Broker.start(), port, topic);
  }

  get state(): string {
    return this.wire === null ? 'off' : 'answering';
  }
  come(): void {
    this.wire ??= new Proxy(this.port, this.broker.port);
  }
  go(): void {
    this.wire?.close();
    this.wire = null;
  }
  stop(): void {
    this.go();
    this.broker.stop();
  }

  get received(): Received[] {
    const known = new Set<number>();
    return this.broker
      .objects((topic) => topic === this.topic)
      .flatMap(({ id, time, values }) => {
        if (known.has(id)) return [];
        known.add(id);
        return Object.keys(values).map((point) => ({ point, time, at: time }));
      });
  }
}
