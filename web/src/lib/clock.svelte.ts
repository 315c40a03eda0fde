import { browser } from '$app/environment';

/** The server's clock, as seen from this browser; ticks every half second. */
class ServerClock {
  private offset = 0;
  now = $state(Date.now());

  constructor() {
    if (browser) setInterval(() => (this.now = Date.now() + this.offset), 500);
  }

  set(serverNow: number): void {
    this.offset = serverNow - Date.now();
    this.now = serverNow;
  }
}

export const clock = new ServerClock();
