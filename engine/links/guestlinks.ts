import { endpointWords, linkTouch, type LinkConfig } from '@halvix/core/config';
import { octetMs } from '@halvix/core/line';
import type { ConversationTerms, GuestNews } from '@halvix/core/protocols';
import { conversationKey, type Conversations } from './conversations.ts';
import { lineTiming, RunningLane, type DeviceCommand, type DeviceLink, type LinkMember } from './link.ts';
import type { CentreLink, OutboundMember } from './outboundlink.ts';

/* Links of those who have no connection of their own: they speak within the conversation of the party's other role. */

/** Its peer within a conversation of which there is one at a time. */
const PEER = 1;

/** To centres that are devices too, on whose conversations they are asked. */
export class GuestOutboundLink implements CentreLink {
  private readonly members = new Set<OutboundMember>();
  readonly timing;

  constructor(
    readonly config: LinkConfig,
    private readonly conversations: Conversations,
  ) {
    this.timing = { framing: config.framing, octetMs: octetMs(lineTiming(config)) };
  }

  private keyOf({ config }: OutboundMember): string {
    return conversationKey(this.config.code, config.partner);
  }

  get isEmpty(): boolean {
    return this.members.size === 0;
  }
  get where(): string {
    return endpointWords(this.config);
  }
  fits(config: LinkConfig | undefined): boolean {
    return config !== undefined && linkTouch(this.config, config) !== 'restarts';
  }

  get problem(): string | null {
    const [missing] = [...this.members].filter((member) => !this.conversations.hasHost(this.keyOf(member)));
    return missing ? `device ${missing.config.partner}, in whose conversation it is, is not in service` : null;
  }

  add(member: OutboundMember): void {
    this.members.add(member);
    this.conversations.openGuest(this.keyOf(member), (news) => this.onNews(member, news));
  }

  private onNews(member: OutboundMember, news: GuestNews): void {
    if (news.what === 'hears') member.data(PEER, news.octets);
    else if (news.what === 'begins') member.up(PEER, endpointWords(this.config), null, news.terms);
    else member.down(PEER);
  }

  remove(member: OutboundMember): void {
    if (!this.members.delete(member)) return;
    this.conversations.closeGuest(this.keyOf(member));
  }

  send(member: OutboundMember, octets: Uint8Array): void {
    this.conversations.say(this.keyOf(member), octets);
  }

  hangUp(member: OutboundMember): void {
    // It is not ours to end: the guest leaves it, and comes again.
    this.remove(member);
    this.add(member);
  }

  async close(): Promise<void> {
    for (const member of [...this.members]) this.remove(member);
  }
}

/** To devices that are centres too, and call us. */
export class GuestDeviceLink implements DeviceLink {
  readonly isGuest = true;
  private readonly lanes = new Map<string, RunningLane>();
  private readonly terms = new Map<string, ConversationTerms>();

  constructor(
    readonly config: LinkConfig,
    private readonly conversations: Conversations,
  ) {}

  private keyOf(device: string): string {
    return conversationKey(this.config.code, device);
  }

  get isEmpty(): boolean {
    return this.lanes.size === 0;
  }
  fits(config: LinkConfig): boolean {
    return linkTouch(this.config, config) !== 'restarts';
  }

  within(device: string): () => ConversationTerms {
    return () => this.terms.get(device) ?? { octets: 0, requests: 1 };
  }

  attach(member: LinkMember): void {
    const { code } = member;
    const key = this.keyOf(code);
    const lane = new RunningLane(this.config, {
      send: (octets) => this.conversations.say(key, octets),
      key: () => {},
      useful: () => {},
      // It is not ours to end: we begin anew within it.
      hangUp: () =>
        void setTimeout(() => {
          lane.stop();
          if (this.lanes.get(code) === lane && this.isUp(code)) lane.start();
        }, this.config.reconnectMaxMs),
    });
    this.lanes.set(code, lane);
    lane.add(member);
    this.conversations.openGuest(key, (news) => {
      if (news.what === 'hears') return lane.receive(news.octets);
      if (news.what === 'ends') return lane.stop();
      this.terms.set(code, news.terms);
      lane.start();
    });
  }

  detach(code: string): void {
    const lane = this.lanes.get(code);
    if (lane === undefined) return;
    this.conversations.closeGuest(this.keyOf(code));
    lane.remove(code);
    lane.close();
    this.lanes.delete(code);
    this.terms.delete(code);
  }

  command(device: string, command: DeviceCommand): void {
    this.lanes.get(device)?.command(device, command);
  }
  isUp(device: string): boolean {
    return this.conversations.stands(this.keyOf(device));
  }

  start(): void {
    // Whoever calls opens it.
  }
  async stop(): Promise<void> {
    for (const code of [...this.lanes.keys()]) this.detach(code);
  }
}
