import type { Instant } from '../../session/index.ts';
import { Association, type AssociationSettings } from './association.ts';
import type { Keeping } from './messagelog.ts';
import { isForClient, type Speaking } from './within.ts';
import {
  encodePdu,
  errorWords,
  type Negotiated,
  type ConfirmedRequest,
  type Pdu,
  type ServiceError,
} from './wire/pdu.ts';
import type { AccessResult } from './wire/data.ts';
import type { ServiceName, Services, Variables } from './wire/services.ts';

/*
 * The asking end of MMS over one association.
 *
 * Rules:
 *  1. As many requests are under way as were agreed on; the others wait in their order, the urgent ones in front.
 *  2. Each request ends once: with its response, an error, a reject, no answer in time, or the loss of the association.
 *     Nothing is asked again by itself.
 *  3. Answers and what is told unasked come in the order in which the server sent them.
 *  4. After `MAX_UNANSWERED` requests in a row without an answer the association is given up.
 */

export interface MmsClientSettings extends AssociationSettings {
  responseTimeoutMs: number;
}

/** What came of a request; `lost`: nobody knows whether it was carried out. */
export type Answer<Name extends ServiceName> =
  | { ok: true; response: Services[Name]['response'] }
  | { ok: false; words: string; error: ServiceError | null; lost: boolean };

export type MmsClientEffect =
  | { type: 'send'; octets: Uint8Array }
  | { type: 'open'; agreement: Negotiated }
  /** Something came that is not well-formed, or that nobody asked for. */
  | { type: 'odd'; words: string }
  | { type: 'closed'; words: string; byUs: boolean };

/** What a server tells unasked; its octets are those of the message. */
export interface Told {
  variables: Variables;
  results: readonly AccessResult[];
  octets: Uint8Array;
}

interface Asked {
  service: ServiceName;
  request: unknown;
  done: (answer: Answer<ServiceName>, now: Instant, octets: Uint8Array | null) => void;
  deadline: Instant;
}

const MAX_UNANSWERED = 3;
/** Requests that wait at most; whoever asks more has a mistake in it. */
const MAX_WAITING = 10_000;
const MAX_INVOKE = 0x7fff_ffff;

/** Reasons of a reject of a confirmed request (ISO 9506-2, 7.4.4). */
const REJECTS: Record<number, string> = {
  0: 'rejected there',
  1: 'the service is not known there',
  2: 'a modifier is not known there',
  3: 'the number of the request is not valid there',
  4: 'an argument is not valid there',
  5: 'a modifier is not valid there',
  6: 'more requests at once than agreed on',
  8: 'longer than agreed on',
  9: 'deeper than agreed on',
  10: 'a value is out of range',
};

/** More requests at once than the server takes. */
const TOO_MANY = 6;

export class MmsClient {
  /** Keeps the last messages for those who look; null: nobody does. */
  log: Keeping | null = null;
  /** Takes what is not for a client; null: nobody does. */
  guest: ((octets: Uint8Array) => void) | null = null;
  private effects: MmsClientEffect[] = [];
  private readonly underWay = new Map<number, Asked>();
  private waiting: Asked[] = [];
  private invoke = 0;
  private unanswered = 0;
  /** Requests that the server takes at once, as far as that showed. */
  private mostAtOnce = Infinity;
  /** What was agreed on; null: there is no association. */
  agreement: Negotiated | null = null;
  readonly counts = { requests: 0, responses: 0, errors: 0, timeouts: 0, reports: 0, odd: 0 };

  constructor(
    private readonly settings: MmsClientSettings,
    /** Called among the answers, in the order in which they come: what is told may explain the answer behind it. */
    private readonly told: (told: Told, now: Instant) => void,
    private readonly association: Speaking = new Association(settings, 'calling'),
  ) {}

  get isOpen(): boolean {
    return this.association.state === 'open';
  }

