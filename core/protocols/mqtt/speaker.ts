import type { Instant } from '../../session/index.ts';
import type { Message } from '../publishing/form.ts';
import type { Speaker, SpeakerNews } from '../publishing/spoken.ts';
import { BrokerConversation, type ConversationNews } from './conversation.ts';
import type { PublisherSettings } from './settings.ts';

/** Of what belongs to no packet. */
const NO_PACKET = -1;

/** Takes packets to a broker: one has come once it has acknowledged all of its messages. */
export class BrokerSpeaker implements Speaker {
  private readonly conversation: BrokerConversation;
  private news: SpeakerNews[] = [];
  /** The packet under way, with what of it is not acknowledged yet. */
  private packet: { number: number; left: number; problem: string | null } | null = null;

  constructor(private readonly settings: PublisherSettings) {
    const { version, clientId, user, password, keepAliveS, willTopic, willText, willRetain } = settings;
    this.conversation = new BrokerConversation({
      ...{ version: version === '5' ? 5 : 4, clientId, user, password, keepAliveS },
      will: willTopic === '' ? null : { topic: willTopic, text: willText, retain: willRetain },
    });
  }

  get deadline(): Instant | null {
    return this.conversation.deadline;
  }
  take(): SpeakerNews[] {
    for (const one of this.conversation.take()) this.onNews(one);
    const { news } = this;
    this.news = [];
    return news;
  }

  start(now: Instant): void {
    this.packet = null;
    this.hasGreeted = false;
    this.conversation.start(now);
  }
  stop(now: Instant): void {
    this.packet = null;
    this.conversation.stop(now);
  }
  receive(octets: Uint8Array, now: Instant): void {
    this.conversation.receive(octets, now);
    this.greet(now);
  }
  wake(now: Instant): void {
    this.conversation.wake(now);
  }
  leave(now: Instant): void {
    this.conversation.leave(now);
  }

  carry(packet: number, messages: readonly Message[], now: Instant): void {
    this.packet = { number: packet, left: messages.length, problem: null };
    const { retain } = this.settings;
    this.conversation.publish(
      messages.map(({ to, octets }) => ({ to, octets, retain, tag: packet })),
      now,
    );
  }

  private hasGreeted = false;
  /** In front of the first packet: whoever looks at the topic of the last words sees that they do not hold any more. */
  private greet(now: Instant): void {
    const { isIn } = this.conversation;
    const { willTopic, willRetain, onlineText } = this.settings;
    if (!isIn || this.hasGreeted) return;
    this.hasGreeted = true;
    if (willTopic !== '' && onlineText !== '')
      this.conversation.publish(
        [{ to: willTopic, octets: new TextEncoder().encode(onlineText), retain: willRetain, tag: NO_PACKET }],
        now,
      );
  }

  private onNews(news: ConversationNews): void {
    switch (news.type) {
      case 'in':
        this.news.push({ type: 'heard' }, { type: 'ready' });
        break;
      case 'published':
        this.onPublished(news.tag, news.problem);
        break;
      case 'send':
      case 'heard':
      case 'diagnostic':
      case 'hangUp':
        this.news.push(news);
        break;
      default:
        news satisfies never;
    }
  }

  private onPublished(tag: number, problem: string | null): void {
    const { packet } = this;
    if (problem !== null && tag === NO_PACKET) this.news.push({ type: 'diagnostic', words: problem });
    if (packet === null || packet.number !== tag) return;
    packet.problem ??= problem;
    packet.left--;
    if (packet.left > 0) return;
    this.packet = null;
    this.news.push({ type: 'carried', packet: packet.number, problem: packet.problem });
  }
}
