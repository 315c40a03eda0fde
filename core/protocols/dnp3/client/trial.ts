import { POINT_KINDS, KIND_WORDS, type PointKind } from '../../../point/index.ts';
import type { Instant } from '../../../session/index.ts';
import type { TrialEffect } from '../../client.ts';
import { PolledTrial, TRIES } from '../../polling/trial.ts';
import { SELF_ADDRESS } from '../address.ts';
import { encodeFragment, FunctionCode, Iin, iinWords, single, REFUSED } from '../wire/application.ts';
import { CounterSet } from '../counters.ts';
import { Endpoint } from '../wire/endpoint.ts';
import { SecondaryFunction, type LinkFrame } from '../wire/link.ts';
import { measuredReadings } from '../wire/measured.ts';
import { read } from './tasks/index.ts';

/*
 * A first conversation with a device that is not in service yet: asks for its link status, then reads the present
 * value of all points (class 0), and says in words what came back.
 *
 * Rules:
 * 1. One step after the other; each ends as good, odd (went on all the same) or bad (the end).
 * 2. A device may leave a link status request unanswered: the read decides.
 * 3. Each request is sent twice before it counts as unanswered.
 * 4. Events are not asked for: nothing is taken from the device that its own master would miss.
 * 5. When nothing answers at all, the self-address is asked: a device that knows it tells its own address.
 */

export interface TrialSettings {
  ourAddress: number;
  theirAddress: number;
  responseTimeoutMs: number;
  maxFragment: number;
}

type Step = 'linkStatus' | 'read';

export class Trial extends PolledTrial<Step> {
  private readonly endpoint: Endpoint;
  private sequence = 0;
  private counts = new Map<PointKind, number>();
  /** What came that was not meant for us or not from the device, newest last. */
  private strange: LinkFrame | null = null;
  private heard = false;
  private askedSelf = false;
  private readonly counters: CounterSet;

  constructor(
    private readonly settings: TrialSettings,
    now: Instant,
  ) {
    const closedMeans = 'it may accept one master at a time, or only masters that it knows by their IP address.';
    super('linkStatus', settings.responseTimeoutMs, closedMeans);
    this.counters = new CounterSet(now);
    this.endpoint = new Endpoint({
      role: 'master',
      ...settings,
      counters: this.counters,
      observe: (frame) => this.onFrame(frame),
    });
  }

  receive(bytes: Uint8Array, now: Instant): void {
    for (const { fragment } of this.endpoint.receive(bytes, now)) {
      if (this.step !== 'read' || fragment.functionCode !== FunctionCode.response) continue;
      if (fragment.control.sequence !== this.sequence) continue;
      this.onAnswer(fragment, now);
    }
    if (this.step === 'linkStatus' && this.heard) {
      this.report('linkStatus', 'good', `link status after ${now - this.sentAt} ms`);
      this.begin('read', now);
    }
  }

  protected unanswered(step: Step, now: Instant): void {
    if (step === 'read' && this.strange === null && !this.askedSelf) {
      this.askedSelf = true;
      this.report('read', 'running', 'nothing answers; asking whoever is there for its address');
      this.endpoint.requestLinkStatus(SELF_ADDRESS);
      this.waitOn(now);
      return;
    }
    const { words, meaning } = this.silence();
    if (step === 'linkStatus' && this.strange === null) {
      this.report('linkStatus', 'odd', words, 'Some devices leave this request unanswered; reading decides.');
      this.begin('read', now);
    } else this.end(words, meaning);
  }

  override take(): TrialEffect[] {
    const octets = this.endpoint.takeOutput();
    if (octets !== null) this.out(octets);
    return super.take();
  }

  protected wordsOf(step: Step): string {
    return step === 'linkStatus' ? 'asking for the link status' : 'reading class 0';
  }

