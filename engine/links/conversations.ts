import type { GuestCommand, GuestNews } from '@halvix/core/protocols';

/*
 * Conversations that both roles of one party share: one of our two sessions has made it (the host), the other one speaks
 * within it (the guest). Here they find each other, whichever of them is there first, and however often either is made
 * anew.
 */

interface Shared {
  host: ((command: GuestCommand) => void) | null;
  guest: ((news: GuestNews) => void) | null;
  /** Whether the guest knows that it stands. */
  stands: boolean;
}

export class Conversations {
  private readonly shared = new Map<string, Shared>();

  private at(key: string): Shared {
    const known = this.shared.get(key);
    if (known !== undefined) return known;
    const shared: Shared = { host: null, guest: null, stands: false };
    this.shared.set(key, shared);
    return shared;
  }

  /** Somebody may have a guest from now on. */
  openHost(key: string, host: (command: GuestCommand) => void): void {
    const shared = this.at(key);
    shared.host = host;
    if (shared.guest !== null) host({ type: 'guest', what: 'comes' });
  }
  closeHost(key: string): void {
    this.at(key).host = null;
    this.tell(key, { type: 'guest', what: 'ends' });
    this.forget(key);
  }

  openGuest(key: string, guest: (news: GuestNews) => void): void {
    const shared = this.at(key);
    shared.guest = guest;
    shared.host?.({ type: 'guest', what: 'comes' });
  }
  closeGuest(key: string): void {
    const shared = this.at(key);
    this.tell(key, { type: 'guest', what: 'ends' });
    shared.guest = null;
    shared.host?.({ type: 'guest', what: 'goes' });
    this.forget(key);
  }

  private forget(key: string): void {
    const { host, guest } = this.at(key);
    if (host === null && guest === null) this.shared.delete(key);
  }

  /** What the host has for its guest. */
  tell(key: string, news: GuestNews): void {
    const shared = this.shared.get(key);
    if (!shared?.guest || (news.what !== 'begins' && !shared.stands)) return;
    shared.stands = news.what !== 'ends';
    shared.guest(news);
  }

  /** What the guest has to say. */
  say(key: string, octets: Uint8Array): void {
    const shared = this.shared.get(key);
    if (shared?.stands) shared.host?.({ type: 'guest', what: 'says', octets });
  }

  stands(key: string): boolean {
    return this.shared.get(key)?.stands ?? false;
  }
  hasHost(key: string): boolean {
    return this.shared.get(key)?.host != null;
  }
}

/** By the link, and the device that the party is. */
export const conversationKey = (link: string, device: string): string => `${link} ${device}`;