  /** Nothing is asked. */
  get atRest(): boolean {
    return this.underWay.size + this.waiting.length === 0;
  }

  get deadline(): Instant | null {
    let earliest = this.association.deadline ?? Infinity;
    for (const { deadline } of this.underWay.values()) earliest = Math.min(earliest, deadline);
    return earliest === Infinity ? null : earliest;
  }

  start(now: Instant): void {
    this.association.start(now);
    this.work(now);
  }

  receive(bytes: Uint8Array, now: Instant): void {
    this.association.receive(bytes, now);
    this.work(now);
  }

  wake(now: Instant): void {
    this.association.wake(now);
    for (const [invoke, asked] of [...this.underWay]) {
      if (now < asked.deadline) continue;
      this.underWay.delete(invoke);
      this.counts.timeouts++;
      this.unanswered++;
      const words = `no answer in ${this.settings.responseTimeoutMs} ms`;
      asked.done({ ok: false, words, error: null, lost: true }, now, null);
    }
    if (this.unanswered >= MAX_UNANSWERED && this.isOpen)
      this.association.abort(`no answer to ${this.unanswered} requests`);
    this.work(now);
  }

  conclude(now: Instant): void {
    this.association.conclude(now);
    this.work(now);
  }

  abort(words: string, now: Instant): void {
    this.association.abort(words);
    this.work(now);
  }

  /** The connection is gone. */
  lost(now: Instant): void {
    this.agreement = null;
    this.failAll('the connection was lost', now);
  }

  /** `urgent`: before those that wait. */
  ask<Name extends ServiceName>(
    service: Name,
    request: Services[Name]['request'],
    done: (answer: Answer<Name>, now: Instant, octets: Uint8Array | null) => void,
    now: Instant,
    urgent = false,
  ): void {
    const asked = { service, request, done: done as Asked['done'], deadline: Infinity };
    const hindrance = !this.isOpen
      ? 'there is no association'
      : this.waiting.length >= MAX_WAITING
        ? `${MAX_WAITING} requests wait already`
        : null;
    if (hindrance !== null) {
      asked.done({ ok: false, words: `${hindrance}; nothing was sent`, error: null, lost: false }, now, null);
      return;
    }
    if (urgent) this.waiting.unshift(asked);
    else this.waiting.push(asked);
    this.work(now);
  }

  /** Tells the server something without being asked, and without an answer. */
  tell(variables: Variables, results: readonly AccessResult[], now: Instant): void {
    if (!this.isOpen) return;
    this.say(encodePdu({ type: 'report', variables, results }), now);
    this.work(now);
  }

  /** Sends a message of whoever is a guest here. */
  pass(octets: Uint8Array, now: Instant): void {
    if (!this.isOpen) return;
    this.say(octets, now);
    this.work(now);
  }

  private say(octets: Uint8Array, now: Instant): void {
    this.log?.add(true, octets, now);
    this.association.sendEncoded(octets);
  }

  take(): MmsClientEffect[] {
    const { effects } = this;
    this.effects = [];
    return effects;
  }

  // ---- what happens

  private work(now: Instant): void {
    this.collect(now);
    const { calling = 1, called = 1 } = this.agreement ?? {};
    // Servers mean either by what they take at once.
    const most = Math.max(1, Math.min(calling, called, this.mostAtOnce));
    while (this.isOpen && this.underWay.size < most) {
      const asked = this.waiting.shift();
      if (asked === undefined) break;
      do this.invoke = (this.invoke + 1) & MAX_INVOKE;
      while (this.underWay.has(this.invoke));
      asked.deadline = now + this.settings.responseTimeoutMs;
      const { service, request } = asked;
      const confirmed = { service, request } as ConfirmedRequest;
      const octets = encodePdu({ type: 'request', invoke: this.invoke, ...confirmed });
      if (octets.length > (this.agreement?.size ?? Infinity)) {
        asked.done(
          failed(`the request has ${octets.length} octets, more than agreed on; nothing was sent`, null),
          now,
          null,
        );
        continue;
      }
      this.underWay.set(this.invoke, asked);
      this.counts.requests++;
      this.say(octets, now);
    }
    this.collect(now);
  }

