import { MmsClient, type Answer, type MmsClientEffect, type MmsClientSettings, type Told } from '../client.ts';
import { MmsServer, type MmsObjects, type MmsServerEffect } from '../server.ts';
import type { Negotiated } from '../wire/pdu.ts';
import type { ServiceName, Services } from '../wire/services.ts';
import { settings } from './pair.ts';

/** A client and a server in one loop, in virtual time. */
export class Talk {
  now = 1_700_000_000_000;
  readonly client: MmsClient;
  readonly server: MmsServer;
  readonly news: { client: MmsClientEffect[]; server: MmsServerEffect[] } = { client: [], server: [] };
  /** What the server told unasked. */
  readonly told: Told[] = [];
  onTold: (told: Told) => void = () => {};
  /** What becomes of octets on their way; null: they are lost. */
  wire: (octets: Uint8Array, fromClient: boolean) => Uint8Array | null = (octets) => octets;

  constructor(
    objects: MmsObjects,
    client: Partial<MmsClientSettings> = {},
    private readonly agree: (agreement: Negotiated) => Negotiated = (agreement) => agreement,
  ) {
    this.client = new MmsClient({ ...settings(), responseTimeoutMs: 2000, ...client }, (told) => {
      this.told.push(told);
      this.onTold(told);
    });
    const { ours, theirs } = settings();
    this.server = new MmsServer(settings({ ours: theirs, theirs: ours }), objects);
  }

  start(): this {
    this.server.start(this.now);
    this.client.start(this.now);
    this.pump();
    return this;
  }

  /** Asks, and returns the answer once it is there; null: it is not. */
  ask<Name extends ServiceName>(service: Name, request: Services[Name]['request']): Answer<Name> | null {
    let answer: Answer<Name> | null = null;
    this.client.ask(service, request, (one) => (answer = one), this.now);
    this.pump();
    return answer;
  }

  pass(ms: number): void {
    this.now += ms;
    this.client.wake(this.now);
    this.server.wake(this.now);
    this.pump();
  }

  pump(): void {
    for (let busy = true; busy;) {
      busy = false;
      for (const effect of this.client.take()) {
        busy = true;
        this.news.client.push(effect);
        if (effect.type !== 'send') continue;
        const arrived = this.wire(effect.octets, true);
        if (arrived !== null) this.server.receive(arrived, this.now);
      }
      for (const effect of this.server.take()) {
        busy = true;
        this.news.server.push(effect);
        if (effect.type === 'asked') this.server.accept(this.agree(effect.caller.agreement));
        if (effect.type !== 'send') continue;
        const arrived = this.wire(effect.octets, false);
        if (arrived !== null) this.client.receive(arrived, this.now);
      }
    }
  }
}
