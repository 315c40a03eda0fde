import type { PointKind } from '../../point/index.ts';
import type { Instant } from '../../session/index.ts';
import type { At, Placed } from '../definition.ts';
import type {
  OwedRecord,
  Remembered,
  Server,
  ServerCommand,
  ServerEffect,
  ServerPoint,
  ServerSide,
} from '../server.ts';
import type { Message, Packing } from './form.ts';
import { PublishingSession } from './publisher.ts';

/*
 * A destination with which we speak ourselves: the session of all destinations decides what goes out when, and a speaker
 * takes its packets there over the connection of the link.
 *
 *   connection stands ──▶ speaker begins ──ready──▶ packets go, one at a time ──hangUp, connection gone──▶ nothing goes
 */

export type SpeakerNews =
  | { type: 'send'; octets: Uint8Array }
  /** The other side takes packets from now on. */
  | { type: 'ready' }
  /** What became of a packet; a problem: it has not come, in words. */
  | { type: 'carried'; packet: number; problem: string | null }
  | { type: 'heard' }
  | { type: 'diagnostic'; words: string }
  /** The connection is good for nothing any more. */
  | { type: 'hangUp'; words: string };

/** Takes packets to one destination, over one connection at a time. Knows nothing of points. */
export interface Speaker {
  /** When to be woken next. */
  readonly deadline: Instant | null;
  start(now: Instant): void;
  stop(now: Instant): void;
  receive(octets: Uint8Array, now: Instant): void;
  wake(now: Instant): void;
  /** Between `ready` and the end of the connection, one at a time. */
  carry(packet: number, messages: readonly Message[], now: Instant): void;
  /** Nothing more is to go out: the other side is told, where that is usual. */
  leave(now: Instant): void;
  take(): SpeakerNews[];
}

class SpokenPublisher<Settings, Target extends At> implements Server<Target> {
  readonly wantsStored = true;
  private effects: ServerEffect[] = [];
  private isResting = false;
  private hasLeft = false;

  constructor(
    private readonly session: PublishingSession<Settings, Target>,
    private readonly speaker: Speaker,
  ) {}

  get counters(): Server<Target>['counters'] {
    return this.session.counters;
  }
  get eventsWaiting(): number {
    return this.session.eventsWaiting;
  }
  get isCrowded(): boolean {
    return this.session.isCrowded;
  }
  get awaits(): boolean {
    return this.session.awaits;
  }
  get owed(): readonly OwedRecord[] {
    return this.session.owed;
  }
  form(point: { kind: PointKind; at: Target }): string {
    return this.session.form(point);
  }
  said(kind: PointKind, quality: number): string {
    return this.session.said(kind, quality);
  }
  held(point: { kind: PointKind; at: Target }): { value: number; text: string } {
    return this.session.held(point);
  }

  get deadline(): Instant | null {
    const times = [this.session.deadline, this.speaker.deadline].filter((time) => time !== null);
    return times.length === 0 ? null : Math.min(...times);
  }
  take(): ServerEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  start(now: Instant): void {
    this.speaker.start(now);
    this.pass(now);
  }
  stop(now: Instant): void {
    this.speaker.stop(now);
    this.session.stop();
    this.pass(now);
  }
  receive(octets: Uint8Array, now: Instant): void {
    this.speaker.receive(octets, now);
    this.pass(now);
  }
  wake(now: Instant): void {
    this.speaker.wake(now);
    this.session.wake(now);
    this.pass(now);
  }
  command(command: ServerCommand<Target>, now: Instant): void {
    this.session.command(command, now);
    if (command.type === 'rest') this.isResting = true;
    this.pass(now);
  }

  /** What one says to the other, until both have said all. */
  private pass(now: Instant): void {
    for (;;) {
      const news = this.speaker.take();
      for (const one of news) this.onNews(one, now);
      const effects = this.session.take();
      for (const effect of effects)
        if (effect.type === 'carry') this.speaker.carry(effect.packet, effect.messages, now);
        else this.effects.push(effect);
      if (news.length === 0 && effects.length === 0) break;
    }
    if (!this.isResting || this.hasLeft || this.session.awaits) return;
    this.hasLeft = true;
    this.speaker.leave(now);
    for (const one of this.speaker.take()) this.onNews(one, now);
  }

  private onNews(news: SpeakerNews, now: Instant): void {
    switch (news.type) {
      case 'ready':
        this.session.start(now);
        break;
      case 'carried': {
        const { packet, problem } = news;
        this.session.command(
          problem === null ? { type: 'carried', packet } : { type: 'notCarried', packet, words: problem },
          now,
        );
        break;
      }
      case 'hangUp':
        this.session.stop();
        this.effects.push({ type: 'diagnostic', words: news.words }, news);
        break;
      case 'send':
      case 'heard':
      case 'diagnostic':
        this.effects.push(news);
        break;
      default:
        news satisfies never;
    }
  }
}

/** Sessions of a protocol in which we speak with the destination ourselves. */
export const spokenSide = <Settings, Target extends At>(
  print: (point: Placed<Target>) => string,
  packing: Packing<Settings, Target>,
  speakerOf: (settings: Settings) => Speaker,
): ServerSide<Settings, Target> => ({
  peers: () => null,
  make: (settings, _link, points: readonly ServerPoint<Target>[], now: Instant, remembered: Remembered) =>
    new SpokenPublisher(new PublishingSession(settings, print, packing, points, now, remembered), speakerOf(settings)),
  recogniser: () => ({ push: () => [] }),
});