  private collect(now: Instant): void {
    for (const effect of this.association.take()) {
      switch (effect.type) {
        case 'send':
          this.effects.push(effect);
          break;
        case 'open':
          this.agreement = effect.agreement;
          this.effects.push(effect);
          break;
        case 'pdu':
          this.onPdu(effect.pdu, effect.octets, now);
          break;
        case 'malformed':
          this.log?.add(false, effect.octets, now);
          this.odd(effect.words);
          break;
        case 'closed':
          this.agreement = null;
          this.effects.push(effect);
          this.failAll(effect.words, now);
          break;
        case 'asked':
          break;
        default:
          effect satisfies never;
      }
    }
  }

  private odd(words: string): void {
    this.counts.odd++;
    this.effects.push({ type: 'odd', words });
  }

  private onPdu(pdu: Pdu, octets: Uint8Array, now: Instant): void {
    this.log?.add(false, octets, now);
    if (this.guest !== null && isForClient(pdu) === false) return this.guest(octets);
    switch (pdu.type) {
      case 'report':
        this.counts.reports++;
        this.told({ variables: pdu.variables, results: pdu.results, octets }, now);
        return;
      case 'response': {
        const asked = this.settled(pdu.invoke);
        if (asked === null) return;
        this.counts.responses++;
        if (asked.service === pdu.service) asked.done({ ok: true, response: pdu.response }, now, octets);
        else asked.done(failed(`a response of another service, ${pdu.service}`, null), now, octets);
        return;
      }
      case 'error': {
        this.counts.errors++;
        this.settled(pdu.invoke)?.done(failed(errorWords(pdu.error), pdu.error), now, octets);
        return;
      }
      case 'reject': {
        this.counts.errors++;
        const words =
          pdu.kind === 1 ? (REJECTS[pdu.code] ?? `rejected (${pdu.code})`) : `rejected (${pdu.kind}.${pdu.code})`;
        const asked = pdu.invoke === null ? null : this.settled(pdu.invoke);
        if (asked !== null && pdu.kind === 1 && pdu.code === TOO_MANY && this.underWay.size > 0) {
          // It was not looked at: it is asked again when there is room.
          this.mostAtOnce = this.underWay.size;
          this.waiting.unshift(asked);
        } else if (asked !== null) asked.done(failed(words, null), now, octets);
        else if (pdu.invoke === null) this.odd(words);
        return;
      }
      case 'request':
      case 'unknownRequest':
        // Nobody asks us: we have nothing to give.
        this.association.send({ type: 'reject', invoke: pdu.invoke, kind: 1, code: 1 });
        this.odd('a request to us, who have nothing to give');
        return;
      default:
        this.odd(`a message ${pdu.type} that nobody asked for`);
    }
  }

  /** The request of that number, which is under way no more; null: there is none, it came too late. */
  private settled(invoke: number): Asked | null {
    const asked = this.underWay.get(invoke);
    this.unanswered = 0;
    if (asked === undefined) {
      this.odd(`an answer to request ${invoke}, which is not under way`);
      return null;
    }
    this.underWay.delete(invoke);
    return asked;
  }

  private failAll(words: string, now: Instant): void {
    const [sent, waiting] = [[...this.underWay.values()], this.waiting];
    this.underWay.clear();
    this.waiting = [];
    this.unanswered = 0;
    for (const { done } of sent) done({ ok: false, words, error: null, lost: true }, now, null);
    for (const { done } of waiting)
      done({ ok: false, words: `${words}; nothing was sent`, error: null, lost: false }, now, null);
  }
}

const failed = (words: string, error: ServiceError | null): Answer<ServiceName> => {
  return { ok: false, words, error, lost: false };
};
