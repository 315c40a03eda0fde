import { Association, type AssociationEffect } from '../../association.ts';
import type { Negotiated, Pdu } from '../../wire/pdu.ts';
import { encodePdu } from '../../wire/pdu.ts';
import type { Data, AccessResult } from '../../wire/data.ts';
import { contentOf, parseBer, type Element } from '../../wire/ber.ts';
import { settings as pairSettings } from '../pair.ts';

/*
 * A foreign server over MMS: it has an association of its own with whoever asks, and behind it one with ours, whose model and
 * values it shows in a way of its own. What it does otherwise than ours is a row of quirks.
 */

type Request = Pdu & { type: 'request' };
/** What becomes of a request: it goes on, is answered at once, or is never heard of again. */
export type Verdict = 'on' | 'lost' | { answer: Pdu };

export interface Quirks {
  /** What it can have of what is proposed. */
  agreement?: Partial<Negotiated>;
  /** Octets of a transport message. */
  tpduSize?: number;
  /** So many associations are refused first. */
  refuses?: number;
  request?: (request: Request) => Verdict;
  /** What it says in place of a message of the server behind it; `to`: the request that it answers. */
  says?: (pdu: Pdu, to: Request | undefined) => readonly Pdu[];
  /** The octets of a message of MMS, written in a way of its own. */
  writes?: (octets: Uint8Array) => Uint8Array;
  /** An answer takes so long. */
  delayMs?: number;
  /** Answers to requests that wait together come the last first. */
  lastFirst?: boolean;
  /** More requests under way than this are rejected. */
  most?: number;
  /** Octet by octet. */
  dribbles?: boolean;
  /** Closes a connection after so long. */
  closesAfterMs?: number;
}

/** The error of a service that is not to be had of that object (ISO 9506-2, 7.4.3: class access, object-access-unsupported). */
export const refusal = (invoke: number, of = 7, code = 1): Pdu => ({
  ...{ type: 'error', invoke, error: { class: of, code, words: '' } },
});
/** A request that it does not know (ISO 9506-2, 7.6: reject, confirmed request, unrecognised service). */
export const rejection = (invoke: number, code = 1): Pdu => ({ type: 'reject', invoke, kind: 1, code });

/** A result with each value in it, the innermost first, as another one. */
export function mapped<Result extends AccessResult>(result: Result, next: (value: Data) => Data): Result {
  if (result.type === 'failure') return result;
  const inner = 'items' in result ? { ...result, items: result.items.map((one) => mapped(one, next)) } : result;
  return next(inner as Data) as Result;
}

export class OddServer {
  private front!: Association;
  private back!: Association;
  private coming: { at: number; octets: Uint8Array; toClient: boolean }[] = [];
  private waiting: { at: number; pdu: Pdu }[] = [];
  private readonly asked = new Map<number, Request>();
  private wanted: Negotiated | null = null;
  /** Octets of a message at most. */
  private size: number | null = null;
  private closesAt = Infinity;
  private now = 0;
  /** Requests so far, by their services. */
  readonly counts = new Map<string, number>();
  refused = 0;
  /** The connection is to end. */
  closing = false;

  constructor(readonly quirks: Quirks) {}

  begin(now: number): void {
    this.now = now;
    const { agreement, tpduSize = 1024 } = this.quirks;
    const { ours, agreement: usual } = pairSettings();
    const open = { transport: new Uint8Array(), session: new Uint8Array(), presentation: new Uint8Array() };
    const server = Uint8Array.of(0, 1);
    this.front = new Association(
      pairSettings({ ours: open, theirs: open, tpduSize, agreement: { ...usual, ...agreement } }),
      'called',
    );
    const behind = { transport: server, session: server, presentation: Uint8Array.of(0, 0, 0, 1) };
    const most = { ...usual, calling: 1000, called: 1000 };
    this.back = new Association(pairSettings({ ours, theirs: behind, tpduSize: 8192, agreement: most }), 'calling');
    this.coming = [];
    this.waiting = [];
    this.asked.clear();
    this.wanted = null;
    this.closing = false;
    this.closesAt = now + (this.quirks.closesAfterMs ?? Infinity);
    this.front.start(now);
    this.back.start(now);
    this.settle();
  }

  get deadline(): number {
    const ends = [this.closesAt, ...this.coming.map(({ at }) => at), ...this.waiting.map(({ at }) => at)];
    return Math.min(...ends, this.front.deadline ?? Infinity, this.back.deadline ?? Infinity);
  }

  receive(octets: Uint8Array, fromClient: boolean, now: number): void {
    this.now = now;
    (fromClient ? this.front : this.back).receive(octets, now);
    this.settle();
  }

  /** What arrives by now, and where. */
  take(now: number): { octets: Uint8Array; toClient: boolean }[] {
    this.now = now;
    if (now >= this.closesAt) [this.closing, this.closesAt] = [true, Infinity];
    if ((this.front.deadline ?? Infinity) <= now) this.front.wake(now);
    if ((this.back.deadline ?? Infinity) <= now) this.back.wake(now);
    const due = this.waiting.filter(({ at }) => at <= now);
    this.waiting = this.waiting.filter(({ at }) => at > now);
    for (const { pdu } of this.quirks.lastFirst ? due.reverse() : due) this.say(pdu);
    this.settle();
    const ready = this.coming.filter(({ at }) => at <= now);
    this.coming = this.coming.filter(({ at }) => at > now);
    return ready;
  }

