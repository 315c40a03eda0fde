/** So often in a row are the same events no accident any more: one confirm may be lost on its way. */
const TOO_OFTEN = 4;

/** Whether the device sends again and again what was confirmed: then our confirms do not get to it. */
export class Unheard {
  private times = 0;

  constructor(private readonly say: (words: string) => void) {}

  /** Nothing but what was there before came again. */
  again(): void {
    if (++this.times !== TOO_OFTEN) return;
    this.say(
      `the same events came ${TOO_OFTEN} times more although each was confirmed: our confirms do not get to the device, or it ` +
        'expects them from another address; nothing is stored twice',
    );
  }

  /** Something new came. */
  over(): void {
    this.times = 0;
  }
}
