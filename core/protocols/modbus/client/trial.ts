import type { Instant } from '../../../session/index.ts';
import { PolledTrial } from '../../polling/trial.ts';
import type { ClientSettings } from '../settings.ts';
import { encodeFrame, modbusFraming, type FramingName, type WireEvent } from '../wire/frame.ts';
import { ExceptionCode, decodeAnswer, encodeRequest, exceptionWords, type Answer, type Request } from '../wire/pdu.ts';

/*
 * A first conversation with a server that is not in service yet: asks what it is, then reads one register, and says in
 * words what came back.
 *
 * Rules:
 * 1. A server need not say what it is: an exception, or no answer, is odd and no more.
 * 2. An exception to the read is an answer too: it is there, and does not have that register.
 * 3. Each request is sent twice before it counts as unanswered.
 */

type Step = 'identify' | 'read';
const REQUESTS: Record<Step, Request> = {
  identify: { code: 0x2b, access: 1, object: 0 },
  read: { code: 0x03, address: 0, count: 1 },
};

export class Trial extends PolledTrial<Step> {
  private transaction = 0;
  /** Units that answered in its place, and what was no frame. */
  private readonly strangers = new Set<number>();
  private broken = 0;
  private readonly wire;

  constructor(
    private readonly settings: ClientSettings,
    private readonly framing: FramingName,
  ) {
    const closedMeans = 'it may take one client at a time, or only those that it knows by their IP address.';
    super('identify', settings.responseTimeoutMs, closedMeans);
    this.wire = modbusFraming(framing, 'responses', 0);
  }

  protected wordsOf(step: Step): string {
    return step === 'identify' ? 'asking what it is' : 'reading holding register 0';
  }

  protected ask(step: Step): void {
    this.transaction++;
    this.out(encodeFrame(this.framing, this.transaction, this.settings.unitId, encodeRequest(REQUESTS[step])));
  }

  receive(bytes: Uint8Array, now: Instant): void {
    for (const event of this.wire.push(bytes, now)) this.onEvent(event, now);
  }

  private onEvent(event: WireEvent, now: Instant): void {
    const { step } = this;
    if (step === null) return;
    if (event.type !== 'frame') this.broken++;
    else if (event.unit !== this.settings.unitId) this.strangers.add(event.unit);
    else if (event.transaction === null || event.transaction === this.transaction) {
      const answer = decodeAnswer(event.pdu, REQUESTS[step]);
      if (typeof answer !== 'string') this.onAnswer(step, answer, now);
    }
  }

  private onAnswer(step: Step, answer: Answer, now: Instant): void {
    const took = `after ${now - this.sentAt} ms`;
    const exception = exceptionOf(answer);
    if (exception === ExceptionCode.gatewaySilent || exception === ExceptionCode.noGatewayPath) {
      const words = `a gateway answers ${took}: ${exceptionWords(exception)}`;
      return this.end(words, `Unit ${this.settings.unitId} is not behind it, or is off: the gateway is there.`);
    }
    if (step === 'identify') {
      const objects = answer.ok && answer.response.code === 0x2b ? answer.response.objects : [];
      const said = objects.map(({ text }) => text).join(', ');
      if (said !== '') this.report(step, 'good', `it says ${said}, ${took}`);
      else
        this.report(
          step,
          'odd',
          answer.ok ? `it says nothing of itself, ${took}` : exceptionWords(exceptionOf(answer)),
        );
      this.begin('read', now);
      return;
    }
    const words = answer.ok ? `it answers ${took}` : `it answers ${took}: ${exceptionWords(exceptionOf(answer))}`;
    this.report(
      step,
      answer.ok ? 'good' : 'odd',
      words,
      answer.ok ? '' : 'It is there, and does not have that register.',
    );
    this.finish(true);
  }

  protected unanswered(step: Step, now: Instant): void {
    if (step === 'identify') {
      this.report(step, 'odd', 'no answer; not every server knows that');
      this.begin('read', now);
    } else this.end(this.silentWords(), this.silentMeaning());
  }

  private silentWords(): string {
    if (this.strangers.size > 0)
      return `unit ${[...this.strangers].join(', ')} answers, ${this.settings.unitId} was asked`;
    if (this.broken > 0) return 'something comes, but no frame of this framing';
    return 'connected, but silent';
  }

  private silentMeaning(): string {
    if (this.strangers.size > 0) return 'The unit identifier is another one: put it right here or at the device.';
    if (this.broken > 0) return 'Another framing, another bit rate or parity, or another protocol on that port.';
    return 'A wrong unit identifier, another framing than the one chosen, or a gateway with nothing behind it.';
  }
}

const exceptionOf = (answer: Answer): number => (answer.ok ? 0 : answer.exception);