  protected ask(step: Step, now: Instant): void {
    if (step === 'linkStatus') {
      this.endpoint.requestLinkStatus();
      return;
    }
    this.counts = new Map();
    this.sequence = (this.sequence + 1) & 0x0f;
    const [functionCode, objects] = read.request({ type: 'read', classes: [0] }, now);
    this.endpoint.sendFragment(encodeFragment(single(this.sequence), functionCode, null, objects), now);
  }

  private onFrame(frame: LinkFrame): void {
    const { ourAddress, theirAddress } = this.settings;
    if (frame.fromMaster) return;
    if (frame.source !== theirAddress || frame.destination !== ourAddress) this.strange = frame;
    else if (this.step === 'linkStatus' && !frame.primary)
      this.heard = frame.functionCode === SecondaryFunction.linkStatus || frame.functionCode === SecondaryFunction.ack;
  }

  private onAnswer(fragment: Parameters<typeof measuredReadings>[0], now: Instant): void {
    const iin = fragment.iin ?? 0;
    const refusal = iin & REFUSED;
    if (refusal) {
      this.end(
        `it answered, but refused: ${iinWords(refusal).join(', ')}`,
        'The device does not know class 0, or is not set up for it: look at the profile or the map of the device.',
      );
      return;
    }
    const { readings, problem } = measuredReadings(fragment);
    for (const { kind } of readings) this.counts.set(kind, (this.counts.get(kind) ?? 0) + 1);
    if (problem !== null) {
      this.end(`its answer is not understood: ${problem.words}`, 'It uses an object that is not supported.');
      return;
    }
    if (fragment.control.confirm)
      this.endpoint.sendFragment(encodeFragment(single(this.sequence), FunctionCode.confirm, null), now);
    if (!fragment.control.final) {
      this.sequence = (this.sequence + 1) & 0x0f;
      this.waitOn(now);
      return;
    }
    const found = POINT_KINDS.flatMap((kind) => {
      const count = this.counts.get(kind);
      return count === undefined ? [] : [`${count} ${count === 1 ? KIND_WORDS[kind].one : KIND_WORDS[kind].many}`];
    });
    const says = iinWords(iin & (Iin.deviceTrouble | Iin.localControl | Iin.needTime | Iin.deviceRestart));
    this.report(
      'read',
      'good',
      `${found.length > 0 ? found.join(', ') : 'no point'} after ${now - this.sentAt} ms`,
      [
        found.length === 0
          ? 'The device has nothing in class 0: its map is empty, or its points are left out of it.'
          : '',
        says.length > 0 ? `The device says: ${says.join(', ')}.` : '',
      ]
        .filter((words) => words !== '')
        .join(' '),
    );
    this.finish(true);
  }

  /** What it means that no answer came. */
  private silence(): { words: string; meaning: string } {
    const { ourAddress, theirAddress } = this.settings;
    const { strange } = this;
    if (strange !== null && strange.source !== theirAddress)
      return {
        words: `it answers with address ${strange.source}, not ${theirAddress}${this.askedSelf ? '; it told us so at the self-address, 65532' : ''}`,
        meaning: `Set their address to ${strange.source} here, or the device's own to ${theirAddress} there.`,
      };
    if (strange !== null)
      return {
        words: `it answers to address ${strange.destination}, not to ours, ${ourAddress}`,
        meaning: `The device expects its master at ${strange.destination}: set our address to that here, or the master address to ${ourAddress} there.`,
      };
    if (this.counters.values.noiseOctets || this.counters.values.headerChecksums)
      return {
        words: 'octets came that are no DNP3 frame',
        meaning: 'Another protocol answers on that port, or the line is set to another speed than the device.',
      };
    return {
      words: `connected, but silent: no answer to ${TRIES} requests in ${this.settings.responseTimeoutMs} ms each`,
      meaning:
        `The device has another address than ${theirAddress}, or answers only a master with an address that is not ${ourAddress}, ` +
        'or DNP3 is not switched on at that port.',
    };
  }
}