  /** Says something, or, where that does not fit a message, that it cannot (7.4.3: class resource). */
  say(pdu: Pdu): void {
    const octets = encodePdu(pdu);
    if (pdu.type === 'response' && octets.length > (this.size ?? Infinity)) {
      const { invoke, service, response } = pdu;
      // Names come in parts, whatever else does not.
      const names = service === 'nameList' ? response.names : [];
      if (names.length < 2) return this.say(refusal(invoke, 3, 0));
      const some = { names: names.slice(0, names.length >> 1), more: true };
      return this.say({ type: 'response', invoke, service: 'nameList', response: some });
    }
    this.front.sendEncoded(this.quirks.writes?.(octets) ?? octets);
  }

  private settle(): void {
    for (let busy = true; busy;) {
      busy = false;
      for (const effect of this.front.take()) {
        busy = true;
        this.onFront(effect);
      }
      for (const effect of this.back.take()) {
        busy = true;
        this.onBack(effect);
      }
    }
  }

  private send(octets: Uint8Array, toClient: boolean): void {
    if (!toClient || !this.quirks.dribbles) {
      this.coming.push({ at: this.now + 1, octets, toClient });
      return;
    }
    const last = Math.max(this.now, ...this.coming.filter((one) => one.toClient).map(({ at }) => at));
    // Some octets a millisecond: a message takes long, and a minute is not over before all is said.
    for (let at = 0; at < octets.length; at += 7)
      this.coming.push({ at: last + 1 + at / 7, octets: octets.subarray(at, at + 7), toClient });
  }

  private onFront(effect: AssociationEffect): void {
    switch (effect.type) {
      case 'send':
        return this.send(effect.octets, true);
      case 'asked':
        this.wanted = effect.caller.agreement;
        return this.answerWhenReady();
      case 'pdu':
        if (effect.pdu.type === 'request') this.onRequest(effect.pdu);
        return;
      case 'closed':
        this.closing = true;
        return;
      default:
        return;
    }
  }

  private onBack(effect: AssociationEffect): void {
    switch (effect.type) {
      case 'send':
        return this.send(effect.octets, false);
      case 'open':
        return this.answerWhenReady();
      case 'pdu':
        return this.onAnswer(effect.pdu);
      case 'closed':
        this.closing = true;
        return;
      default:
        return;
    }
  }

  private answerWhenReady(): void {
    const { wanted } = this;
    if (wanted === null || this.back.state !== 'open') return;
    this.wanted = null;
    if (this.refused < (this.quirks.refuses ?? 0)) {
      this.refused++;
      this.front.refuse(1, 'busy');
      return;
    }
    const { agreement } = this.front.settings;
    const size = Math.min(wanted.size ?? Infinity, agreement.size ?? Infinity);
    this.size = Number.isFinite(size) ? size : null;
    this.front.accept({
      ...agreement,
      size: this.size,
      calling: Math.min(wanted.calling, agreement.calling),
      called: Math.min(wanted.called, agreement.called),
    });
  }

  private onRequest(request: Request): void {
    const { quirks } = this;
    this.counts.set(request.service, (this.counts.get(request.service) ?? 0) + 1);
    if (quirks.most !== undefined && this.asked.size >= quirks.most) {
      this.answer(rejection(request.invoke, 0), request);
      return;
    }
    const verdict = quirks.request?.(request) ?? 'on';
    if (verdict === 'lost') return;
    if (verdict !== 'on') return this.answer(verdict.answer, request);
    this.asked.set(request.invoke, request);
    this.back.send(request);
  }

  private onAnswer(pdu: Pdu): void {
    const invoke = 'invoke' in pdu ? pdu.invoke : null;
    const to = invoke === null ? undefined : this.asked.get(invoke);
    if (invoke !== null) this.asked.delete(invoke);
    for (const one of this.quirks.says?.(pdu, to) ?? [pdu]) this.answer(one, to);
  }

  private answer(pdu: Pdu, to: Request | undefined): void {
    const { delayMs, lastFirst } = this.quirks;
    const later = to === undefined ? 0 : (delayMs ?? (lastFirst ? 20 : 0));
    if (later === 0) this.say(pdu);
    else this.waiting.push({ at: this.now + later, pdu });
  }
}

/** Every length in a message in more octets than it needs (ISO/IEC 8825-1, 8.1.3.5 allows it). */
export function longLengths(octets: Uint8Array): Uint8Array {
  const write = (element: Element): number[] => {
    const content = element.children?.flatMap(write) ?? [...contentOf(octets, element)];
    const { length } = content;
    return [...tagOf(octets, element.at), 0x83, (length >> 16) & 255, (length >> 8) & 255, length & 255, ...content];
  };
  return Uint8Array.from(write(parseBer(octets)));
}

/** What has parts in the indefinite form (8.1.3.6). */
export function indefinite(octets: Uint8Array): Uint8Array {
  const write = (element: Element): number[] =>
    element.children === null
      ? [...octets.subarray(element.at, element.end)]
      : [...tagOf(octets, element.at), 0x80, ...element.children.flatMap(write), 0, 0];
  return Uint8Array.from(write(parseBer(octets)));
}

/** The octets of a tag. */
function tagOf(octets: Uint8Array, start: number): Uint8Array {
  let at = start + 1;
  if ((octets[start] & 0x1f) === 0x1f) while ((octets[at++] & 0x80) !== 0);
  return octets.subarray(start, at);
}
